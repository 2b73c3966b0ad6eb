"""Whether a volume holds together after its tables were written anew."""

from __future__ import annotations

from mosscrate.core.blocks import Blocks
from mosscrate.core.errors import JobError
from mosscrate.core.volumes import why_unsound


def must_hold_together(window: Blocks, name: str) -> None:
    """Raises JobError where tables and files of a volume that was just resized do not agree; MediumError."""
    if because := why_unsound(window):
        raise JobError(f"{name} does not hold together after its size was changed: {because} Take the job back: what "
                       "it overwrote is in its journal, and the volume is then as it was.")
