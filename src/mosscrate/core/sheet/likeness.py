"""What a volume that is made anew keeps of the old one besides its files: label, serial number, boot code, blocks."""

from __future__ import annotations

from mosscrate.core.blocks import Blocks
from mosscrate.core.volumes import Making, Volume

BOOT_BYTES = 1024
_FAMILIES = (("fat", "exfat", "gemdos"), ("ext",), ("ofs", "ffs"))       # within one, ids are written alike


def making_like(old: Volume, window: Blocks, kind: str, *, block: int | None = None, hidden_sectors: int = 0) -> Making:
    """How to make a volume of a kind after an old one, whose bytes begin `window`. Raises MediumError.

    Boot code is kept where the kind is the same. `block` in bytes; None keeps that of the same kind.
    """
    is_same_kind = kind == old.variant
    boot = window.read(0, min(window.size, BOOT_BYTES)) if is_same_kind else b""
    return Making(kind, _label_for(kind, old.label), block or (old.block if is_same_kind else None),
                  id=_id_for(kind, old), hidden_sectors=hidden_sectors, boot=boot)


def _label_for(kind: str, label: str) -> str:
    """A label as far as a kind can hold it; the firmware looks for it."""
    if kind.startswith("ext"):
        return label.encode()[:16].decode("utf-8", "ignore")
    return label[:30] if kind.startswith(("ofs", "ffs")) else label[:11]


def _id_for(kind: str, old: Volume) -> str:
    """The old serial number, UUID or moment of creation, where both kinds write it alike."""
    is_alike = any(kind.startswith(names) and old.variant.startswith(names) for names in _FAMILIES)
    return old.id if is_alike else ""
