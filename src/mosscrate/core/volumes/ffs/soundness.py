"""Whether what the headers of an OFS or FFS volume claim is what its bitmap says."""

from __future__ import annotations

from mosscrate.core.volumes.base import Tree
from mosscrate.core.volumes.ffs.claiming import claimed_blocks
from mosscrate.core.volumes.ffs.volume import FfsVolume
from mosscrate.core.volumes.soundness import Soundness, unreadable


def soundness(volume: FfsVolume, tree: Tree) -> Soundness:
    """Headers, lists and comments against one another and against the bitmap. Raises MediumError."""
    claims, found = claimed_blocks(volume)
    broken = [finding.sentence for finding in found]
    crossed = int((claims > 1).sum())
    if crossed:
        broken.append(f"{crossed} blocks belong to more than one file or folder, so at most one of them is whole.")
    if not volume.is_clean:
        return Soundness((*unreadable(tree), *broken))    # free room is worked out from the files then
    claimed, used = claims > 0, volume.used
    unmarked, lost = int((claimed & ~used).sum()), int((used & ~claimed).sum())
    return Soundness((*unreadable(tree), *broken), unmarked * volume.block, lost * volume.block)
