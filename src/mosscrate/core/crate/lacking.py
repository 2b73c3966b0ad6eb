"""What a backup lacks of a card that could not be read as a whole, in words."""

from __future__ import annotations

from mosscrate.core.crate.record import BackupRecord
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
    holes = record.holed
    if not holes:
        return f"All {record.whole} files are whole." if record.whole else "No file was found on it."
    more = f" and {len(holes) - NAMED} more" if len(holes) > NAMED else ""
    have = "has" if len(holes) == 1 else "have"
    named = ", ".join(file.path for file in holes[:NAMED])
    return (f"{counted(record.whole or 0, 'file')} are whole; {counted(len(holes), 'file')} {have} holes, zeros there: "
            f"{named}{more}.")
