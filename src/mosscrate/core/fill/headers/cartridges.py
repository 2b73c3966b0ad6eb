"""Cartridges. Facts are from the published descriptions of each console's header."""

from __future__ import annotations

from mosscrate.core.fill.headers.base import Front, Reading, Recogniser

KIB = 1 << 10
# 8-bit handheld: kinds of cartridge with a battery; [0x149] → KiB of it
GB_BATTERY = {0x03, 0x06, 0x09, 0x0D, 0x0F, 0x10, 0x13, 0x1B, 0x1E, 0x20, 0x22, 0xFC, 0xFE, 0xFF}
GB_KINDS = {0, 1, 2, 3, 5, 6, 8, 9, 0xB, 0xC, 0xD, 0xF, 0x10, 0x11, 0x12, 0x13, 0x19, 0x1A, 0x1B, 0x1C, 0x1D, 0x1E,
            0x20, 0x22, 0xFC, 0xFD, 0xFE, 0xFF}
GB_SAVES = {1: 2 * KIB, 2: 8 * KIB, 3: 32 * KIB, 4: 128 * KIB, 5: 64 * KIB}
GB_CLOCK = {0x0F, 0x10}
GB_LOGO = bytes.fromhex("ceed6666cc0d000b03730083000c000d")
GBA_LOGO = bytes.fromhex("24ffae51699aa2213d84820a84e409ad")
NGP_LINES = (b"COPYRIGHT BY SNK CORPORATION", b" LICENSED BY SNK CORPORATION")
N64_ORDERS = {b"\x80\x37\x12\x40": "", b"\x37\x80\x40\x12": ", bytes swapped", b"\x40\x12\x37\x80": ", words swapped"}
WS_SAVES = {0: 0, 1: 8 * KIB, 2: 32 * KIB, 3: 128 * KIB, 4: 256 * KIB, 5: 512 * KIB, 0x10: 128, 0x20: 2 * KIB,
            0x50: KIB}
LYNX_SAVES = {0: 0, 1: 128, 2: 256, 3: 512, 4: 1024, 5: 2048}


def gb(front: Front) -> Reading | None:
    """8-bit handhelds: the picture at 0x104, the sum over 0x134 to 0x14C at 0x14D."""
    if not front.has(0x104, GB_LOGO[:4]):
        return None
    head = front.at(0x134, 0x19)
    is_summed = (-sum(head) - 25) & 0xFF == front.at(0x14D, 1)[0]
    kind, size = head[0x13], head[0x14]
    if kind not in GB_KINDS or size > 8:
        return None
    sizes_agree = front.size == 32 * KIB << size
    system = "gbc" if head[0x0F] & 0x80 else "gb"
    saves = _gb_saves(kind, head[0x15])
    if is_summed:
        return Reading(system, 3, "its header and the sum of it agree", saves, (system,))
    return Reading(system, 2, "its header, though its sum does not agree", saves, (system,)) \
        if sizes_agree and front.has(0x104, GB_LOGO) else None


def _gb_saves(kind: int, ram: int) -> tuple[int, ...]:
    if kind in (5, 6):
        return (512, 256) if kind == 6 else (0,)
    if kind not in GB_BATTERY:
        return (0,)
    size = GB_SAVES.get(ram, 0)
    if kind in GB_CLOCK:
        return tuple(size + clock for clock in (0, 44, 48))
    return (size,)


def gba(front: Front) -> Reading | None:
    """32-bit handheld: 0x96 at 0xB2, the sum over 0xA0 to 0xBC at 0xBD."""
    if front.at(0xB2, 1) != b"\x96" or not front.has(4, GBA_LOGO[:4]):
        return None
    if (-sum(front.at(0xA0, 0x1D)) - 0x19) & 0xFF == front.at(0xBD, 1)[0]:
        return Reading("gba", 3, "its header and the sum of it agree", (), ("gba", "agb"))
    return Reading("gba", 2, "its header, though its sum does not agree", (), ("gba", "agb"))


def nes(front: Front) -> Reading | None:
    """8-bit console: the sixteen bytes that dumps begin with; sizes of both parts."""
    if not front.has(0, b"NES\x1a"):
        return None
    flags, second = front.at(6, 1)[0], front.at(7, 1)[0] & 0x0C == 0x08
    high = front.at(9, 1)[0] if second else 0
    program, picture = front.at(4, 1)[0] | (high & 0x0F) << 8, front.at(5, 1)[0] | (high & 0xF0) << 4
    if high & 0x0F == 0x0F or high & 0xF0 == 0xF0:
        return Reading("nes", 2, "its header", (), ("nes",))
    size = 16 + (512 if flags & 4 else 0) + 16 * KIB * program + 8 * KIB * picture
    saves: tuple[int, ...] = (8 * KIB,) if flags & 2 else (0,)
    if second and flags & 2:
        saves = (64 << (front.at(10, 1)[0] >> 4),) if front.at(10, 1)[0] >> 4 else ()
    is_whole = size <= front.size <= size + 8 * KIB and program > 0
    return Reading("nes", 3 if front.size == size else 2, "its header and its size agree" if is_whole else "its header",
                   saves, ("nes",))


