"""A made-up library of games on this computer: folders that are called otherwise than any card wants them."""

from __future__ import annotations

import random
import zipfile
from pathlib import Path

KIB = 1 << 10
WORDS = ("Velvet", "Amber", "Quill", "Hill", "Lantern", "Heron", "Corvid", "Tarn", "Moss", "Weaver", "Parade", "Tide")
GB_LOGO = bytes.fromhex("ceed6666cc0d000b03730083000c000d")
GBA_LOGO = bytes.fromhex("24ffae51699aa2213d84820a84e409ad")


def build(folder: Path) -> Path:
    """Make it below a folder; returns its top."""
    top, rnd = folder / "library-autumn", random.Random(11)
    for name, make, ending, count in (("GB", _gb, "gb", 34), ("Advance", _gba, "gba", 18),
                                      ("NES roms", _nes, "nes", 41), ("master sys", _sms, "sms", 14),
                                      ("pocket", _ngp, "ngp", 6), ("handy", _lynx, "lnx", 9)):
        (top / name).mkdir(parents=True, exist_ok=True)
        for number in range(count):
            title = f"{' '.join(rnd.sample(WORDS, 2))} {number + 1}"
            (top / name / f"{title}.{ending}").write_bytes(make(rnd))
            if ending == "gb" and number % 4 == 0:
                (top / name / f"{title}.sav").write_bytes(rnd.randbytes(8 * KIB))
    with zipfile.ZipFile(top / "NES roms" / "Heron Parade.zip", "w") as packed:
        packed.writestr("Heron Parade.nes", _nes(rnd))
    (top / "bios").mkdir(exist_ok=True)
    (top / "open").mkdir(exist_ok=True)
    for number in range(8):
        (top / "open" / f"Tide {number}.uze").write_bytes(b"UZEBOX\x01" + rnd.randbytes(40 * KIB))
    (top / "bios" / "boot old.bin").write_bytes(rnd.randbytes(4 * KIB))
    (top / "GB" / "Thumbs.db").write_bytes(bytes(9 * KIB))
    (top / "GB" / "list of what is here.xyz").write_bytes(b"made up\n")
    return top


def _gb(rnd: random.Random) -> bytes:
    data = bytearray(rnd.randbytes(64 * KIB))
    data[0x104:0x114], data[0x134:0x150] = GB_LOGO, b"HERON LANE".ljust(16, b"\0") + b"01\0\x03\x01\x02\x01\x33\0\0\0\0"
    data[0x14D] = (-sum(data[0x134:0x14D]) - 25) & 0xFF
    return bytes(data)


def _gba(rnd: random.Random) -> bytes:
    data = bytearray(rnd.randbytes(256 * KIB))
    data[4:20], data[0xA0:0xBE] = GBA_LOGO, b"HERON LANE\0\0AHLE01\x96" + bytes(11)
    data[0xBD] = (-sum(data[0xA0:0xBD]) - 0x19) & 0xFF
    return bytes(data)


def _nes(rnd: random.Random) -> bytes:
    return b"NES\x1a\x02\x01\x02\0" + bytes(8) + rnd.randbytes(40 * KIB)


def _sms(rnd: random.Random) -> bytes:
    data = bytearray(rnd.randbytes(128 * KIB))
    data[0x7FF0:0x8000] = b"TMR SEGA" + bytes(7) + b"\x4c"
    return bytes(data)


def _ngp(rnd: random.Random) -> bytes:
    return b"COPYRIGHT BY SNK CORPORATION" + bytes(8) + rnd.randbytes(512 * KIB - 36)


def _lynx(rnd: random.Random) -> bytes:
    return b"LYNX\0\x02\0\0\x01\0" + b"HERON LANE".ljust(54, b"\0") + rnd.randbytes(128 * KIB)
