"""Disks and tapes of home computers, and carts that are text or pictures."""

from __future__ import annotations

from mosscrate.core.fill.headers.base import Front, Reading, Recogniser

FLOPPIES = {901_120, 1_802_240, 912_384}                  # of 80 cylinders, of high density, of 81
D64 = {174_848, 175_531, 196_608, 197_376}


def adf(front: Front) -> Reading | None:
    """Floppies of 16/32-bit computers: their mark, and a floppy's size."""
    is_marked = front.has(0, b"DOS") and front.at(3, 1)[0] < 8
    return Reading("amiga", 2, "the mark of its floppy", (), ("adf",)) if is_marked and front.size in FLOPPIES else None


def a800(front: Front) -> Reading | None:
    """8-bit computers: the head of a disk, or that of a program."""
    if front.has(0, b"\x96\x02") and front.little(4) in (128, 256, 512):
        size = (front.little(2) | front.little(6) << 16) * 16
        return Reading("a800", 3 if size + 16 == front.size else 2, "the head of its disk", (), ("atr",))
    if front.has(0, b"\xff\xff") and front.ending == "xex" and front.little(2) <= front.little(4):
        return Reading("a800", 1, "the head of its program", (), ("xex",))
    return None


def c64(front: Front) -> Reading | None:
    """8-bit computer: words of tapes and cartridges; sizes of disks."""
    if front.has(0, b"C64 CARTRIDGE   ") or front.has(0, b"C64-TAPE-RAW") or front.has(0, b"C64 tape image file"):
        return Reading("c64", 2, "its header", (), ("crt", "tap", "t64"))
    if front.has(0, b"GCR-1541\0"):
        return Reading("c64", 2, "its header", (), ("g64",))
    is_disk = front.size in D64 and front.at(0x16500, 3) == b"\x12\x01\x41"
    return Reading("c64", 2, "the table of its disk", (), ("d64",)) if is_disk else None


def zx(front: Front) -> Reading | None:
    """8-bit computer: the head of a tape."""
    return Reading("zx", 2, "the head of its tape", (), ("tzx",)) if front.has(0, b"ZXTape!\x1a") else None


def cpc(front: Front) -> Reading | None:
    """8-bit computers: the head of a disk, which others of that time use too."""
    if front.has(0, b"MV - CPC") or front.has(0, b"EXTENDED CPC DSK File"):
        return Reading("cpc", 1, "the head of its disk", (), ("dsk",))
    return None


def msx(front: Front) -> Reading | None:
    """8-bit computers: two letters, and an entry within the slot."""
    if not front.has(0, b"AB") or not front.size or front.size % 8192 or not 0x4000 <= front.little(2) < 0xC000:
        return None
    return Reading("msx", 1, "its first letters", (), ("rom", "mx1", "mx2"))


def p8(front: Front) -> Reading | None:
    """Made-up 8-bit console: carts as text; as pictures of 160 × 205 points."""
    if front.has(0, b"pico-8 cartridge"):
        return Reading("fantasy8", 2, "the first line of its cart", (), ("p8",))
    is_cart = front.has(0, b"\x89PNG\r\n\x1a\n") and (front.big(16, 4), front.big(20, 4)) == (160, 205)
    return Reading("fantasy8", 2, "a picture of a cart’s size", (), ("png",)) if is_cart else None


RECOGNISERS = tuple(Recogniser(endings, look) for endings, look in (
    (("adf",), adf), (("atr", "xex"), a800), (("d64", "t64", "g64", "crt"), c64), (("tzx",), zx), (("dsk",), cpc),
    (("mx1", "mx2"), msx), (("p8", "png"), p8)))
