"""What would be lost when a target is written over: counted, and compared with what is kept."""

from __future__ import annotations

from dataclasses import replace
from datetime import datetime

from mosscrate.core.blocks import Blocks
from mosscrate.core.blocks.streaming import digest
from mosscrate.core.contents.layout import Layout
from mosscrate.core.contents.roles import Role
from mosscrate.core.contents.straight import straight
from mosscrate.core.contents.survey import open_partition, partition_window, survey
from mosscrate.core.crate import Backup, Crate
from mosscrate.core.crate.unkept import Unkept, files_on, not_in, unkept_on
from mosscrate.core.errors import GuardRefusal, MossError
from mosscrate.core.findings import Finding, Severity
from mosscrate.core.sheet.steps.shared.comparing import file_digests
from mosscrate.core.sizes import counted, some_of
from mosscrate.core.slots import Medium
from mosscrate.core.watch import Watch

SHOWN = 3
BLANK = "The card looks blank: nothing was found at its ends, nor in the places between that were read."


def what_would_be_lost(medium: Medium, layout: Layout, crate: Crate) -> tuple[Finding, ...]:
    """Sentences about the contents of a target, most serious first."""
    closed = [p.name for p in layout.partitions if p.volume and p.volume.used is None]
    unknown = [p.name if p.index else "What is on this card" for p in layout.partitions
               if p.role == Role.UNKNOWN and (not layout.is_blank or layout.trace is not None)]
    if layout.is_closed:
        unknown = ["What is on this card"]
    unread = [(p.name, sentence) for p in layout.partitions if p.volume for sentence in p.volume.unread]
    if not layout.files and not closed and not unknown and not unread:
        return (Finding(Severity.GOOD, BLANK if layout.is_blank else "No file is on it."),)
    latest = next(reversed(crate.backups_of(medium.key)), None)
    found = [_unread(*unread[0], len(unread) - 1)] if unread else []
    if layout.files:
        with medium.open() as blocks:
            lost = _sentence(unkept_on(blocks, layout, latest, crate), layout.files, latest, crate.now())
        found.append(replace(lost, severity=Severity.NOTE, sentence=f"As far as it can be read: {lost.sentence}")
                     if unread and lost.severity == Severity.GOOD else lost)
    return (*found, *(_closed(name, latest) for name in (*closed, *unknown)))


def must_be_kept_still(medium: Medium, card: Blocks, crate: Crate, watch: Watch) -> None:
    """Compare a card that is “kept already” with what its backup holds, byte for byte.

    Contents may have changed without any name, size or time being another. Raises GuardRefusal with what differs;
    a card of which it was said before that it is in no backup is not looked at.
    """
    layout = survey(card)
    latest = next(reversed(crate.backups_of(medium.key)), None)
    if latest is None or layout.is_blank or not_in(latest, files_on(card, layout)):
        return
    try:
        with latest.open() as image:
            differing = _differing(card, image, layout, watch)
    except MossError as error:
        raise GuardRefusal(f"{medium.name} counts as kept, but its backup cannot be compared: {error} Keep it anew "
                           "first; nothing was changed.") from error
    if differing:
        raise GuardRefusal(f"{medium.name} counts as kept, but what it holds has changed since, with names, sizes and "
                           f"times as they were: {some_of(differing, SHOWN)}. Keep it anew first; nothing was "
                           "changed.")


def _differing(card: Blocks, image: Blocks, layout: Layout, watch: Watch) -> list[str]:
    found = []
    for look in layout.partitions:
        if look.volume and look.volume.used is not None and not look.volume.unsound:
            volumes = (open_partition(blocks, look.index) for blocks in (card, image))
            now, then = (file_digests(volume, volume.tree().entries, lambda _: watch.check()) for volume in volumes)
            found += [f"“{path}”" for path, what in now.items() if then.get(path) != what]
        elif look.role == Role.UNKNOWN or look.volume:
            pair = [partition_window(straight(blocks), look.partition) for blocks in (card, image)]
            if len({digest(w, w.size, watch, phase="Comparing with the backup") for w in pair}) > 1:
                found.append(look.name)
    return found


def _sentence(unkept: Unkept, total: int, latest: Backup | None, now: datetime) -> Finding:
    if not unkept.files and not unkept.elsewhere and latest:
        return Finding(Severity.GOOD, f"All {counted(total, 'file')} on it are in the backup of "
                       f"{latest.kept_at:%d %B %Y}.")
    remedy = "Keep the card first; it is one step on the sheet."
    if not unkept.files:
        return Finding(Severity.WARNING, "No backup of this card holds it as it is now, though the contents of all its "
                       "files are in one.", remedy=remedy)
    verb, newest = ("is" if len(unkept.files) == 1 else "are"), unkept.newest(now)
    when = f", {'the newest ' if len(unkept.files) > 1 else ''}from {newest}" if newest else ""
    beside = [f"{counted(unkept.uncompared, 'large file')} of them could be in that of another card; they were not "
              "compared."] if unkept.uncompared else []
    return Finding(Severity.WARNING, " ".join([f"{unkept.count} on this card {verb} in no backup{when}.", *beside]),
                   remedy=remedy)


def _unread(name: str, sentence: str, others: int) -> Finding:
    more = f" So it is with {counted(others, 'more folder')}." if others else ""
    return Finding(Severity.WARNING, f"{name} cannot be read in full: {sentence}{more} What is there may be in no "
                   "backup.",
                   remedy="Keep the card first; it is one step on the sheet.")


def _closed(name: str, latest: Backup | None) -> Finding:
    if latest:
        return Finding(Severity.NOTE, f"{name} cannot be looked into; the backup of {latest.kept_at:%d %B %Y} "
                       "holds it as it was then.")
    return Finding(Severity.WARNING, f"{name} cannot be looked into and is in no backup.",
                   remedy="Keep the card first; it is one step on the sheet.")
