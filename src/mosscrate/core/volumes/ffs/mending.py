"""Working out from the files of an OFS or FFS volume which blocks are in use."""

from __future__ import annotations

from mosscrate.core.blocks import Blocks
from mosscrate.core.sizes import binary
from mosscrate.core.volumes.ffs.editing import FfsEditor


def mend(blocks: Blocks) -> str:
    """Write a valid bitmap that agrees with the files; returns a sentence.

    Raises FitError, before anything is written, where some file cannot be followed.
    """
    editor = FfsEditor(blocks)
    editor.rebuild_bitmap()
    editor.commit()
    return f"The bitmap is valid and agrees with the files; {binary(editor.volume.free)} are free."
