"""Files built by hand from the published layouts of each system's header."""

from __future__ import annotations

import random
from collections.abc import Callable

KIB = 1 << 10
GB_LOGO = bytes.fromhex("ceed6666cc0d000b03730083000c000d0008111f8889000e"
                        "dccc6ee6ddddd999bbbb67636e0eecccdddc999fbbb9333e")


def put(data: bytearray, at: int, what: bytes) -> None:
    data[at:at + len(what)] = what


def gb(rnd: random.Random, *, colour: bool = False, kind: int = 3, ram: int = 3) -> bytes:
    code = rnd.randrange(4)
    data = bytearray(rnd.randbytes(32 * KIB << code))
    put(data, 0x104, GB_LOGO)
    put(data, 0x134, b"HILL RUN".ljust(15, b"\0") + bytes([0x80 if colour else 0]))
    put(data, 0x144, b"01\0" + bytes([kind, code, ram, 1, 0x33, 0]))
    data[0x14D] = (-sum(data[0x134:0x14D]) - 25) & 0xFF
    return bytes(data)


def gba(rnd: random.Random) -> bytes:
    data = bytearray(rnd.randbytes(256 * KIB))
    put(data, 4, bytes.fromhex("24ffae51699aa2213d84820a84e409ad"))
    put(data, 0xA0, b"HILL RUN\0\0\0\0AHRE01\x96" + bytes(10))
    data[0xBD] = (-sum(data[0xA0:0xBD]) - 0x19) & 0xFF
    return bytes(data)


def nes(rnd: random.Random) -> bytes:
    a, b, battery = rnd.randrange(1, 9), rnd.randrange(5), rnd.randrange(2)
    return b"NES\x1a" + bytes([a, b, battery << 1 | 1, 0]) + bytes(8) + rnd.randbytes(16 * KIB * a + 8 * KIB * b)


def fds(rnd: random.Random) -> bytes:
    side = b"\x01*NINTENDO-HVC*" + rnd.randbytes(65_485)
    return side if rnd.random() < 0.5 else b"FDS\x1a\x01" + bytes(11) + side


def snes(rnd: random.Random) -> bytes:
    high, head = rnd.random() < 0.5, 512 * rnd.randrange(2)
    data = bytearray(rnd.randbytes(head) + rnd.randbytes(512 * KIB))
    at = head + (0xFFC0 if high else 0x7FC0)
    total = rnd.randrange(1, 1 << 16)
    put(data, at, b"HILL RUN".ljust(21) + bytes([0x21 if high else 0x20, 2, 9, 3, 1, 0x33, 0]) +
        (total ^ 0xFFFF).to_bytes(2, "little") + total.to_bytes(2, "little"))
    return bytes(data)


def md(rnd: random.Random, words: bytes = b"SEGA MEGA DRIVE ") -> bytes:
    data = bytearray(rnd.randbytes(128 * KIB))
    put(data, 0x100, words)
    put(data, 0x1B0, b"RA\xf8\x20" + (0x200001).to_bytes(4, "big") + (0x203FFF).to_bytes(4, "big"))
    form = rnd.randrange(3) if words.startswith(b"SEGA MEGA") else 0
    if form == 1:
        return b"".join(data[k:k + 2][::-1] for k in range(0, len(data), 2))
    if form == 2:
        blocks = (data[k:k + 16 * KIB] for k in range(0, len(data), 16 * KIB))
        return bytes([8, 3]).ljust(8, b"\0") + b"\xaa\xbb\x06" + bytes(501) + b"".join(b[1::2] + b[::2] for b in blocks)
    return bytes(data)


def sms(rnd: random.Random, region: int = 4) -> bytes:
    data = bytearray(rnd.randbytes(128 * KIB))
    put(data, 0x7FF0, b"TMR SEGA\0\0" + rnd.randbytes(5) + bytes([region << 4 | 0x0C]))
    return bytes(data)


def n64(rnd: random.Random) -> bytes:
    return rnd.choice([b"\x80\x37\x12\x40", b"\x37\x80\x40\x12", b"\x40\x12\x37\x80"]) + rnd.randbytes(64 * KIB)


def lynx(rnd: random.Random) -> bytes:
    return b"LYNX" + bytes([0, 2, 0, 0, 1, 0]) + b"HILL RUN".ljust(32, b"\0") + b"MADE UP".ljust(16, b"\0") + \
        bytes(2) + bytes([1, 0, 0, 0]) + rnd.randbytes(512 * 256)


def a78(rnd: random.Random) -> bytes:
    head = bytearray(128)
    put(head, 0, b"\x01ATARI7800".ljust(17, b"\0") + b"HILL RUN".ljust(32, b"\0"))
    put(head, 49, (48 * KIB).to_bytes(4, "big"))
    return bytes(head) + rnd.randbytes(48 * KIB)


def ngp(rnd: random.Random, colour: int = 0) -> bytes:
    return rnd.choice([b"COPYRIGHT BY SNK CORPORATION", b" LICENSED BY SNK CORPORATION"]) + bytes(7) + \
        bytes([colour]) + rnd.randbytes(64 * KIB)


def ws(rnd: random.Random, colour: int = 0) -> bytes:
    return rnd.randbytes(128 * KIB - 16) + bytes([0xEA, 0, 0, 0, 0xF0, 0, 1, colour, 1, 0, 2, 2, 4, 0, 0x34, 0x12])


