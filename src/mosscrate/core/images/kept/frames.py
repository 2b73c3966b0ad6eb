"""What stands in the files of a crate. Little-endian, every file begins with magic and version; ours.

A name is the BLAKE3 of a chunk's bytes (32 bytes), a check the first bytes of the BLAKE3 of what it covers.
"""

from __future__ import annotations

import numpy as np
from blake3 import blake3

VERSION = 1
PACK_MAGIC, FRAME_MAGIC, TABLE_MAGIC, KEPT_MAGIC = b"MOSSPACK", b"MSCK", b"MOSSTABL", b"MOSSKEPT"
PACK_HEAD = np.dtype([
    ("magic", "V8"), ("version", "<u2"), ("flags", "<u2"), ("reserved", "<u4"), ("crate", "V16"), ("pack", "V16"),
    ("made", "<u8"), ("check", "V8")])                                                                  # 64 bytes
FRAME = np.dtype([
    ("magic", "V4"), ("codec", "u1"), ("kind", "u1"), ("reserved", "<u2"), ("stored", "<u4"), ("raw", "<u4"),
    ("name", "V32"), ("check", "V8"), ("reserved_2", "<u4"), ("head_check", "V4")])                     # 64 bytes
ROW = np.dtype([("name", "V32"), ("place", "<u8"), ("stored", "<u4"), ("raw", "<u4")])                  # 48 bytes
PACK_END = np.dtype([
    ("magic", "V8"), ("rows", "<u4"), ("reserved", "<u4"), ("table", "<u8"), ("digest", "V32"), ("check", "V8")])
KEPT_HEAD = np.dtype([
    ("magic", "V8"), ("version", "<u2"), ("sections", "<u2"), ("reserved", "<u4"), ("backup", "V16"), ("lease", "V16"),
    ("made", "<u8"), ("check", "V8")])                                                                  # 64 bytes
SECTION = np.dtype([
    ("tag", "V4"), ("codec", "u1"), ("reserved", "V3"), ("offset", "<u8"), ("stored", "<u8"), ("raw", "<u8"),
    ("digest", "V32")])                                                                                 # 64 bytes
RUN = np.dtype([("card", "<i8"), ("length", "<i8"), ("tape", "<i8")])
FILE = np.dtype([("volume", "<u2"), ("role", "u1"), ("reserved", "u1"), ("path", "<u4"), ("size", "<i8"),
                 ("modified", "<i8"), ("tape", "<i8"), ("length", "<i8")])                              # 40 bytes
PLAIN, ZSTD = 0, 1                       # codecs
NAME, CHECK = 32, 8                      # bytes
PLACE_BITS = 56                          # of a row's place; the codec is above them
UNREAD = -1                              # tape place of a run that was in use and could not be read
NO_TIME = -1 << 63
LONGEST_CHUNK = 1 << 20


def check_of(data: bytes | memoryview, length: int = CHECK) -> bytes:
    """The first bytes of the BLAKE3 of something."""
    return blake3(data).digest(length=length)
