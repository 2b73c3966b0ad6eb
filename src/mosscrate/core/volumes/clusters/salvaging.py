"""What can still be read of a folder that is damaged: as far as its chain leads, without the clusters that fail."""

from __future__ import annotations

from collections.abc import Iterable

from mosscrate.core.blocks import Blocks
from mosscrate.core.errors import FormatError, MediumError
from mosscrate.core.volumes.clusters.chains import Chains
from mosscrate.core.volumes.clusters.table import BAD, FREE, Clustered

MOST_FAILURES = 8                        # clusters that fail before no more is tried: each may take seconds


def salvaged(blocks: Blocks, geometry: Clustered, clusters: Iterable[int]) -> bytes:
    """The bytes of those clusters that can be read."""
    found, failures = bytearray(), 0
    for cluster in clusters:
        try:
            found += blocks.read(geometry.cluster_offset(cluster), geometry.cluster)
        except MediumError:
            failures += 1
            if failures == MOST_FAILURES:
                break
    return bytes(found)


def as_far(chains: Chains, first: int, most: int) -> list[int]:
    """Clusters of a chain, at most so many, up to where it breaks or comes back to itself.

    The first one counts, whatever the table says of it: something else leads to it.
    """
    if not 2 <= first < len(chains.table):
        return []
    found = list[int]()
    try:
        for at, count in chains.followed(first):
            found += range(at, at + min(count, most - len(found)))
            if len(found) >= most:
                break
    except FormatError:
        pass
    unique = list(dict.fromkeys(found)) or [first]
    is_stray = len(unique) > 1 and chains.table[unique[-1]] in (FREE, BAD)
    return unique[:-1] if is_stray else unique
