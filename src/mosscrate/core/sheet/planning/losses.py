"""What would be lost when a target is written over: counted, and compared with what is kept."""

from __future__ import annotations

from mosscrate.core.blocks import Blocks
from mosscrate.core.blocks.streaming import digest
from mosscrate.core.contents.files import FileKind, count_kinds
from mosscrate.core.contents.layout import Layout
from mosscrate.core.contents.roles import Role
from mosscrate.core.contents.straight import straight
from mosscrate.core.contents.survey import open_partition, partition_window, survey
from mosscrate.core.crate import Backup, Crate
from mosscrate.core.errors import GuardRefusal, MossError
from mosscrate.core.findings import Finding, Severity
from mosscrate.core.sheet.steps.shared.comparing import file_digests
from mosscrate.core.sizes import counted
from mosscrate.core.slots import Medium
from mosscrate.core.volumes import Entry, Kind
from mosscrate.core.watch import Watch

SHOWN = 3


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
    return _unkept(_files(medium, layout), backup)


def _unkept(now: list[tuple[int, Entry]], backup: Backup | None) -> list[Entry]:
    if backup is None:
        return [e for _, e in now]
    try:
        with backup.open() as image:
            kept = {(index, e.path, e.size, e.modified) for index in {i for i, _ in now}
                    for e in open_partition(image, index).tree().entries}
    except MossError:
        return [e for _, e in now]
    return [e for index, e in now if (index, e.path, e.size, e.modified) not in kept]


def must_be_kept_still(medium: Medium, card: Blocks, crate: Crate, watch: Watch) -> None:
    """Compare a card that is “kept already” with what its backup holds, byte for byte.

    Contents may have changed without any name, size or time being another. Raises GuardRefusal with what differs;
    a card of which it was said before that it is in no backup is not looked at.
    """
    layout = survey(card)
    latest = next(reversed(crate.backups_of(medium.key)), None)
    if latest is None or layout.is_blank or _unkept(_files_on(card, layout), latest):
        return
    try:
        with latest.open() as image:
            differing = _differing(card, image, layout, watch)
    except MossError as error:
        raise GuardRefusal(f"{medium.name} counts as kept, but its backup cannot be compared: {error} Keep it anew "
                           "first; nothing was changed.") from error
    if differing:
        more = f" and {len(differing) - SHOWN} more" if len(differing) > SHOWN else ""
        raise GuardRefusal(f"{medium.name} counts as kept, but what it holds has changed since, with names, sizes and "
                           f"times as they were: {', '.join(differing[:SHOWN])}{more}. Keep it anew first; nothing was "
                           "changed.")


def _differing(card: Blocks, image: Blocks, layout: Layout, watch: Watch) -> list[str]:
    found = []
    for look in layout.partitions:
        if look.volume and look.volume.used is not None:
            now, then = (file_digests(open_partition(blocks, look.index), lambda _: watch.check())
                         for blocks in (card, image))
            found += [f"“{path}”" for path, what in now.items() if then.get(path) != what]
        elif look.role == Role.UNKNOWN or look.volume:
            pair = [partition_window(straight(blocks), look.partition) for blocks in (card, image)]
            if len({digest(w, w.size, watch, phase="Comparing with the backup") for w in pair}) > 1:
                found.append(look.name)
    return found


def _files(medium: Medium, layout: Layout) -> list[tuple[int, Entry]]:
    with medium.open() as blocks:
        return _files_on(blocks, layout)


def _files_on(blocks: Blocks, layout: Layout) -> list[tuple[int, Entry]]:
    found = []
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
