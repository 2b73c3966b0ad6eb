"""Discs: images of sectors of 2048 or 2352 bytes. ISO 9660 (ECMA-119) and the words in first sectors."""

from __future__ import annotations

from mosscrate.core.fill.headers.base import Front, Reading, Recogniser

SYNC = b"\0" + b"\xff" * 10 + b"\0"
ENDINGS = ("iso", "bin", "img", "chd", "cso", "cdi", "gcm")
FIRST_WORDS = ((b"SEGA SEGASATURN", "sat"), (b"SEGADISCSYSTEM", "scd"), (b"SEGABOOTDISC", "scd"),
               (b"SEGA SEGAKATANA", "dc"), (b"PC-FX:Hu_CD-ROM", "pcfx"), (b"\x01ZZZZZ\x01", "3do"))
NAMES = ((b"PLAYSTATION", "psx"), (b"PSP GAME", "psp"), (b"CD-RTOS", "cdi"))


def disc(front: Front) -> Reading | None:
    """The first sector's words, else the system's name in the volume descriptor of sector 16."""
    sector, data = (2352, 24 if front.at(15, 1) == b"\x02" else 16) if front.has(0, SYNC) else (2048, 0)
    if front.size < 17 * sector:
        return None
    words = front.at(data, 16)
    for magic, system in FIRST_WORDS:
        if words.startswith(magic):
            return Reading(system, 2, "the words of its first sector", (), ENDINGS)
    if sector == 2048 and front.has(0x1C, b"\xc2\x33\x9f\x3d"):
        return Reading("gc", 2, "the magic of its first sector", (), ENDINGS)
    descriptor = front.at(16 * sector + data, 90)
    if descriptor[1:6] != b"CD001" and descriptor[1:6] != b"CD-I ":
        return None
    if descriptor[1:6] == b"CD-I ":
        return Reading("cdi", 2, "its volume descriptor", (), ENDINGS)
    system = next((code for name, code in NAMES if descriptor[8:40].strip().startswith(name)), "")
    if not system:
        return None
    count, again = int.from_bytes(descriptor[80:84], "little"), int.from_bytes(descriptor[84:88], "big")
    is_sure = count == again and count > 0
    if system == "psx" and sector == 2048 and front.size > 800 << 20:
        system = "ps2"                                        # the label is the same; a compact disc ends before
    return Reading(system, 3 if is_sure else 2, "its volume descriptor", (131_072, 135_024) if system == "psx" else (),
                   ENDINGS)


RECOGNISERS = (Recogniser(ENDINGS, disc),)
