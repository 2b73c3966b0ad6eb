"""The cards of Heron Lane, a small repair room: what is on each, and what is kept of them."""

from __future__ import annotations

import random
import shutil
from collections.abc import Iterable
from dataclasses import dataclass, replace
from datetime import UTC, datetime
from pathlib import Path
from uuid import UUID

import msgspec
import numpy as np

from mosscrate.core.blocks import Blocks, Window, create_image, open_blocks
from mosscrate.core.blocks.faulty import Bad, Faults, Fold, Slow, Speed
from mosscrate.core.contents.survey import open_partition
from mosscrate.core.crate import Crate
from mosscrate.core.maps import MapKind, apple, edits, write_map
from mosscrate.core.maps.mbr import geometry_of
from mosscrate.core.sheet.bench import Bench, card_of, standard_bench
from mosscrate.core.slots import Shelf
from mosscrate.core.slots.simulated import CardFile, read_card, write_card
from mosscrate.core.volumes import Kind, Making, Seat, Traits, edit, format_for
from mosscrate.core.watch import Watch
from mosscrate.demo import contents
from mosscrate.demo.contents import DAY, MadeFile
from mosscrate.demo.hfs import make_hfs

MIB, GIB = 1 << 20, 1 << 30
TODAY = int(datetime(2026, 11, 24, 9, 0, tzinfo=UTC).timestamp())
APPLE_START = 96                    # sectors in front of the volume behind an Apple map
VERSION = "8"                       # of the bench; another one is built anew


@dataclass(frozen=True)
class Part:
    """One partition to lay out; sizes in bytes."""

    start: int
    length: int
    kind: str
    label: str
    files: Iterable[MadeFile]
    flags: tuple[str, ...] = ()
    cluster: int | None = None
    is_logical: bool = False
    alignment: int = MIB


def bench_at(folder: Path) -> Bench:
    """The demo bench below a folder, built when it is not there yet."""
    stamp = folder / "built"
    if not stamp.exists() or stamp.read_text() != VERSION:
        shutil.rmtree(folder, ignore_errors=True)
        build(folder)
        stamp.write_text(VERSION)
    return _bench(folder)


def build(folder: Path) -> None:
    """Lay out every card, and keep some of them at dates in the past."""
    slots = folder / "slots"
    slots.mkdir(parents=True)
    bench = _bench(folder)
    for order, (stem, card) in enumerate(_cards().items()):
        write_card(slots / f"{stem}.toml", msgspec.structs.replace(card, order=order))
        create_image(slots / f"{stem}.img", card.size).close()
    _lay_out(slots / "pipkin.img", 0x50495031, _pipkin(share=0.5))
    _keep(bench, "pipkin", 162)
    _add(slots / "pipkin.img", 2, contents.games(900, TODAY - 120 * DAY, share=0.04))
    _keep(bench, "pipkin", 96)
    _add(slots / "pipkin.img", 2, contents.games(950, TODAY - 40 * DAY, share=0.05))
    _keep(bench, "pipkin", 12)
    _add(slots / "pipkin.img", 2, [MadeFile(f"saves/nes-{t}.sav", t.encode() * 800, TODAY - 2 * DAY)
                                   for t in contents.titles(77, 12)])
    _lay_out(slots / "spare.img", 0x50495032, _spare())
    _keep(bench, "spare", 131)
    _add(slots / "spare.img", 2, [MadeFile(f"gb-{t}.sav", t.encode() * 900, TODAY - 9 * DAY)
                                  for t in contents.titles(78, 37)])
    _lay_out(slots / "organ.img", 0x4F524741, [Part(32256, 60 * MIB, "fat16", "ORGAN",
                                                    contents.organ(TODAY - 4000 * DAY), ("active",))])
    _keep(bench, "organ", 108)
    _lay_out(slots / "wide.img", 0x50495033, _wide(), MapKind.GPT)
    _lay_out(slots / "lantern.img", 0x4C414E54, _lantern())
    _keep(bench, "lantern", 35)
    _lay_out(slots / "tarn.img", 0x5441524E, _tarn(), MapKind.RDB)
    _keep(bench, "tarn", 70)
    _keep(bench, "tarn", 19)
    _lay_out(slots / "corvid.img", 0x434F5256, _corvid(), MapKind.AHDI)
    _keep(bench, "corvid", 44)
    _lay_out(slots / "bargain.img", 0x42415247, [
        Part(4 * MIB, 7500 * MIB, "fat32", "GAMES", contents.games(91, TODAY - 5 * DAY, share=0.08))])
    _lay_out(slots / "worn.img", 0x50495034, [
        Part(4 * MIB, 64 * MIB, "fat16", "PEAT", contents.firmware(7, TODAY - 700 * DAY, version="2.1"), ("active",)),
        Part(68 * MIB, 880 * MIB, "fat32", "GAMES", [
            *contents.games(93, TODAY - 600 * DAY, share=0.2),
            *(MadeFile(f"saves/gb-{t}.sav", t.encode() * 900, TODAY - 30 * DAY) for t in contents.titles(94, 30))])])
    _wear(slots / "worn")
    _desk(slots / "desk.img")
    _cabinet(slots / "cabinet.img")


