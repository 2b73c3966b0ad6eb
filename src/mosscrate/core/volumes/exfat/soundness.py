"""Whether what the files of an exFAT volume claim is what its bitmap says."""

from __future__ import annotations

import numpy as np

from mosscrate.core.blocks.runs import runs_of
from mosscrate.core.errors import FormatError
from mosscrate.core.volumes.base import Kind, Tree
from mosscrate.core.volumes.clusters import BAD, ROOT, Followed
from mosscrate.core.volumes.exfat.volume import ExfatVolume
from mosscrate.core.volumes.soundness import Claims, Soundness, unmarked_in, unreadable

_SPECIAL = {-1: ROOT, -2: "the bitmap", -3: "the up-case table"}


def claims_of(volume: ExfatVolume, tree: Tree) -> tuple[Claims, list[str]]:
    """Every run of clusters that something holds, and sentences about what cannot be followed. Raises MediumError."""
    entries, g = tree.entries, volume.geometry
    rows = [volume.row_of(e) for e in entries]
    first = np.array([r.first_cluster for r in rows], np.int64)
    counts = -(-np.array([r.data_length for r in rows], np.int64) // g.cluster)
    is_whole = np.array([r.is_contiguous for r in rows], bool)
    claims = Claims(lambda n: _SPECIAL.get(n) or entries[n].path)
    broken = [f"“{entries[n].path}” has a size but no clusters."
              for n in np.flatnonzero((counts > 0) & (first == 0)).tolist()]
    filled = (counts > 0) & (first != 0)
    outside = filled & is_whole & ((first < 2) | (first + counts > g.cluster_count + 2))
    broken += [f"“{entries[n].path}” goes on behind the end of the volume." for n in np.flatnonzero(outside).tolist()]
    lying = np.flatnonzero(filled & is_whole & ~outside)
    claims.add(first[lying], counts[lying], lying)
    chained = np.flatnonzero(filled & ~is_whole)
    owners, heads = list(chained.tolist()), first[chained].tolist()
    try:
        heads += [g.root_cluster, volume.bitmap_place[0], volume.upcase_place[0]]
        owners += [-1, -2, -3]
    except FormatError as error:
        broken.append(str(error))
        heads, owners = [*heads, g.root_cluster], [*owners, -1]
    followed = Followed(volume.chains, np.array(heads, np.int64))
    followed.into(claims, np.array(owners, np.int64))
    broken += [f"The chain of “{claims.name(owners[n])}” leads to clusters that are free or not there."
               for n in sorted(followed.broken)]
    totals = followed.totals(len(heads))
    for place, n in enumerate(chained.tolist()):
        if totals[place] < counts[n] and place not in followed.broken and entries[n].kind == Kind.FILE:
            broken.append(f"“{entries[n].path}” says {rows[n].data_length} bytes, its chain holds "
                          f"{totals[place] * g.cluster}.")
    return claims, broken


def soundness(volume: ExfatVolume, tree: Tree) -> Soundness:
    """Files against one another and against the bitmap. Raises MediumError."""
    claims, broken = claims_of(volume, tree)
    first, last, crossed = claims.merged()
    try:
        used = runs_of(volume.bitmap) + 2
    except FormatError as error:
        return Soundness((*unreadable(tree), *crossed, *broken, str(error)))
    unmarked = unmarked_in(first, last, used[:, 0].astype(np.int64), used[:, 1].astype(np.int64))
    bad = int(np.count_nonzero(volume.table[2:] == BAD))
    lost = int((used[:, 1] - used[:, 0]).sum()) - (int((last - first).sum()) - unmarked) - bad
    unit = volume.geometry.cluster
    return Soundness((*unreadable(tree), *crossed, *broken), unmarked * unit, max(0, lost) * unit)