def fds(front: Front) -> Reading | None:
    """Disks of the 8-bit console: sides of 65,500 bytes, with a head of 16 or without."""
    if front.has(0, b"FDS\x1a"):
        sides = front.at(4, 1)[0]
        agrees = 0 < sides < 9 and front.size == 16 + sides * 65_500
        return Reading("fds", 2, "its header" + (" and its size agree" if agrees else ""), (), ("fds",))
    if front.has(0, b"\x01*NINTENDO-HVC*"):
        return Reading("fds", 2, "the label of its disk", (), ("fds", "qd"))
    return None


def snes(front: Front) -> Reading | None:
    """16-bit console: the header at one of three places, by its map mode; sum and complement."""
    shift = 512 if front.size % 1024 == 512 else 0
    for place, modes in ((0x7FC0, {0x20, 0x22, 0x23, 0x30, 0x32}), (0xFFC0, {0x21, 0x31, 0x25, 0x35, 0x3A}),
                         (0x40FFC0, {0x25, 0x35})):
        if place + 0x40 > front.size - shift:
            continue
        head = front.at(place + shift, 0x30)
        complement, total = int.from_bytes(head[0x1C:0x1E], "little"), int.from_bytes(head[0x1E:0x20], "little")
        is_sound = head[0x15] in modes and head[0x18] <= 9 and 7 <= head[0x17] <= 13
        if is_sound and complement ^ total == 0xFFFF and complement:
            size = KIB << head[0x18] if head[0x18] and head[0x16] & 0x0F in (2, 5, 6, 9, 0xA) else 0
            return Reading("snes", 3, "its header, its sum and the complement of it agree", (size,), ("sfc", "smc"))
    return None


def md(front: Front) -> Reading | None:
    """16-bit console and its 32-bit addition: words at 0x100; bytes swapped, or interleaved behind a head of 512."""
    words = front.at(0x100, 16)
    if words.startswith((b"SEGA", b" SEGA")):
        if words.startswith((b"SEGA PICO", b"SEGA TOYS PICO")):
            return Reading("pico", 2, "its header", (), ("md", "bin"))
        system = "32x" if words.startswith(b"SEGA 32X") else "md"
        return Reading(system, 2, "its header", _md_saves(front), ("32x",) if system == "32x" else ("md", "gen", "bin"))
    if words.startswith((b"ESAG", b"S GE")):
        return Reading("md", 2, "its header, bytes swapped", (), ("md", "bin"))
    if front.size % (16 * KIB) == 512 and front.at(8, 2) == b"\xaa\xbb" and front.size > 512:
        odd = front.at(512 + 0x80, 8)                         # of a block of 16 KiB the odd bytes come first
        if odd.startswith((b"EA", b"SG")):
            return Reading("md", 2, "its header, interleaved", (), ("smd",))
    return None


def _md_saves(front: Front) -> tuple[int, ...]:
    if not front.has(0x1B0, b"RA"):
        return ()
    start, end = front.big(0x1B4, 4), front.big(0x1B8, 4)
    if not start <= end < start + (1 << 20):
        return ()
    span = end - start + 1
    lane = (span + 1) // 2 if front.at(0x1B2, 1)[0] & 0x18 else span
    return tuple(sorted({lane, 8 * KIB, 32 * KIB, 64 * KIB}))


def sms(front: Front) -> Reading | None:
    """8-bit console and handheld of one family: words at the end of 32, 16 or 8 KiB; the region tells them apart."""
    for place in (0x7FF0, 0x3FF0, 0x1FF0):
        if front.size > place and front.has(place, b"TMR SEGA"):
            region = front.at(place + 15, 1)[0] >> 4
            if 3 <= region <= 7:
                system = "sms" if region <= 4 else "gg"
                return Reading(system, 2, "its header", (), (system,))
            kin = "gg" if front.ending == "gg" else "sms"
            return Reading(kin, 1, "its header without a region", (), ("sms", "gg"))
    return None


def n64(front: Front) -> Reading | None:
    """64-bit console: the first word, in one of three orders."""
    order = N64_ORDERS.get(front.at(0, 4))
    if order is None or front.size < 4 * KIB:
        return None
    return Reading("n64", 2, f"its header{order}", (), ("n64", "z64", "v64"))


def lynx(front: Front) -> Reading | None:
    """16-bit handheld: the head that dumps carry, with the pages of both banks."""
    if not front.has(0, b"LYNX\0") and not (front.has(0, b"LYNX") and front.little(8) == 1):
        return None
    size = 64 + 256 * (front.little(4) + front.little(6))
    saves = LYNX_SAVES.get(front.at(60, 1)[0] & 0x07, 0)
    agrees = size == front.size
    return Reading("lynx", 3 if agrees else 2, "its header" + (" and its size agree" if agrees else ""), (saves,),
                   ("lnx", "lyx"))


