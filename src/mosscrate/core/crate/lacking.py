"""What a backup lacks of a card that could not be read as a whole, in words."""

from __future__ import annotations

from mosscrate.core.blocks import Extent
from mosscrate.core.contents.fingerprint import State
from mosscrate.core.contents.left import lying_at
from mosscrate.core.crate.crate import Backup
from mosscrate.core.crate.record import BackupRecord, HoledFile
from mosscrate.core.errors import MossError
from mosscrate.core.findings import Finding, Severity
from mosscrate.core.sizes import counted, some_of

NAMED = 5                         # files that a sentence names


def lack_of(record: BackupRecord) -> tuple[Finding, ...]:
    """What an incomplete backup lacks; nothing of a whole one."""
    if record.is_complete:
        return ()
    return (Finding(Severity.PROBLEM, f"Incomplete: {counted(len(record.unreadable), 'place')} of the card could not "
                    f"be read, first at byte {record.unreadable[0][0]:,}.",
                    remedy="Everything else is here." if record.whole is None else kept(record)),)


def files_lacking(backup: Backup) -> str:
    """Which files of a card lie where it could not be read, in a sentence; "" of a whole backup."""
    if backup.record.is_complete:
        return ""
    try:
        with backup.open() as blocks:
            found = lying_at((Extent(start, length) for start, length in backup.record.unreadable), State(blocks))
    except MossError:
        return "Which files lie there cannot be told."
    if not found:
        return "No file lies there."
    are = "1 file lies" if len(found) == 1 else f"{len(found)} files lie"
    return f"{are} there: {some_of([path for _, path in found], NAMED)}."


def kept(record: BackupRecord) -> str:
    """What a backup of a rescue lacks."""
    holes, folders = ([h for h in record.holed if h.is_folder == is_folder] for is_folder in (False, True))
    found = "files that were found" if folders else "files"
    said = f"All {record.whole} {found} are whole." if record.whole else "No file was found on it."
    if holes:
        have = "has" if len(holes) == 1 else "have"
        said = (f"{counted(record.whole or 0, 'file')} are whole; {counted(len(holes), 'file')} {have} holes, zeros "
                f"there: {_named(holes)}.")
    if folders:
        said += (f" Of {counted(len(folders), 'folder')} a part is missing, with the files that it named: "
                 f"{_named(folders)}.")
    return said


def _named(holed: list[HoledFile]) -> str:
    return some_of([each.path for each in holed], NAMED)
