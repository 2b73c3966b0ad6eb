"""Made-up computers: their drives and what is done with them, as the kernel's trees and the service tell it.

A computer is told in lines:

    fixed|usb|reader|sd NAME [PART ...]     a disk inside, on USB, a card in a reader, a card in a slot of the board
    loop NAME FILE                          a loop device over a file
    mapped NAME [as OTHER] on NAME ...      a device that stands on others
    zram NAME [on NAME]                     compressed memory, with a device that takes what does not fit
    together NAME ...                       one file system over several devices
    mount NAME PLACE                        as the table of mounts has it; `mount NAME PLACE without number` where the
                                            file system has a number of its own, `hidden` in another namespace
    swap NAME|/FILE
    fact NAME FILE TEXT ...                 one more file in the folder of a device
    told mount NAME PLACE | told swap NAME | told NAME on NAME ...      what only the service says
"""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

from mosscrate.core.slots.kernel_tree import Tree
from mosscrate.core.slots.service import Attached, Drive, View
from mosscrate.core.slots.uses import System

SECTORS = 8192
UNDER = {"fixed": "pci0/ata1", "usb": "pci0/usb1", "reader": "pci0/usb1", "sd": "mmc0"}


class Computer:
    """Built line by line below a folder."""

    def __init__(self, root: Path, lines: str) -> None:
        self.tree = Tree(root / "sys", root / "proc", root / "dev")
        self.numbers: dict[str, str] = {}
        self.told: dict[str, Attached] = {}
        self.drives: dict[str, Drive] = {}
        self._mounts: dict[str, list[str]] = {"self": []}
        self._swaps = ["Filename Type Size Used Priority"]
        for line in filter(None, map(str.strip, lines.splitlines())):
            word, *rest = line.split()
            getattr(self, f"_{word}")(word, rest) if hasattr(self, f"_{word}") else self._disk(word, rest)
        for process, table in self._mounts.items():
            _write(self.tree.proc / process / "mountinfo", "\n".join(table))
            (self.tree.proc / process / "ns").mkdir()
            (self.tree.proc / process / "ns/mnt").symlink_to(f"mnt:[{process}]")
        _write(self.tree.proc / "swaps", "\n".join(self._swaps))

    @property
    def system(self) -> System:
        """As both views tell it."""
        return System(self.tree, View(self.drives, tuple(self.told.values())))

    def _disk(self, kind: str, rest: list[str]) -> Path:
        name, *parts = rest
        folder = self._device(name, UNDER[kind])
        _write(folder / "removable", "1" if kind == "reader" else "0")
        _write(folder / "device/type", "SD" if kind == "sd" else "0")
        for place, part in enumerate(parts):
            self._number(part)
            _write(folder / part / "partition", str(place + 1))
            _write(folder / part / "dev", self.numbers[part])
            _write(folder / part / "start", str(place * 1000 + 8))
            _write(folder / part / "size", "1000")
            (self.tree.sys / "dev/block" / self.numbers[part]).symlink_to(folder / part)
        return folder

    def _loop(self, _: str, rest: list[str]) -> None:
        _write(self._device(rest[0], "virtual") / "loop/backing_file", rest[1])

    def _mapped(self, _: str, rest: list[str]) -> None:
        names, below = rest[:rest.index("on")], rest[rest.index("on") + 1:]
        folder = self._device(names[0], "virtual")
        if len(names) == 3:
            _write(folder / "dm/name", names[2])
        for name in below:
            (folder / "slaves").mkdir(exist_ok=True)
            (folder / "slaves" / name).symlink_to(self._folder(name))
            (self._folder(name) / "holders").mkdir(exist_ok=True)
            (self._folder(name) / "holders" / names[0]).symlink_to(folder)

    def _zram(self, _: str, rest: list[str]) -> None:
        folder = self._device(rest[0], "virtual")
        _write(folder / "backing_dev", f"/dev/{rest[2]}" if len(rest) == 3 else "none")

    def _together(self, _: str, rest: list[str]) -> None:
        for name in rest:
            _write(self.tree.sys / "fs/btrfs" / "-".join(rest) / "devices" / name, "")

    def _mount(self, _: str, rest: list[str]) -> None:
        name, place, *how = rest
        number = "0:77" if "without" in how else self.numbers.get(name, "0:5")
        source = f"/dev/mapper/{name}" if name not in self.numbers else f"/dev/{name}"
        where = self._mounts.setdefault("431", []) if "hidden" in how else self._mounts["self"]
        where.append(f"21 1 {number} / {place} rw,relatime shared:1 - ext4 {source} rw")

    def _swap(self, _: str, rest: list[str]) -> None:
        self._swaps.append(f"{rest[0] if rest[0].startswith('/') else '/dev/' + rest[0]} partition 100 0 -2")

    def _fact(self, _: str, rest: list[str]) -> None:
        _write(self._folder(rest[0]) / rest[1], " ".join(rest[2:]))

    def _told(self, _: str, rest: list[str]) -> None:
        if rest[0] == "mount":
            self.tell(rest[1], mounts=(*self._attached(rest[1]).mounts, rest[2]))
        elif rest[0] == "swap":
            self.tell(rest[1], is_swap=True)
        else:
            self.tell(rest[0], below=tuple(self._attached(name).address for name in rest[2:]))

    def tell(self, name: str, **more: object) -> Attached:
        """Let the service say more of a device."""
        self.told[name] = replace(self._attached(name), **more)
        return self.told[name]

    def _attached(self, name: str) -> Attached:
        return self.told.setdefault(name, Attached(f"/block/{name}", self.tree.dev / name, self.numbers[name], 512))

    def _device(self, name: str, under: str) -> Path:
        folder = self.tree.sys / "devices" / under / name
        self._number(name)
        _write(folder / "size", str(SECTORS))
        _write(folder / "dev", self.numbers[name])
        _write(folder / "ro", "0")
        for link in (self.tree.sys / "block" / name, self.tree.sys / "dev/block" / self.numbers[name]):
            link.parent.mkdir(parents=True, exist_ok=True)
            link.symlink_to(folder)
        return folder

    def _number(self, name: str) -> None:
        self.numbers[name] = f"{8 + len(self.numbers) // 100}:{len(self.numbers) % 100}"

    def _folder(self, name: str) -> Path:
        return (self.tree.sys / "dev/block" / self.numbers[name]).resolve()


def _write(path: Path, text: str) -> None:
    path.parent.mkdir(parents=True, exist_ok=True)
    path.write_text(text + "\n")
