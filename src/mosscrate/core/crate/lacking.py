"""What a backup lacks of a card that could not be read as a whole, in words."""

from __future__ import annotations

from mosscrate.core.crate.record import BackupRecord, HoledFile
from mosscrate.core.findings import Finding, Severity
from mosscrate.core.sizes import counted

NAMED = 5                         # files that a sentence names


def lack_of(record: BackupRecord) -> tuple[Finding, ...]:
    """What an incomplete backup lacks; nothing of a whole one."""
    if record.is_complete:
        return ()
    return (Finding(Severity.PROBLEM, f"Incomplete: {counted(len(record.unreadable), 'place')} of the card could not "
                    f"be read, first at byte {record.unreadable[0][0]:,}.",
                    remedy="Everything else is here." if record.whole is None else kept(record)),)


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
    more = f" and {len(holed) - NAMED} more" if len(holed) > NAMED else ""
    return ", ".join(each.path for each in holed[:NAMED]) + more
