"""What changed between two states of a card: backups, cards at hand or the image it was written from.

By partition and by file; what two backups hold is known by contents, everything else by size and time, saves and
settings by contents too.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable
from dataclasses import dataclass
from typing import Protocol, TypeAlias

from mosscrate.core.blocks import Blocks, Extent, Window
from mosscrate.core.contents import Layout, PartitionLook, survey
from mosscrate.core.contents.files import FileKind, kind_of
from mosscrate.core.contents.straight import straight
from mosscrate.core.contents.survey import open_partition, partition_window
from mosscrate.core.crate.checking import manifest_at
from mosscrate.core.crate.crate import Backup
from mosscrate.core.crate.library import files_in
from mosscrate.core.crate.places import differing_places
from mosscrate.core.findings import Finding
from mosscrate.core.sizes import counted, some_of
from mosscrate.core.volumes import Entry, Kind, Tree, Volume

Contents: TypeAlias = dict[tuple[int, str], bytes]       # partition and path: by what contents are known again
PIECE = 4 << 20
SHOWN = 3
MADE_BY_PEOPLE = (FileKind.SAVE, FileKind.SETTING)
LARGEST_COMPARED = 16 << 20              # bytes of one file


@dataclass(frozen=True)
class PartitionChange:
    """One partition then and now, of a number now; entries are of the newer state, those `gone` of the older.

    `moved` has pairs of (then, now): the same contents under another path. `unread` tells of folders that could not be
    read in full, then or now: nothing is said of what may be in them now.
    """

    index: int
    name: str
    is_changed: bool
    added: tuple[Entry, ...] = ()
    changed: tuple[Entry, ...] = ()
    gone: tuple[Entry, ...] = ()
    moved: tuple[tuple[Entry, Entry], ...] = ()
    is_open: bool = True
    unread: tuple[Finding, ...] = ()

    @property
    def gone_saves(self) -> tuple[Entry, ...]:
        """Saves that are not on the card any more."""
        return tuple(e for e in self.gone if kind_of(e) == FileKind.SAVE)

    @property
    def sentence(self) -> str:
        """What happened, in one line."""
        if not self.is_changed:
            return "nothing changed"
        if not self.is_open:
            return "its bytes changed"
        parts = []
        for entries, word in ((self.added, "new"), (self.changed, "changed"), (self.gone, "gone")):
            saves = sum(kind_of(e) == FileKind.SAVE for e in entries)
            if saves:
                parts.append(f"{counted(saves, 'save')} {word}")
            if len(entries) > saves:
                parts.append(f"{counted(len(entries) - saves, 'file')} {word}")
        if self.moved:
            parts.append(f"{counted(len(self.moved), 'file')} moved or renamed")
        if self.unread:
            parts.append(f"{counted(len(self.unread), 'folder')} could not be read in full")
        return ", ".join(parts) or "only its inner bookkeeping changed"

    @property
    def examples(self) -> str:
        """A few names, gone ones first."""
        named = [*self.gone, *self.changed, *self.added, *(now for _, now in self.moved)]
        return some_of([e.path for e in named], SHOWN)


class State(Protocol):
    """A backup, a card or an image."""

    def open(self) -> Blocks:
        """For reading. Raises MediumError."""


def compare(older: State, newer: State) -> list[PartitionChange]:
    """Every partition of the newer state against the one that it was in the older. Raises MossError."""
    with older.open() as first, newer.open() as second:
        a, b = straight(first), straight(second)
        before, after = survey(a), survey(b)
        old = _before(before, after)
        kept = [state for state in (older, newer) if isinstance(state, Backup) and state.is_in_chunks]
        known = tuple(_contents(backup) for backup in kept) if len(kept) == 2 else ({}, {})
        return [_partition(a, old.get(p.index), b, p, known) for p in after.partitions]


def _before(before: Layout, after: Layout) -> dict[int, PartitionLook]:
    """What the partitions of the newer state were: at the same place, else known by id, else by kind and label."""
    found: dict[int, PartitionLook] = {}
    for mark in (_place, _id, _kind_and_label):
        taken = {look.index for look in found.values()}
        was = _only_ones(mark, [look for look in before.partitions if look.index not in taken])
        now = _only_ones(mark, [look for look in after.partitions if look.index not in found])
        found |= {now[each].index: was[each] for each in was.keys() & now.keys()}
    return found


def _only_ones(mark: Callable[[PartitionLook], str], looks: list[PartitionLook]) -> dict[str, PartitionLook]:
    """Partitions by what tells them apart, where it does."""
    counts = Counter(map(mark, looks))
    return {mark(look): look for look in looks if mark(look) and counts[mark(look)] == 1}


def _place(look: PartitionLook) -> str:
    return str(look.partition.start)


def _id(look: PartitionLook) -> str:
    return look.volume.id if look.volume else ""


def _kind_and_label(look: PartitionLook) -> str:
    return f"{look.volume.kind} {look.volume.label}" if look.volume and look.volume.label else ""


def differing(image: State, card: State) -> frozenset[tuple[int, str]]:
    """Files of a card that the image which it was written from has not, or otherwise: by partition and path.

    Raises MossError.
    """
    return frozenset((change.index, entry.path) for change in compare(image, card) for entry in (
        *change.added, *change.changed, *(now for _, now in change.moved)))


def places(older: State, newer: State) -> list[Extent]:
    """Where the newer state of two backups holds something else; nothing where that would have to be read."""
    kept = [state for state in (older, newer) if isinstance(state, Backup) and state.is_in_chunks]
    return differing_places(*(manifest_at(backup.path) for backup in kept)) if len(kept) == 2 else []


def _contents(backup: Backup) -> Contents:
    return {(file.partition, file.path): file.contents for file in files_in(backup)}


def _partition(a: Blocks, old: PartitionLook | None, b: Blocks, new: PartitionLook,
               known: tuple[Contents, ...]) -> PartitionChange:
    if old is None:
        tree = open_partition(b, new.index).tree() if _is_open(new) else Tree(())
        return PartitionChange(new.index, new.name, is_changed=True, unread=tree.unread(),
                               added=tuple(e for e in tree.entries if e.kind == Kind.FILE))
    if _same_bytes(partition_window(a, old.partition), partition_window(b, new.partition)):
        return PartitionChange(new.index, new.name, is_changed=False)
    if not (_is_open(old) and _is_open(new)):
        return PartitionChange(new.index, new.name, is_changed=True, is_open=False)
    volumes = open_partition(a, old.index), open_partition(b, new.index)
    trees = tuple(volume.tree() for volume in volumes)
    then, now = ({e.path: e for e in tree.entries if e.kind == Kind.FILE} for tree in trees)
    before, after = known
    if before:
        changed = tuple(e for path, e in now.items()
                        if path in then and before.get((old.index, path)) != after.get((new.index, path)))
    else:
        changed = tuple(e for path, e in now.items() if path in then and _is_another(volumes, then[path], e))
    new_ones = {path: e for path, e in now.items() if path not in then}
    gone = {path: e for path, e in then.items() if path not in now and not trees[1].hides(path)}
    was = {before[old.index, path]: path for path in gone if before.get((old.index, path))}
    moved = {path: was[after[new.index, path]] for path in new_ones if after.get((new.index, path)) in was}
    return PartitionChange(
        new.index, new.name, is_changed=True, changed=changed,
        added=tuple(e for path, e in new_ones.items() if path not in moved),
        gone=tuple(e for path, e in gone.items() if path not in moved.values()),
        moved=tuple((gone[then_path], new_ones[path]) for path, then_path in moved.items()),
        unread=(*trees[0].unread(), *trees[1].unread()))


def _is_another(volumes: tuple[Volume, Volume], then: Entry, now: Entry) -> bool:
    """By size and time; what people make is compared, for many a handheld has no clock."""
    if (then.size, then.modified) != (now.size, now.modified):
        return True
    if kind_of(now) not in MADE_BY_PEOPLE or now.size > LARGEST_COMPARED:
        return False
    before, after = (b"".join(volume.read_file(entry)) for volume, entry in zip(volumes, (then, now), strict=True))
    return before != after


def _is_open(look: PartitionLook) -> bool:
    return look.volume is not None and look.volume.used is not None


def _same_bytes(a: Window, b: Window) -> bool:
    """Compares data only; what is a hole in both is equal without reading."""
    if a.size != b.size:
        return False
    return all(extent.is_hole or _same_stretch(a, b, extent) for extent in (*a.extents(), *b.extents()))


def _same_stretch(a: Window, b: Window, extent: Extent) -> bool:
    return all(a.read(at, min(PIECE, extent.end - at)) == b.read(at, min(PIECE, extent.end - at))
               for at in range(extent.start, extent.end, PIECE))
