"""Kinds of volumes by their short names, such as "ext4" or "ffs-intl", and how people write them."""

from __future__ import annotations

_WRITTEN = {"exfat": "exFAT", "f2fs": "F2FS", "btrfs": "Btrfs", "squashfs": "SquashFS", "iso9660": "ISO 9660",
            "swap": "swap", "cramfs": "cramfs", "romfs": "romfs", "ext2": "ext2", "ext3": "ext3", "ext4": "ext4",
            "gemdos-floppy": "GEMDOS"}
_VARIANTS = {"intl": "international", "cache": "with directory cache", "long": "with long names"}


def shown_kind(kind: str) -> str:
    """The kind that a volume shows once it is made: a variant shows what it is a variant of."""
    if kind.startswith("gemdos"):
        return "fat16" if kind == "gemdos" else "fat12"
    return kind.partition("-")[0] if kind.startswith(("ofs", "ffs")) else kind


def longest_name(kind: str) -> int:
    """Characters that a name can have there."""
    if kind.startswith("gemdos"):
        return 12
    if kind.startswith(("ofs", "ffs")):
        return 107 if kind.endswith("-long") else 30
    return 255


def kind_name(kind: str) -> str:
    """exFAT, FAT32, ext4, FFS international; "" stays ""."""
    if kind in _WRITTEN:
        return _WRITTEN[kind]
    family, _, variant = kind.partition("-")
    return f"{family.upper()} {_VARIANTS.get(variant, variant)}".rstrip()
