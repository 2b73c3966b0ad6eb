"""Small cards for tests: laid out by our own code, filled from plain dictionaries."""

from __future__ import annotations

import random
from hashlib import blake2b

from mosscrate.core.blocks import Blocks, MemoryBlocks, Window
from mosscrate.core.maps import Partition, mbr
from mosscrate.core.slots.simulated import CardFile, write_card
from mosscrate.core.volumes import Kind, Seat, Traits, open_volume
from mosscrate.core.volumes.fat.editing import FatEditor
from mosscrate.core.volumes.fat.making import make, plan_geometry
from mosscrate.core.volumes.fat.structures import FatType

MIB = 1 << 20
WHEN = 1_700_000_000
TYPES = {FatType.FAT12: "0x01", FatType.FAT16: "0x06", FatType.FAT32: "0x0b"}


def some_files(seed: int, count: int = 40, largest: int = 9000) -> dict[str, bytes | None]:
    """Paths to bytes, None for a folder: nested, long, accented and 8.3 names, empty files."""
    rnd = random.Random(seed)
    files: dict[str, bytes | None] = {"roms": None, "roms/gb": None, "Ein längerer Ordner": None, "EMPTY": None}
    for number in range(count):
        folder = rnd.choice(["", "roms/", "roms/gb/", "Ein längerer Ordner/"])
        name = rnd.choice([f"FILE{number}.BIN", f"A rather long game name {number} (rev 2).gb", f"übung-{number}.sav"])
        files[folder + name] = rnd.randbytes(rnd.choice([0, 1, 511, 512, 4096, rnd.randrange(largest)]))
    return files


def fill(blocks: Blocks, files: dict[str, bytes | None]) -> None:
    """Put files onto a volume."""
    editor = FatEditor(blocks)
    for path, data in files.items():
        if data is None:
            editor.add_folder(path, Traits(WHEN))
        else:
            editor.add_file(path, data, Traits(WHEN))
    editor.commit()


def make_volume(blocks: Blocks, type: FatType, *, cluster: int | None = None, label: str = "GAMES",
                files: dict[str, bytes | None] | None = None, hidden: int = 0) -> None:
    """Format and fill."""
    make(blocks, plan_geometry(blocks.size, type, cluster=cluster), label=label, volume_id=0x12345678,
         seat=Seat(hidden))
    fill(blocks, files or {})


def contents(blocks: Blocks) -> dict[str, tuple[str, int | None]]:
    """Paths to digests (folders: "") and times, as our reader finds them."""
    volume = open_volume(blocks)
    return {e.path: ("" if e.kind == Kind.FOLDER else blake2b(b"".join(volume.read_file(e))).hexdigest(), e.modified)
            for e in volume.tree().entries}


def expected(files: dict[str, bytes | None]) -> dict[str, tuple[str, int | None]]:
    """The same from the dictionary that was put in."""
    return {p: ("" if d is None else blake2b(d).hexdigest(), WHEN) for p, d in files.items()}


def lay_out(blocks: Blocks, parts: list[tuple[int, int, FatType, str, dict[str, bytes | None]]],
            disk_signature: int = 0xCAFE0001) -> None:
    """An MBR and its volumes: (start, length, type, label, files) in bytes; the first is active."""
    table = tuple(Partition(k, start, length, TYPES[type], flags=("active",) if k == 1 else ())
                  for k, (start, length, type, _, _) in enumerate(parts, start=1))
    blocks.write(0, mbr.build(table, disk_signature=disk_signature, boot_code=b"\xfa\x33\xc0 boot code of a handheld"))
    for start, length, type, label, files in parts:
        make_volume(Window(blocks, start, length), type, label=label, files=files, hidden=start // 512)


def handheld(size: int = 40 * MIB, *, tail: int = 0, seed: int = 1) -> MemoryBlocks:
    """A card with a FAT16 firmware partition and a FAT32 games partition that ends `tail` bytes early."""
    blocks = MemoryBlocks(bytes(size))
    lay_out(blocks, [(MIB, 5 * MIB, FatType.FAT16, "PEAT", {"zImage": b"kernel" * 900, "panel.dtb": b"tree" * 300}),
                     (6 * MIB, size - 6 * MIB - tail, FatType.FAT32, "GAMES", some_files(seed))])
    return blocks


def put_card(bench, stem: str, size: int, data: bytes | bytearray = b"", **about) -> None:
    """A card in a simulated slot of a bench."""
    folder = bench.shelf.simulated_folder
    about.setdefault("serial", f"0x{stem}")
    write_card(folder / f"{stem}.toml", CardFile(name=about.pop("name", stem.title()), size=size, model="SD", **about))
    with (folder / f"{stem}.img").open("wb") as file:
        file.write(data)
        file.truncate(size)
