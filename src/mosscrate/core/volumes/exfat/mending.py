"""Working out from the files of an exFAT volume which clusters are in use."""

from __future__ import annotations

import numpy as np

from mosscrate.core.blocks import Blocks
from mosscrate.core.sizes import binary
from mosscrate.core.volumes.clusters import BAD
from mosscrate.core.volumes.exfat.editing import ExfatEditor
from mosscrate.core.volumes.exfat.soundness import claims_of, soundness
from mosscrate.core.volumes.soundness import must_be_mendable


def mend(blocks: Blocks) -> str:
    """Write a bitmap that agrees with the files. Returns a sentence.

    Raises FitError, before anything is written, where files contradict one another.
    """
    editor = ExfatEditor(blocks)
    volume = editor.volume
    tree = volume.tree()
    sound = soundness(volume, tree)
    must_be_mendable(sound)
    first, last, _ = claims_of(volume, tree)[0].merged()
    bits = np.zeros(volume.geometry.cluster_count, bool)
    for a, b in zip((first - 2).tolist(), (last - 2).tolist(), strict=True):
        bits[a:b] = True
    bits |= volume.table[2:] == BAD
    editor.replace_bitmap(bits)
    editor.commit()
    return (f"The bitmap agrees with the files: {binary(sound.unmarked)} were marked as free, {binary(sound.lost)} as "
            "used.")