def _wear(stem: Path) -> None:
    """Bad places where some files lie, slow ones around them."""
    with open_blocks(stem.with_suffix(".img")) as blocks:
        volume, start = open_partition(blocks, 2), 68 * MIB
        files = [e for e in volume.tree().entries if e.kind == Kind.FILE]
        places = [start + volume.extents_of(files[k])[0].start for k in (len(files) // 3, len(files) - 4)]
    bad = (*(Bad(at, 4096, seconds=1.2) for at in places), Bad(800 * MIB, 8192, seconds=1.2))
    slow = (*_worn_stretches(6), *(Slow(at - 3 * MIB, 6 * MIB, 4.0) for at in places))
    card = read_card(stem.with_suffix(".toml"))
    card.faults = Faults(bad=bad, slow=slow, speed=Speed(19.2e6, 7.4e6))
    write_card(stem.with_suffix(".toml"), card)


def _bench(folder: Path) -> Bench:
    bench = standard_bench(slots=folder / "slots", crate=folder / "crate", state=folder / "state")
    return replace(bench, shelf=Shelf(folder / "slots", backups=folder / "crate"))


def _cards() -> dict[str, CardFile]:
    return {
        "pipkin": CardFile("Pipkin bench card", 2_002_780_160, "SD 2G", "0x1f00a2c1", "left reader"),
        "blank": CardFile("New 8 GB card", 7_969_177_600, "SD 8G", "0x77c3b0e4", "right reader"),
        "spare": CardFile("Pipkin owner’s spare", 3_965_190_144, "SD 4G", "0x1f00b77d", "drawer slot 1"),
        "wide": CardFile("Pipkin wide card", 63_864_569_856, "SD 64G", "0x1f00c904", "drawer slot 5"),
        "organ": CardFile("Organ sequencer CF", 64_225_280, "CF 64", "OSQ-0417", "CF adapter"),
        "lantern": CardFile("Lantern PC, C D E", 1_048_576_000, "CF 1G", "LPC-2231", "drawer slot 2"),
        "tarn": CardFile("Tarn 68 drive", 2_147_483_648 // 4, "CF 512", "T68-0009", "drawer slot 3"),
        "corvid": CardFile("Corvid 8 drive", 256_901_120, "CF 256", "C8-1142", "drawer slot 6"),
        "desk": CardFile("Studio desk drive", 31_457_280, "SCSI 30", "SD-0032", "drawer slot 7"),
        "cabinet": CardFile("Cabinet no. 4", 528_482_304, "IDE adapter", "CAB4", "drawer slot 4",
                            write_protected=True),
        "bargain": CardFile("Bargain 8 GB card", 7_969_177_600, "SD 8G", "0x00000001", "drawer slot 8",
                            faults=Faults(fold=Fold(960 * MIB), speed=Speed(17.5e6, 6.1e6), slow=_worn_stretches(4))),
        "worn": CardFile("Pipkin worn card", 1_002_438_656, "SD 1G", "0x1f009d10", "drawer slot 9")}


def _worn_stretches(seed: int) -> tuple[Slow, ...]:
    """Reading is never quite even; one stretch is much slower than the rest."""
    rnd = random.Random(seed)
    uneven = tuple(Slow(k * 8 * MIB, 8 * MIB, 1 + rnd.random() ** 3) for k in range(120))
    return (*uneven, Slow(520 * MIB, 40 * MIB, 5.0))


def _pipkin(share: float) -> list[Part]:
    return [Part(4 * MIB, 64 * MIB, "fat16", "PEAT", contents.firmware(3, TODAY - 300 * DAY, version="3.1"),
                 ("active",)),
            Part(68 * MIB, 1840 * MIB, "fat32", "GAMES",
                 [*contents.games(11, TODAY - 200 * DAY, share=share),
                  *contents.discs(12, TODAY - 200 * DAY, (310, 280, 245, 190))])]


def _spare() -> list[Part]:
    return [Part(4 * MIB, 64 * MIB, "fat16", "PEAT", contents.firmware(4, TODAY - 400 * DAY, version="2.8"),
                 ("active",)),
            Part(68 * MIB, 128 * MIB, "ext4", "STATE",
                 [MadeFile(f"gb-{t}.sav", t.encode() * 700, TODAY - 200 * DAY) for t in contents.titles(5, 60)]),
            Part(196 * MIB, 1200 * MIB, "fat32", "GAMES",
                 [*contents.games(31, TODAY - 380 * DAY, share=0.2),
                  *contents.discs(32, TODAY - 380 * DAY, (420, 366))])]


def _lantern() -> list[Part]:
    track, when = 63 * 512, TODAY - 9000 * DAY
    starts = (track, 401 * MIB // track * track, 701 * MIB // track * track)
    lengths = tuple((end - start) // track * track - track for start, end in zip(
        starts, (400 * MIB, 700 * MIB, 950 * MIB), strict=True))
    files = (contents.lantern(when), contents.organ(when), ())
    return [Part(start, length, "fat16", label, made, ("active",) if label == "LANTERN_C" else (), None,
                 label != "LANTERN_C", track)
            for start, length, label, made in zip(starts, lengths, ("LANTERN_C", "LANTERN_D", "LANTERN_E"), files,
                                                  strict=True)]


def _wide() -> list[Part]:
    return [Part(4 * MIB, 128 * MIB, "fat32", "PEAT", contents.firmware(6, TODAY - 60 * DAY, version="4.0")),
            Part(132 * MIB, 512 * MIB, "ext4", "STATE",
                 [MadeFile(f"gba-{t}.sav", t.encode() * 700, TODAY - 20 * DAY) for t in contents.titles(15, 90)]),
            Part(644 * MIB, 50 * GIB, "exfat", "GAMES",
                 [*contents.games(61, TODAY - 80 * DAY, share=0.15),
                  *contents.discs(62, TODAY - 80 * DAY, (510, 640))])]


def _lay_out(image: Path, disk_id: int, parts: list[Part], map_kind: MapKind = MapKind.MBR) -> None:
    """Map, volumes and files; the ids follow from `disk_id`, so that every build is the same."""
    with open_blocks(image, writable=True) as blocks:
        map_ = edits.new_map(map_kind, blocks.size, blocks.sector)
        geometry = geometry_of(map_) if map_.heads else None
        map_ = replace(map_, id={MapKind.MBR: f"{disk_id:08x}", MapKind.GPT: str(UUID(int=disk_id))}.get(map_kind, ""))
        for number, part in enumerate(parts, start=1):
            map_, made = edits.added(map_, blocks.size, start=part.start, length=part.length, kind=part.kind,
                                     label=part.label, is_logical=part.is_logical, alignment=part.alignment)
            if map_kind == MapKind.GPT:
                made = replace(made, id=str(UUID(int=disk_id + number)))
            made = replace(made, flags=part.flags)
            map_ = replace(map_, partitions=tuple(made if p.index == made.index else p for p in map_.partitions))
            window = Window(blocks, part.start, part.length)
            id = str(UUID(int=disk_id + number)) if part.kind.startswith("ext") else f"{disk_id + number:08X}"
            format_for(part.kind).make(window, Making(part.kind, part.label, part.cluster, id,
                                                      Seat(part.start // 512, geometry), TODAY - 400 * DAY))
            _put(window, part.files)
        write_map(blocks, map_)


def _add(image: Path, index: int, files: Iterable[MadeFile]) -> None:
    from mosscrate.core.maps import read_map

    with open_blocks(image, writable=True) as blocks:
        partition = read_map(blocks).partition(index)
        _put(Window(blocks, partition.start, partition.length), files)


def _put(window: Blocks, files: Iterable[MadeFile]) -> None:
    editor = edit(window)
    for made in files:
        if made.data is None:
            editor.add_folder(made.path, Traits(made.modified))
        elif not editor.has(made.path):
            editor.add_file(made.path, made.data, Traits(made.modified), size=made.size)
    editor.commit()


def _keep(bench: Bench, stem: str, days_ago: int) -> None:
    when = datetime.fromtimestamp(TODAY - days_ago * DAY, UTC)
    crate = Crate(bench.crate.root, lambda: when)
    medium = bench.shelf.medium_at((bench.shelf.simulated_folder or Path()) / f"{stem}.img")
    with medium.open() as blocks:
        crate.keep(card_of(medium), blocks, Watch(), verify=False)


def _tarn() -> list[Part]:
    when = TODAY - 9500 * DAY
    names = contents.titles(68, 60)
    tools = [MadeFile(f"{folder}", None, when) for folder in ("C", "Devs", "Libs", "S")]
    tools += [MadeFile(f"C/{name.split()[0]}{number}", name.encode() * 900, when) for number, name in enumerate(names)]
    songs = [MadeFile(f"{name[:24]}.mod", name.encode() * 4000, when + 400 * DAY) for name in names]
    cylinder = 16 * 63 * 512
    return [Part(2 * cylinder, 120 * cylinder, "ffs-intl", "System", tools, ("active",)),
            Part(122 * cylinder, 500 * cylinder, "ffs-intl", "Music", songs)]


def _corvid() -> list[Part]:
    when = TODAY - 9800 * DAY
    starts, length = (MIB, 13 * MIB, 100 * MIB), (12 * MIB, 80 * MIB, 96 * MIB)
    made = (contents.corvid(when, 12), contents.corvid(when + 90 * DAY, 70), contents.corvid(when + 500 * DAY, 40))
    return [Part(start, size, "gemdos", label, files, ("active",) if label == "SYSTEM" else ())
            for start, size, label, files in zip(starts, length, ("SYSTEM", "SCORES", "SOUNDS"), made, strict=True)]


def _desk(image: Path) -> None:
    """A studio's desktop computer: driver descriptor, Apple map, one HFS volume."""
    with open_blocks(image, writable=True) as blocks:
        when, room = TODAY - 9000 * DAY, blocks.size - APPLE_START * 512
        blocks.write(0, apple_map("Tapes", room))
        make_hfs(Window(blocks, APPLE_START * 512, room), "Tapes", contents.studio(when), when)


def apple_map(name: str, room: int) -> bytes:
    """The sectors in front of one HFS volume of `room` bytes: driver descriptor, the map's own entry, the volume's."""
    count = APPLE_START + room // 512
    driver = np.zeros((), apple.DRIVER)
    driver["signature"], driver["block_size"], driver["block_count"] = np.void(b"ER"), 512, count
    sectors = bytes(driver.tobytes()).ljust(512, b"\0")
    for first, length, words, kind in ((1, 63, "Apple", "Apple_partition_map"),
                                       (APPLE_START, room // 512, name, "Apple_HFS")):
        entry = np.zeros((), apple.ENTRY)
        entry["signature"], entry["map_blocks"], entry["start"], entry["count"] = np.void(b"PM"), 2, first, length
        entry["name"] = np.void(words.encode("mac_roman").ljust(32, b"\0"))
        entry["type"] = np.void(kind.encode().ljust(32, b"\0"))
        sectors += entry.tobytes().ljust(512, b"\0")
    return sectors.ljust(APPLE_START * 512, b"\0")


def _cabinet(image: Path) -> None:
    """An arcade drive: no map, its own structure from the first sector on."""
    with open_blocks(image, writable=True) as blocks:
        blocks.write(0, np.random.default_rng(4).integers(1, 255, 6 * MIB, np.uint8).tobytes())
