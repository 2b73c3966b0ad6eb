"""File systems named by their first bytes, so that a closed one is not taken for an empty one.

Each row: short name, offset, bytes, from the published layout of that file system.
"""

from __future__ import annotations

FIRST_BYTES = 68 << 10                # of a volume: all marks stand in them
_EXT_MAGIC = 0x438                     # s_magic in the superblock at byte 1024
_EXT_INCOMPAT, _EXT_COMPAT = 0x460, 0x45C
_EXT4_FEATURES = 0x40 | 0x80 | 0x200 | 0x10       # extents, 64bit, flex_bg, meta_bg
_MDB = 1024                            # master directory block, or the header of a later kind
SIGNATURES = (
    ("exfat", 3, b"EXFAT   "), ("ntfs", 3, b"NTFS    "), ("xfs", 0, b"XFSB"), ("squashfs", 0, b"hsqs"),
    ("f2fs", 1024, b"\x10\x20\xf5\xf2"), ("btrfs", 0x10040, b"_BHRfS_M"),
    ("swap", 4086, b"SWAPSPACE2"), ("iso9660", 0x8001, b"CD001"),
    ("hfs", _MDB, b"BD"), ("hfs+", _MDB, b"H+"), ("hfs+", _MDB, b"HX"), ("mfs", _MDB, b"\xd2\xd7"),
    ("luks", 0, b"LUKS\xba\xbe"), ("lvm", 512, b"LABELONE"), ("romfs", 0, b"-rom1fs-"),
    ("cramfs", 0, b"\x45\x3d\xcd\x28"), ("erofs", 1024, b"\xe2\xe1\xf5\xe0"), ("pfs", 0, b"PFS"),
    ("sfs", 0, b"SFS\0"))
_DOS_TYPES = {0: "ofs", 1: "ffs"}
WRITTEN = {"f2fs": "F2FS", "btrfs": "Btrfs", "squashfs": "SquashFS", "iso9660": "ISO 9660", "swap": "swap",
           "cramfs": "cramfs", "romfs": "romfs", "ext": "ext"}     # as people write them; others in capitals


def name_by_signature(first: bytes) -> str:
    """A short name, "" where nothing is recognised. Wants the first 68 KiB."""
    if first[_EXT_MAGIC:_EXT_MAGIC + 2] == b"\x53\xef":
        incompat = int.from_bytes(first[_EXT_INCOMPAT:_EXT_INCOMPAT + 4], "little")
        compat = int.from_bytes(first[_EXT_COMPAT:_EXT_COMPAT + 4], "little")
        return "ext4" if incompat & _EXT4_FEATURES else "ext3" if compat & 4 else "ext2"
    if first[:3] == b"DOS" and len(first) > 3 and first[3] < 8:
        return _DOS_TYPES[first[3] & 1]
    if first[_MDB:_MDB + 2] == b"BD" and first[_MDB + 124:_MDB + 126] == b"H+":
        return "hfs+"                  # in the shell of an HFS volume that is otherwise empty
    return next((name for name, at, magic in SIGNATURES if first[at:at + len(magic)] == magic), "")
