"""What would be lost when a target is written over: counted, and compared with what is kept."""

from __future__ import annotations

from mosscrate.core.contents.files import FileKind, count_kinds
from mosscrate.core.contents.layout import Layout
from mosscrate.core.contents.roles import Role
from mosscrate.core.contents.survey import open_partition
from mosscrate.core.crate import Backup, Crate
from mosscrate.core.errors import MossError
from mosscrate.core.findings import Finding, Severity
from mosscrate.core.sizes import counted
from mosscrate.core.slots import Medium
from mosscrate.core.volumes import Entry, Kind


def what_would_be_lost(medium: Medium, layout: Layout, crate: Crate) -> tuple[Finding, ...]:
    """Sentences about the contents of a target, most serious first."""
    closed = [p.name for p in layout.partitions if p.volume and p.volume.used is None]
    unknown = [p.name if p.index else "What is on this card" for p in layout.partitions
               if p.role == Role.UNKNOWN and not layout.is_blank]
    if layout.is_closed:
        unknown = ["What is on this card"]
    if not layout.files and not closed and not unknown:
        return (Finding(Severity.GOOD, "Nothing is on it that could be lost."),)
    latest = next(reversed(crate.backups_of(medium.key)), None)
    found = [_closed(name, latest) for name in (*closed, *unknown)]
    if layout.files:
        unkept = unkept_files(medium, layout, latest)
        found.insert(0, _sentence(unkept, layout.files, latest))
    return tuple(found)


def unkept_files(medium: Medium, layout: Layout, backup: Backup | None) -> list[Entry]:
    """Files of a medium that its latest backup does not hold with the same size and time."""
    now = _files(medium, layout)
    if backup is None:
        return [e for _, e in now]
    try:
        with backup.open() as image:
            kept = {(index, e.path, e.size, e.modified) for index in {i for i, _ in now}
                    for e in open_partition(image, index).tree().entries}
    except MossError:
        return [e for _, e in now]
    return [e for index, e in now if (index, e.path, e.size, e.modified) not in kept]


def _files(medium: Medium, layout: Layout) -> list[tuple[int, Entry]]:
    found = []
    with medium.open() as blocks:
        for look in layout.partitions:
            if look.volume and look.volume.used is not None:
                entries = open_partition(blocks, look.index).tree().entries
                found += [(look.index, e) for e in entries if e.kind == Kind.FILE]
    return found


def _sentence(unkept: list[Entry], total: int, latest: Backup | None) -> Finding:
    if not unkept and latest:
        return Finding(Severity.GOOD, f"All {counted(total, 'file')} on it are in the backup of "
                       f"{latest.kept_at:%d %B %Y}.")
    kinds = count_kinds(unkept)
    saves, others = kinds[FileKind.SAVE], len(unkept) - kinds[FileKind.SAVE]
    named = " and ".join(filter(None, (counted(saves, "save") if saves else "",
                                       counted(others, "other file" if saves else "file") if others else "")))
    verb = "is" if len(unkept) == 1 else "are"
    return Finding(Severity.WARNING, f"{named} on this card {verb} in no backup.",
                   remedy="Keep the card first; it is one step on the sheet.")


def _closed(name: str, latest: Backup | None) -> Finding:
    if latest:
        return Finding(Severity.NOTE, f"{name} cannot be looked into; the backup of {latest.kept_at:%d %B %Y} "
                       "holds it as it was then.")
    return Finding(Severity.WARNING, f"{name} cannot be looked into and is in no backup.",
                   remedy="Keep the card first; it is one step on the sheet.")
