"""Mending what can be mended on a FAT volume without touching a file: lost clusters, copies of the FAT, counts."""

from __future__ import annotations

import numpy as np

from mosscrate.core.blocks import Blocks
from mosscrate.core.sizes import binary
from mosscrate.core.volumes.clusters import BAD, FREE, Followed
from mosscrate.core.volumes.fat.editing import FatEditor
from mosscrate.core.volumes.fat.soundness import soundness
from mosscrate.core.volumes.fat.table import encode, head_of
from mosscrate.core.volumes.soundness import must_be_mendable

PIECE = 4 << 20


def mend(blocks: Blocks) -> str:
    """Free what belongs to no file, and make all copies of the FAT and the counts agree. Returns a sentence.

    Raises FitError, before anything is written, where files contradict one another.
    """
    editor = FatEditor(blocks)
    volume, g = editor.volume, editor.volume.geometry
    tree = volume.tree()
    sound = soundness(volume, tree)
    must_be_mendable(sound)
    heads = np.array([e.node for e in tree.entries if e.node] + ([g.root_cluster] if volume.boot.is_fat32 else []),
                     np.int64)
    claimed = np.zeros(len(volume.table), bool)
    followed = Followed(volume.chains, heads)
    for first, count in zip(followed.firsts, followed.counts, strict=True):
        for at, number in zip(first.tolist(), count.tolist(), strict=True):
            claimed[at:at + number] = True
    claimed[:2] = True
    table = volume.table.copy()
    table[~claimed & (table != BAD)] = FREE
    raw = encode(table, g.type, head=head_of(blocks, g, volume.boot.active_fat))
    editor.replace_table(table)
    for copy in range(g.fat_count):
        for at in range(0, len(raw), PIECE):
            blocks.write(g.fat_offset(copy) + at, raw[at:at + PIECE])
    editor.commit()
    return f"{binary(sound.lost)} that belonged to no file are free again; the tables agree."
