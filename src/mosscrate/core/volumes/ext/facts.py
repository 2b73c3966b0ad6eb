"""What is true of ext2, ext3 and ext4."""

from __future__ import annotations

from mosscrate.core.errors import FitError
from mosscrate.core.volumes.ext import directory
from mosscrate.core.volumes.facts import Facts

LABEL_BYTES = 16


def label_of(label: str) -> str:
    """As it is. Raises FitError."""
    if len(label.encode()) > LABEL_BYTES:
        raise FitError(f"“{label}” cannot be an ext label: it holds {LABEL_BYTES} bytes at most.")
    return label


def entry_bytes(name: str) -> int:
    """Eight bytes and the name, to a multiple of four; a block may be left with a gap of one entry."""
    return 12 + len(name.encode("utf-8", "surrogateescape"))


def extra_blocks(size: int, block: int) -> int:
    """Lists of blocks; extents need fewer."""
    count, per = -(-size // block), block // 4
    return 0 if count <= 12 else 1 + count // per + (2 if count > per else 0)


FACTS = tuple(Facts(kind, kind, "ext", directory.why_not, label_of, blocks=(1024, 2048, 4096), ids="uuid",
                    has_owners=True, has_links=True, folded=str, is_mostly_room=True,
                    has_journal=kind != "ext2",
                    entry_bytes=entry_bytes, extra_blocks=extra_blocks)
              for kind in ("ext4", "ext3", "ext2"))
