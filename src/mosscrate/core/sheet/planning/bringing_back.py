"""The sheet that brings one kept file back onto its card; what is there under its name stays under a dated one."""

from __future__ import annotations

from mosscrate.core.crate.library import KeptFile
from mosscrate.core.sheet.bench import Bench
from mosscrate.core.sheet.sheet import JobSheet, reference
from mosscrate.core.sheet.step import Existing
from mosscrate.core.sheet.steps import CopyFiles
from mosscrate.core.slots import Medium


def bringing_back(file: KeptFile, card: Medium, bench: Bench, *, partition: int | None = None) -> JobSheet:
    """Raises MediumError where the backup or the card cannot be read.

    Args:
        file: of a backup.
        card: that takes it.
        bench: whose shelf knows the backup.
        partition: of the card; the one it was on where it is left out.
    """
    backup = bench.shelf.medium_at(file.backup.path)
    step = CopyFiles(file.partition, file.partition if partition is None else partition,
                     folder=file.path.rpartition("/")[0], path=file.path, existing=Existing.KEEP_BOTH)
    return JobSheet((step,), reference(backup), reference(card))
