"""Made-up files: titles, ROM images with right header checksums, saves, settings, firmware.

Everything follows from a seed, so the bench is the same on every machine.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np

_FIRST = ("Amber", "Brook", "Clover", "Dusk", "Ember", "Fern", "Gravel", "Harvest", "Inkwell", "Juniper", "Kettle",
          "Lantern", "Marsh", "Nettle", "Orchard", "Pebble", "Quill", "Reed", "Saddle", "Thistle", "Umber", "Velvet",
          "Willow", "Yarrow")
_SECOND = ("Courier", "Ferry", "Garden", "Heron", "Isle", "Jumble", "Keeper", "Lighthouse", "Miner", "Night",
           "Otter", "Parade", "Quarry", "Racer", "Signal", "Tower", "Voyage", "Weaver", "Expedition", "Switchback")
# short code of the system, ending of its files, how many, KiB from and to
SYSTEMS = (("gb", "gb", 70, 32, 64), ("gbc", "gbc", 36, 32, 96), ("gba", "gba", 18, 128, 384),
           ("nes", "nes", 60, 24, 72), ("snes", "sfc", 22, 64, 256), ("sms", "sms", 28, 32, 64),
           ("md", "md", 20, 64, 192), ("pce", "pce", 14, 32, 96))
DAY = 86400


@dataclass(frozen=True)
class MadeFile:
    """A file to put onto a demo card; `data` is None for a folder."""

    path: str
    data: bytes | None
    modified: int
    size: int | None = None        # when zeros follow `data`, as on a half-empty disc


def titles(seed: int, count: int) -> list[str]:
    """Different titles in a fixed order."""
    pairs = [f"{a} {b}" for a in _FIRST for b in _SECOND]
    order = np.random.default_rng(seed).permutation(len(pairs))[:count]
    return [pairs[i] for i in order]


def games(seed: int, when: int, *, share: float = 1.0) -> Iterator[MadeFile]:
    """A folder of ROMs for each system, and saves for some of them."""
    random = np.random.default_rng(seed)
    yield MadeFile("saves", None, when)
    for number, (system, ending, count, low, high) in enumerate(SYSTEMS):
        yield MadeFile(system, None, when)
        for title in titles(seed + number, max(1, round(count * share))):
            size = int(random.integers(low, high)) << 10
            yield MadeFile(f"{system}/{title}.{ending}", rom(ending, title, size, random), when)
            if random.random() < 0.2:
                yield save(system, title, random, when + int(random.integers(0, 200)) * DAY)


def discs(seed: int, when: int, sizes: tuple[int, ...]) -> Iterator[MadeFile]:
    """Disc images of so many MiB, empty but for their first megabyte."""
    random = np.random.default_rng(seed)
    yield MadeFile("ps", None, when)
    for title, size in zip(titles(seed, len(sizes)), sizes, strict=True):
        yield MadeFile(f"ps/{title}.img", random.integers(0, 256, 1 << 20, np.uint8).tobytes(), when, size << 20)


def save(system: str, title: str, random: np.random.Generator, when: int) -> MadeFile:
    """A battery save: a short pattern and progress marks, 8 or 32 KiB."""
    size = int(random.choice([8, 32])) << 10
    pattern = np.resize(random.integers(0, 256, 64, np.uint8), size)
    pattern[:16] = np.frombuffer(title.encode().ljust(16)[:16], np.uint8)
    return MadeFile(f"saves/{system}-{title}.sav", pattern.tobytes(), when)


def rom(ending: str, title: str, size: int, random: np.random.Generator) -> bytes:
    """A ROM image: noise where code would be, and the header of its system with right checksums."""
    data = random.integers(0, 256, size, np.uint8)
    name = np.frombuffer(title.upper().encode().ljust(15, b"\0")[:15], np.uint8)
    if ending in ("gb", "gbc"):
        data[0x134:0x143] = name
        data[0x143:0x150] = 0
        data[0x148] = max(0, (size >> 15).bit_length() - 1)
        data[0x14D] = (-int(data[0x134:0x14D].astype(np.int64).sum()) - 25) & 0xFF     # header checksum
        total = int(data.astype(np.int64).sum()) & 0xFFFF                              # global checksum
        data[0x14E:0x150] = (total >> 8, total & 0xFF)
    elif ending == "nes":
        data[:16] = np.frombuffer(b"NES\x1a" + bytes([size >> 14, 1, 0, 0]) + bytes(8), np.uint8)
    else:
        data[0x100:0x10F] = name
    return data.tobytes()


def firmware(seed: int, when: int, *, version: str) -> Iterator[MadeFile]:
    """What a handheld boots from: a kernel, device trees, settings, a version file."""
    random = np.random.default_rng(seed)
    yield MadeFile("zImage", random.integers(0, 256, 3 << 20, np.uint8).tobytes(), when)
    for panel in ("panel-a", "panel-b", "panel-c"):
        yield MadeFile(f"{panel}.dtb", random.integers(0, 256, 38 << 10, np.uint8).tobytes(), when)
    yield MadeFile("overlays", None, when)
    for number in range(24):
        yield MadeFile(f"overlays/slot-{number:02d}.dtbo", random.integers(0, 256, 2048, np.uint8).tobytes(), when)
    yield MadeFile("VERSION.TXT", f"Peat {version}\nfor the Pipkin, two slots\n".encode(), when)
    yield MadeFile("boot.cfg", b"panel=panel-a.dtb\nquiet=1\n", when)


def lantern(when: int) -> Iterator[MadeFile]:
    """A small DOS drive with tools and letters."""
    random = np.random.default_rng(8)
    for name in ("IO.SYS", "COMMAND.COM", "TOOLS/PARK.EXE", "TOOLS/KEYB.COM", "TEXT/LETTER1.TXT", "TEXT/LETTER2.TXT"):
        if "/" in name:
            yield MadeFile(name.partition("/")[0], None, when)
        yield MadeFile(name, random.integers(32, 126, 4000 + len(name) * 997, np.uint8).tobytes(), when)


def corvid(when: int, count: int) -> Iterator[MadeFile]:
    """Programs and scores under names of eight and three capitals."""
    random = np.random.default_rng(count)
    for folder in ("AUTO", "SCORES"):
        yield MadeFile(folder, None, when)
    yield MadeFile("AUTO/CLOCK.ACC", random.integers(0, 256, 3100, np.uint8).tobytes(), when)
    yield MadeFile("DESKTOP.INF", b"#a000000\r\n#E 9A 01\r\n", when)
    for number, title in enumerate(titles(80 + count, count)):
        yield MadeFile(f"SCORES/{title.split()[0].upper()[:6]}{number:02d}.SNG",
                       random.integers(0, 256, 9000 + 700 * number, np.uint8).tobytes(), when + number * DAY)


def studio(when: int) -> Iterator[MadeFile]:
    """Takes and notes of a small recording studio."""
    random = np.random.default_rng(33)
    for folder in ("Takes", "Notes"):
        yield MadeFile(folder, None, when)
    for number, title in enumerate(titles(33, 40)):
        yield MadeFile(f"Takes/{title}", random.integers(0, 256, 200_000 + number * 4000, np.uint8).tobytes(),
                       when + number * DAY)
        yield MadeFile(f"Notes/{title} notes", f"{title}\rtwo microphones, tape {number}\r".encode(), when)
    yield MadeFile("Read me", b"Tapes of the small room, sides A only.\r", when)


def organ(when: int) -> Iterator[MadeFile]:
    """Tunes and registrations of a fairground organ's controller."""
    random = np.random.default_rng(64)
    yield MadeFile("SEQ", None, when)
    for number, title in enumerate(titles(64, 40)):
        yield MadeFile(f"SEQ/{number:03d} {title}.seq", random.integers(0, 256, 9000, np.uint8).tobytes(), when)
    yield MadeFile("CONTROL.HEX", random.integers(48, 58, 60000, np.uint8).tobytes(), when)
    yield MadeFile("REGISTER.CFG", b"stops=12\npressure=7\n", when)
