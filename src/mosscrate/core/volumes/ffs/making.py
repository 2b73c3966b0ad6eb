"""A fresh OFS or FFS volume: boot block, root in the middle, bitmap behind it."""

from __future__ import annotations

import numpy as np

from mosscrate.core.blocks import Blocks
from mosscrate.core.errors import FitError
from mosscrate.core.maps.dostypes import DOS_TYPES
from mosscrate.core.sizes import binary
from mosscrate.core.volumes.base import Making
from mosscrate.core.volumes.ffs import structures as s
from mosscrate.core.volumes.ffs.caching import empty_cache
from mosscrate.core.volumes.ffs.facts import label_of
from mosscrate.core.volumes.signatures import FIRST_BYTES

LEAST_BLOCKS = 64


def make(blocks: Blocks, making: Making) -> None:
    """Make an empty volume over all of `blocks`. Raises FitError before anything is written, MediumError."""
    block = making.block or 512
    if block not in s.BLOCK_SIZES:
        raise FitError(f"Such a volume has blocks of 512 to 4096 bytes, not {binary(block)}.")
    total = blocks.size // block
    if total < LEAST_BLOCKS:
        raise FitError(f"{binary(blocks.size)} are too few for an OFS or FFS volume.")
    label = label_of(making.label)
    root, per = s.root_place(total), block // 4 - 1
    count = -(-(total - s.RESERVED) // (32 * per))
    extensions = -(-max(0, count - s.BM_PAGES_IN_ROOT) // per)
    pages = list(range(root + 1, root + 1 + count))
    lists = list(range(root + 1 + count, root + 1 + count + extensions))
    cache = root + 1 + count + extensions if DOS_TYPES[making.kind] in s.CACHED else 0
    if max(cache, *lists, *pages) >= total:
        raise FitError(f"{binary(blocks.size)} are too few for an OFS or FFS volume.")
    blocks.zero(0, min(blocks.size, FIRST_BYTES))
    _write_bitmap(blocks, block, total, (root, *pages, *lists, *((cache,) if cache else ())), pages)
    for index, number in enumerate(lists):
        longs = np.zeros(block // 4, ">u4")
        part = pages[s.BM_PAGES_IN_ROOT + index * per:][:per]
        longs[:len(part)] = part
        longs[-1] = lists[index + 1] if index + 1 < len(lists) else 0
        blocks.write(number * block, longs.tobytes())
    longs = np.zeros(block // 4, ">u4")
    longs[s.TYPE], longs[s.SEC_TYPE], longs[s.BM_FLAG] = s.T_HEADER, s.ST_ROOT, 0xFFFFFFFF
    longs[s.DATA_SIZE] = block // 4 - s.TABLE - s.TABLE_TAIL
    longs[s.BM_PAGES:s.BM_PAGES + min(count, s.BM_PAGES_IN_ROOT)] = pages[:s.BM_PAGES_IN_ROOT]
    longs[s.BM_EXT] = lists[0] if lists else 0
    now = s.stamp_of(making.made)
    for at, stamp in ((s.DAYS, now), (s.ROOT_ALTERED, now), (s.ROOT_CREATED, s.stamp_in(making.id) or now)):
        longs[at:at + 3] = stamp
    s.put_text(longs, s.NAME, label, 32)
    longs[s.EXTENSION] = cache
    if cache:
        blocks.write(cache * block, empty_cache(cache, root, block))
    blocks.write(root * block, s.seal(longs))
    dos_type = b"DOS" + bytes((DOS_TYPES[making.kind],))
    blocks.write(0, dos_type + (making.boot[4:s.BOOT_BYTES] if making.boot[:4] == dos_type else b""))


def _write_bitmap(blocks: Blocks, block: int, total: int, used: tuple[int, ...], pages: list[int]) -> None:
    free = np.zeros(-(-(total - s.RESERVED) // 32) * 32, bool)
    free[:total - s.RESERVED] = True
    free[np.array(used) - s.RESERVED] = False
    words, per = np.packbits(free, bitorder="little").view("<u4"), block // 4 - 1
    for index, page in enumerate(pages):
        longs = np.zeros(block // 4, ">u4")
        part = words[index * per:(index + 1) * per]
        longs[1:1 + len(part)] = part
        blocks.write(page * block, s.seal(longs, 0))