def nds(rnd: random.Random) -> bytes:
    data = bytearray(rnd.randbytes(64 * KIB))
    put(data, 0x15C, b"\x56\xcf")
    crc = 0xFFFF
    for byte in data[:0x15E]:
        crc ^= byte
        for _ in range(8):
            crc = crc >> 1 ^ 0xA001 if crc & 1 else crc >> 1
    put(data, 0x15E, crc.to_bytes(2, "little"))
    return bytes(data)


def pce(rnd: random.Random) -> bytes:
    data = bytearray(rnd.randbytes(256 * KIB))
    put(data, 0x1FFE, b"\x00\xe0")
    return rnd.randbytes(512 * rnd.randrange(2)) + bytes(data)


def vec(rnd: random.Random) -> bytes:
    return b"g GCE 2026\x80" + rnd.randbytes(8 * KIB)


def col(rnd: random.Random) -> bytes:
    return rnd.choice([b"\xaa\x55", b"\x55\xaa"]) + rnd.randbytes(8) + b"\x24\x80" + rnd.randbytes(16 * KIB - 12)


def vb(rnd: random.Random) -> bytes:
    data = bytearray(rnd.randbytes(512 * KIB))
    put(data, len(data) - 544, b"HILL RUN".ljust(20) + bytes(5) + b"01VHRE"[:6] + b"\0")
    return bytes(data)


def min_(rnd: random.Random) -> bytes:
    data = bytearray(rnd.randbytes(64 * KIB))
    put(data, 0x2100, b"MN")
    put(data, 0x21A4, b"NINTENDO")
    return bytes(data)


def disc(rnd: random.Random, words: bytes = b"", name: bytes = b"", *, raw: bool | None = None) -> bytes:
    """40 sectors, raw or not; `words` in the first, or `name` in the descriptor."""
    sectors = [bytearray(rnd.randbytes(2048)) for _ in range(40)]
    put(sectors[0], 0, words or bytes(32))
    if name:
        put(sectors[16], 0, b"\x01CD001\x01\0" + name.ljust(32) + b"HILL_RUN".ljust(32) + bytes(8) +
            (40).to_bytes(4, "little") + (40).to_bytes(4, "big"))
    if not (rnd.random() < 0.5 if raw is None else raw):
        return b"".join(sectors)
    return b"".join(b"\0" + b"\xff" * 10 + b"\0" + bytes([0, 2, number, 2]) + bytes(8) + sector + bytes(280)
                    for number, sector in enumerate(sectors))


def gc(rnd: random.Random) -> bytes:
    data = bytearray(rnd.randbytes(64 * KIB))
    put(data, 0x1C, b"\xc2\x33\x9f\x3d")
    return bytes(data)


def adf(rnd: random.Random) -> bytes:
    return b"DOS" + bytes([rnd.randrange(8)]) + rnd.randbytes(901_116)


def atr(rnd: random.Random) -> bytes:
    head = b"\x96\x02" + (92_160 // 16).to_bytes(2, "little") + (128).to_bytes(2, "little") + bytes(10)
    return head + rnd.randbytes(92_160)


def d64(rnd: random.Random) -> bytes:
    data = bytearray(rnd.randbytes(174_848))
    put(data, 0x16500, b"\x12\x01\x41")
    return bytes(data)


SAMPLES: dict[str, tuple[str, Callable[[random.Random], bytes]]] = {
    "gb": ("gb", gb), "gbc": ("gbc", lambda r: gb(r, colour=True)), "gba": ("gba", gba), "nes": ("nes", nes),
    "fds": ("fds", fds), "snes": ("sfc", snes), "md": ("md", md), "32x": ("32x", lambda r: md(r, b"SEGA 32X U     ")),
    "sms": ("sms", sms), "gg": ("gg", lambda r: sms(r, 6)), "n64": ("z64", n64), "lynx": ("lnx", lynx),
    "a78": ("a78", a78),
    "ngp": ("ngp", ngp), "ngpc": ("ngc", lambda r: ngp(r, 0x10)), "ws": ("ws", ws), "wsc": ("wsc", lambda r: ws(r, 1)),
    "nds": ("nds", nds), "pce": ("pce", pce), "vec": ("vec", vec), "col": ("col", col), "vb": ("vb", vb),
    "min": ("min", min_), "uzebox": ("uze", lambda r: b"UZEBOX\x01" + r.randbytes(4000)),
    "psx": ("bin", lambda r: disc(r, name=b"PLAYSTATION")),
    "psp": ("iso", lambda r: disc(r, name=b"PSP GAME", raw=False)),
    "cdi": ("bin", lambda r: disc(r, name=b"CD-RTOS CD-BRIDGE")),
    "sat": ("bin", lambda r: disc(r, b"SEGA SEGASATURN ")),
    "scd": ("bin", lambda r: disc(r, b"SEGADISCSYSTEM  ")), "dc": ("bin", lambda r: disc(r, b"SEGA SEGAKATANA ")),
    "pcfx": ("bin", lambda r: disc(r, b"PC-FX:Hu_CD-ROM ")),
    "3do": ("iso", lambda r: disc(r, b"\x01ZZZZZ\x01\0", raw=False)),
    "gc": ("gcm", gc), "amiga": ("adf", adf), "a800": ("atr", atr), "c64": ("d64", d64),
    "zx": ("tzx", lambda r: b"ZXTape!\x1a\x01\x14" + r.randbytes(3000)),
    "cpc": ("dsk", lambda r: b"EXTENDED CPC DSK File\r\nDisk-Info\r\n" + r.randbytes(9000)),
    "msx": ("rom", lambda r: b"AB\x10\x40" + r.randbytes(16 * KIB - 4)),
    "fantasy8": ("p8", lambda r: b"pico-8 cartridge // http\nversion 41\n" + r.randbytes(300)),
}
