"""Working out from the inodes of an ext volume which blocks are in use."""

from __future__ import annotations

import numpy as np

from mosscrate.core.blocks import Blocks
from mosscrate.core.sizes import binary
from mosscrate.core.volumes.ext.filesystem import open_filesystem
from mosscrate.core.volumes.ext.soundness import claims_of, soundness
from mosscrate.core.volumes.ext.volume import open_ext
from mosscrate.core.volumes.ext.writer import Writer
from mosscrate.core.volumes.soundness import must_be_mendable


def mend(blocks: Blocks) -> str:
    """Write block bitmaps and counts that agree with the inodes. Returns a sentence.

    Raises FitError, before anything is written, where files contradict one another.
    """
    volume = open_ext(blocks)
    volume.fs.must_be_changeable()
    tree = volume.tree()
    sound = soundness(volume, tree)
    must_be_mendable(sound)
    first, last, _ = claims_of(volume, tree)[0].merged()
    used = np.zeros(volume.fs.block_count, bool)
    for a, b in zip(first.tolist(), last.tolist(), strict=True):
        used[a:b] = True
    fs = open_filesystem(blocks)
    writer = Writer(fs, forgoes_free=False)
    for group in range(fs.groups):
        start, length = fs.group_start(group), fs.group_length(group)
        bits = writer.bitmaps.block_bits(group)
        wanted = used[start:start + length]
        if (bits[:length] != wanted).any():
            bits[:length] = wanted
            writer.bitmaps.changed_blocks.add(group)
        fs.put("free_blocks_count", group, int(np.count_nonzero(~wanted)))
    writer.commit()
    return (f"The bitmaps agree with the files: {binary(sound.unmarked)} were marked as free, {binary(sound.lost)} as "
            "used.")