def a78(front: Front) -> Reading | None:
    """Console of 1986: the head that dumps carry."""
    if not front.has(1, b"ATARI7800"):
        return None
    agrees = 128 + front.big(49, 4) == front.size
    saves = {0: (0,), 1: (2 * KIB,), 2: (2 * KIB,)}.get(front.at(58, 1)[0], ())
    return Reading("a78", 3 if agrees else 2, "its header" + (" and its size agree" if agrees else ""), saves, ("a78",))


def ngp(front: Front) -> Reading | None:
    """16-bit handhelds: the line of the licence; 0x10 at 0x23 for colour."""
    if front.at(0, 28) not in NGP_LINES:
        return None
    system = {0x00: "ngp", 0x10: "ngpc"}.get(front.at(0x23, 1)[0])
    return Reading(system, 2, "its header", (), ("ngc", "ngpc") if system == "ngpc" else ("ngp",)) if system else None


def ws(front: Front) -> Reading | None:
    """16-bit handhelds: the last sixteen bytes, which begin with a far jump."""
    if front.size < 64 * KIB or front.size % (64 * KIB):
        return None
    tail = front.at(front.size - 16, 16)
    if tail[0] != 0xEA or tail[7] > 1:
        return None
    if tail[10] > 0x0C or tail[11] not in WS_SAVES:
        return None
    system = "wsc" if tail[7] & 1 else "ws"
    return Reading(system, 2, "its trailer", (WS_SAVES[tail[11]],), (system,))


def nds(front: Front) -> Reading | None:
    """Handheld with two screens: the sum of its picture at 0x15C, that of the header at 0x15E."""
    if front.little(0x15C) != 0xCF56:
        return None
    agrees = _crc16(front.at(0, 0x15E)) == front.little(0x15E)
    reason = "its header and the sum of it agree" if agrees else "its header"
    return Reading("nds", 3 if agrees else 2, reason, (), ("nds",))


def _crc16(data: bytes) -> int:
    value = 0xFFFF
    for byte in data:
        value ^= byte
        for _ in range(8):
            value = value >> 1 ^ (0xA001 if value & 1 else 0)
    return value


def pce(front: Front) -> Reading | None:
    """8/16-bit console: no header; the vector at the end of the first 8 KiB points into its own bank."""
    shift = 512 if front.size % (8 * KIB) == 512 else 0
    if front.size < 8 * KIB or front.little(0x1FFE + shift) < 0xE000 or front.ending not in ("pce", "sgx"):
        return None
    return Reading("sgx" if front.ending == "sgx" else "pce", 1, "its first vector", (2 * KIB,), ("pce", "sgx"))


def vec(front: Front) -> Reading | None:
    """Vector console: the line of its copyright."""
    return Reading("vec", 2, "its header", (), ("vec", "bin")) if front.has(0, b"g GCE ") else None


def col(front: Front) -> Reading | None:
    """8-bit console of 1982: two words, and an entry within the cartridge."""
    if front.at(0, 2) not in (b"\xaa\x55", b"\x55\xaa") or not 0x8000 <= front.little(10) < 0x8000 + max(front.size, 1):
        return None
    return Reading("col", 1, "its first words", (), ("col", "cv", "rom"))


def vb(front: Front) -> Reading | None:
    """32-bit table-top: the header stands 544 bytes before the end."""
    if front.size < 16 * KIB or front.size & (front.size - 1):
        return None
    head = front.at(front.size - 544, 32)
    name_is_plain = all(32 <= letter < 0xE0 for letter in head[:20]) and bool(head[:20].strip())
    return Reading("vb", 1, "its header", (8 * KIB,), ("vb", "vboy")) if name_is_plain and head[20:25] == bytes(5) and \
        head[25:29].isalnum() else None


def min_(front: Front) -> Reading | None:
    """Smallest cartridge handheld: two letters at 0x2100, words at 0x21A4."""
    if front.has(0x2100, b"MN") and front.has(0x21A4, b"NINTENDO"):
        return Reading("min", 2, "its header", (), ("min",))
    return None


def uze(front: Front) -> Reading | None:
    """Open 8-bit console: the word that its files begin with."""
    return Reading("uzebox", 2, "its header", (), ("uze",)) if front.has(0, b"UZEBOX") else None


RECOGNISERS = tuple(Recogniser(endings, look, look not in (pce, col, vb)) for endings, look in (
    (("gb", "gbc", "cgb", "sgb"), gb), (("gba", "agb"), gba), (("nes",), nes), (("fds", "qd"), fds),
    (("sfc", "smc", "fig", "swc"), snes), (("md", "gen", "smd", "68k", "32x"), md), (("sms", "gg"), sms),
    (("n64", "z64", "v64"), n64), (("lnx", "lyx"), lynx), (("a78",), a78), (("ngp", "ngc", "npc", "ngpc"), ngp),
    (("ws", "wsc", "pc2"), ws), (("nds", "dsi", "srl"), nds), (("pce", "sgx"), pce), (("vec",), vec),
    (("col", "cv"), col), (("vb", "vboy"), vb), (("min",), min_), (("uze",), uze)))
