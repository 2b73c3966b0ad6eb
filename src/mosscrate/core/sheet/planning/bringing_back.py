"""Sheets that bring kept files back onto a card; what is there under their names stays under dated ones."""

from __future__ import annotations

from mosscrate.core.blocks import Blocks
from mosscrate.core.contents import survey
from mosscrate.core.contents.layout import Layout
from mosscrate.core.contents.survey import open_partition
from mosscrate.core.crate import Backup
from mosscrate.core.crate.library import KeptFile, contents_of, files_in
from mosscrate.core.errors import FitError
from mosscrate.core.sheet.bench import Bench
from mosscrate.core.sheet.sheet import JobSheet, reference
from mosscrate.core.sheet.step import Existing
from mosscrate.core.sheet.steps import CopyFiles
from mosscrate.core.slots import Medium


def bringing_back(file: KeptFile, card: Medium, bench: Bench, *, partition: int | None = None) -> JobSheet:
    """One file. Raises MediumError where the backup or the card cannot be read.

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


def bringing_all_back(backup: Backup, card: Medium, bench: Bench) -> JobSheet:
    """Every file of a backup that is not on the card as it was kept; equal ones are left alone.

    Raises FitError where nothing is to be done, or a partition is not there; MediumError, FormatError.
    """
    wanted: dict[int, list[KeptFile]] = {}
    for file in files_in(backup):
        wanted.setdefault(file.partition, []).append(file)
    with card.open() as blocks:
        layout = survey(blocks)
        missing = {index: _missing(blocks, layout, index, files, card) for index, files in wanted.items()}
    steps = tuple(CopyFiles(index, index, existing=Existing.KEEP_BOTH, only=paths)
                  for index, paths in missing.items() if paths)
    if not steps:
        raise FitError(f"Every file of this backup is on {card.name} as it was kept. Nothing is to be done.")
    return JobSheet(steps, reference(bench.shelf.medium_at(backup.path)), reference(card))


def _missing(blocks: Blocks, layout: Layout, index: int, files: list[KeptFile], card: Medium) -> tuple[str, ...]:
    """Paths of files that a partition does not hold with the same contents."""
    look = next((each for each in layout.partitions if each.index == index), None)
    if look is None or look.volume is None or look.volume.used is None:
        raise FitError(f"{card.name} has no partition {index} that can take them. Nothing was changed.")
    volume = open_partition(blocks, index)
    tree = volume.tree()

    def is_there(file: KeptFile) -> bool:
        now = tree.find(file.path)
        return now is not None and now.size == file.size and contents_of(volume.read_file(now)) == file.contents

    return tuple(file.path for file in files if not is_there(file))
