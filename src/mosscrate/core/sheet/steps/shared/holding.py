"""Whether a volume holds together: one that files are taken from, and one whose tables were written anew."""

from __future__ import annotations

from mosscrate.core.blocks import Blocks
from mosscrate.core.contents.layout import PartitionLook
from mosscrate.core.contents.transfer import Passage
from mosscrate.core.errors import JobError
from mosscrate.core.findings import Finding, Severity
from mosscrate.core.volumes import why_unsound


def must_hold_together(window: Blocks, name: str) -> None:
    """Raises JobError where tables and files of a volume that was just resized do not agree; MediumError."""
    if because := why_unsound(window):
        raise JobError(f"{name} does not hold together after its size was changed: {because} Take the job back: what "
                       "it overwrote is in its journal, and the volume is then as it was.")


def tell_contradictions(passage: Passage, look: PartitionLook) -> None:
    """Say of files that come from a volume whose tables contradict one another that they may not be whole."""
    if look.volume is not None and look.volume.unsound:
        passage.findings.append(Finding(Severity.WARNING, f"What comes from {look.name} may not be whole: "
                                        f"{look.volume.unsound}", look.name, look.index))
