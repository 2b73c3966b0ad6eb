"""Volumes of every kind for tests: made by our own code, described by a plain model."""

from __future__ import annotations

import random
from dataclasses import dataclass, field

from mosscrate.core.blocks import Blocks, MemoryBlocks
from mosscrate.core.errors import FitError
from mosscrate.core.volumes import Kind, Making, Traits, edit, format_for, open_volume

MIB = 1 << 20
WHEN = 1_600_000_000
ROOM = {"fat12": 2 * MIB, "fat16": 9 * MIB, "fat32": 36 * MIB, "exfat": 8 * MIB, "ext2": 8 * MIB, "ext3": 12 * MIB,
        "ext4": 12 * MIB, "ofs": 2 * MIB, "ffs": 2 * MIB, "ofs-intl": 2 * MIB, "ffs-intl": 3 * MIB,
        "ofs-cache": 2 * MIB, "ffs-cache": 2 * MIB, "ofs-long": 2 * MIB, "ffs-long": 2 * MIB}
KINDS = tuple(ROOM)
TIGHT = {"fat12": MIB // 2, "fat16": 5 * MIB, "fat32": 34 * MIB, "exfat": 5 * MIB // 4, "ext2": 3 * MIB // 4,
         "ext3": 3 * MIB, "ext4": 3 * MIB, "ofs": 901120, "ffs": 901120, "ofs-intl": 901120, "ffs-intl": 901120,
         "ofs-cache": 901120, "ffs-cache": 901120, "ofs-long": 901120, "ffs-long": 901120}
IGNORED = {"lost+found"}
NAMES = ("A.BIN", "spiel nr {}.gb", "Übung {} with a rather long name (rev 2).sav", "x{}", "Save {}.srm")


def fresh(kind: str, size: int | None = None, *, block: int | None = None) -> MemoryBlocks:
    """A volume in memory."""
    blocks = MemoryBlocks(bytes(size or ROOM[kind]))
    default = 512 if kind.startswith(("fat", "ofs", "ffs")) else None if kind == "gemdos" else 1024
    format_for(kind).make(blocks, Making(kind, "GAMES", block or default, made=WHEN))
    return blocks


def tree(blocks: Blocks) -> dict[str, tuple[str, bytes | str | None, int | None]]:
    """path: (kind, bytes or target, time) as our reader finds them; folders have no time here."""
    volume = open_volume(blocks)
    found = volume.tree()
    assert found.findings == ()
    return {e.path: (str(e.kind), b"".join(volume.read_file(e)) if e.kind == Kind.FILE else e.target,
                     e.modified if e.kind == Kind.FILE else None)
            for e in found.entries if e.path not in IGNORED}


@dataclass
class Model:
    """What a volume should hold, as a plain dictionary: None is a folder, a str a link."""

    kind: str
    entries: dict[str, bytes | str | None] = field(default_factory=dict)
    times: dict[str, int] = field(default_factory=dict)

    def tree(self) -> dict[str, tuple[str, bytes | str | None, int | None]]:
        kinds = {bytes: "file", str: "link", type(None): "folder"}
        return {path: (kinds[type(value)], value, self.times.get(path)) for path, value in self.entries.items()}

    def below(self, path: str) -> list[str]:
        return [p for p in self.entries if p == path or p.startswith(path + "/")]

    def step(self, editor, rnd: random.Random) -> None:
        """One random operation on both; what the volume refuses the model leaves out."""
        folders = ["", *(p for p, v in self.entries.items() if v is None)]
        action = rnd.choice(("file", "file", "file", "folder", "link", "remove", "rename", "replace"))
        name = rnd.choice(NAMES)
        parent = rnd.choice(folders)
        path = f"{parent}/{name.format(rnd.randrange(60))}".lstrip("/")
        is_taken = any(p.lower() == path.lower() for p in self.entries)
        try:
            if action == "file" and not is_taken:
                self._put(editor, path, rnd)
            elif action == "folder" and not is_taken and path.count("/") < 4:
                editor.add_folder(path, Traits(WHEN))
                self.entries[path] = None
            elif action == "link" and self.kind.startswith("ext") and not is_taken:
                target = "t" * rnd.choice((3, 59, 60, 200))
                editor.add_link(path, target, Traits(WHEN))
                self.entries[path] = target
            elif action in ("remove", "replace") and self.entries:
                old = rnd.choice(list(self.entries))
                if action == "remove":
                    editor.remove(old)
                    for p in self.below(old):
                        self.entries.pop(p), self.times.pop(p, None)
                elif isinstance(self.entries[old], bytes):
                    editor.remove(old)
                    self.entries.pop(old), self.times.pop(old)
                    self._put(editor, old, rnd)
            elif action == "rename" and self.entries and not is_taken:
                old = rnd.choice(list(self.entries))
                if not f"{path}/".startswith(old + "/"):
                    editor.rename(old, path)
                    for p in self.below(old):
                        self.entries[path + p[len(old):]] = self.entries.pop(p)
                        if p in self.times:
                            self.times[path + p[len(old):]] = self.times.pop(p)
        except FitError as error:
            if not any(word in str(error) for word in ("no room", "full", "no free inode", "longer than 30")):
                raise

    def _put(self, editor, path: str, rnd: random.Random) -> None:
        data = rnd.randbytes(rnd.choice((0, 1, 511, 512, 1024, 4097, rnd.randrange(40_000))))
        when = WHEN + 2 * rnd.randrange(100_000)
        if rnd.random() < 0.3:
            pieces = [data[k:k + 1000] for k in range(0, len(data), 1000)]
            editor.add_file(path, iter(pieces), Traits(when), size=len(data))
        else:
            editor.add_file(path, data, Traits(when))
        self.entries[path], self.times[path] = data, when


def worked_on(kind: str, seed: int, *, operations: int = 200, size: int | None = None,
              block: int | None = None) -> tuple[MemoryBlocks, Model]:
    """A volume after random operations in a few sittings, and its model."""
    rnd, blocks, model = random.Random(seed), fresh(kind, size, block=block), Model(kind)
    for _ in range(operations // 50):
        editor = edit(blocks)
        for _ in range(50):
            model.step(editor, rnd)
        editor.commit()
    return blocks, model
