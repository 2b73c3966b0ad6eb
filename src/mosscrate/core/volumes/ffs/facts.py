"""What is true of OFS and FFS and their variants."""

from __future__ import annotations

from functools import partial

from mosscrate.core.errors import FitError
from mosscrate.core.maps import MapKind
from mosscrate.core.volumes.facts import Facts
from mosscrate.core.volumes.ffs import structures as s

UNNAMED = "Empty"
LARGEST_FILE = 2**31 - 1                # sizes are signed on these machines
_VARIANTS = {"": "", "intl": " international", "cache": " with directory cache", "long": " with long names"}


def label_of(label: str) -> str:
    """Such a volume always has a name. Raises FitError."""
    label = label or UNNAMED
    problem = s.why_not(label)
    if problem:
        raise FitError(f"“{label}” cannot be the name of an OFS or FFS volume: {problem}.")
    return label


def extra_blocks(size: int, block: int) -> int:
    """Its header and lists of blocks; on OFS each block of data has 24 bytes of its own, in every case one comment."""
    data = -(-size // (block - 24))
    return 2 + data - -(-size // block) + data // (block // 4 - 56)


def _facts(kind: str) -> Facts:
    family, _, variant = kind.partition("-")
    most = s.MAX_LONG_NAME if variant == "long" else s.MAX_NAME
    return Facts(kind, f"{family.upper()}{_VARIANTS[variant]}", "ffs", partial(s.why_not, most=most), label_of,
                 plain=family.upper(), shows=family, ids="moment", longest_name=most, largest_file=LARGEST_FILE,
                 blocks=s.BLOCK_SIZES, has_links=True, has_comments=True, is_resized_anew=True, is_known_swapped=True,
                 longest_tail=2 * s.SEARCHED,                  home=MapKind.RDB, extra_blocks=extra_blocks)


FACTS = tuple(_facts(kind) for kind in (
    "ffs-intl", "ffs", "ofs-intl", "ofs", "ffs-cache", "ofs-cache", "ffs-long", "ofs-long"))
