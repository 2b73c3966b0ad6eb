"""What changed between two states of a card: backups, cards at hand or the image it was written from.

By partition and by file; what two backups hold is known by contents, everything else by size and time.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Protocol, TypeAlias

from mosscrate.core.blocks import Blocks, Extent, Window
from mosscrate.core.contents import PartitionLook, survey
from mosscrate.core.contents.files import FileKind, kind_of
from mosscrate.core.contents.straight import straight
from mosscrate.core.contents.survey import open_partition, partition_window
from mosscrate.core.crate.checking import manifest_at
from mosscrate.core.crate.crate import Backup
from mosscrate.core.crate.library import files_in
from mosscrate.core.crate.places import differing_places
from mosscrate.core.sizes import counted
from mosscrate.core.volumes import Entry, Kind

Contents: TypeAlias = dict[tuple[int, str], bytes]       # partition and path: by what contents are known again
PIECE = 4 << 20
SHOWN = 3


@dataclass(frozen=True)
class PartitionChange:
    """One partition then and now; entries are of the newer state, those `gone` of the older.

    `moved` has pairs of (then, now): the same contents under another path.
    """

    name: str
    is_changed: bool
    added: tuple[Entry, ...] = ()
    changed: tuple[Entry, ...] = ()
    gone: tuple[Entry, ...] = ()
    moved: tuple[tuple[Entry, Entry], ...] = ()
    is_open: bool = True

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
        return ", ".join(parts) or "only its inner bookkeeping changed"

    @property
    def examples(self) -> str:
        """A few names, gone ones first."""
        named = [*self.gone, *self.changed, *self.added, *(now for _, now in self.moved)]
        more = f" and {len(named) - SHOWN} more" if len(named) > SHOWN else ""
        return ", ".join(e.path for e in named[:SHOWN]) + more


class State(Protocol):
    """A backup, a card or an image."""

    def open(self) -> Blocks:
        """For reading. Raises MediumError."""


def compare(older: State, newer: State) -> list[PartitionChange]:
    """Every partition of the newer state against the one at the same place in the older. Raises MossError."""
    with older.open() as first, newer.open() as second:
        a, b = straight(first), straight(second)
        before, after = survey(a), survey(b)
        old = {p.partition.start: p for p in before.partitions}
        kept = [state for state in (older, newer) if isinstance(state, Backup) and state.is_in_chunks]
        known = tuple(_contents(backup) for backup in kept) if len(kept) == 2 else ({}, {})
        return [_partition(a, old.get(p.partition.start), b, p, known) for p in after.partitions]


def differing_paths(image: State, card: State) -> frozenset[str]:
    """Paths of the files of a card that the image which it was written from has not, or otherwise. Raises MossError."""
    return frozenset(entry.path for change in compare(image, card) for entry in (
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
        return PartitionChange(new.name, is_changed=True, added=_files(b, new) if _is_open(new) else ())
    if _same_bytes(partition_window(a, old.partition), partition_window(b, new.partition)):
        return PartitionChange(new.name, is_changed=False)
    if not (_is_open(old) and _is_open(new)):
        return PartitionChange(new.name, is_changed=True, is_open=False)
    then, now = ({e.path: e for e in _files(blocks, look)} for blocks, look in ((a, old), (b, new)))
    before, after = known
    changed = tuple(e for path, e in now.items() if path in then and (
        before.get((old.index, path)) != after.get((new.index, path)) if before else
        (e.size, e.modified) != (then[path].size, then[path].modified)))
    added, gone = ({path: e for path, e in some.items() if path not in other}
                   for some, other in ((now, then), (then, now)))
    was = {before[old.index, path]: path for path in gone if before.get((old.index, path))}
    moved = {path: was[after[new.index, path]] for path in added if after.get((new.index, path)) in was}
    return PartitionChange(
        new.name, is_changed=True, added=tuple(e for path, e in added.items() if path not in moved), changed=changed,
        gone=tuple(e for path, e in gone.items() if path not in moved.values()),
        moved=tuple((gone[then_path], added[path]) for path, then_path in moved.items()))


def _is_open(look: PartitionLook) -> bool:
    return look.volume is not None and look.volume.used is not None


def _files(blocks: Blocks, look: PartitionLook) -> tuple[Entry, ...]:
    return tuple(e for e in open_partition(blocks, look.index).tree().entries if e.kind == Kind.FILE)


def _same_bytes(a: Window, b: Window) -> bool:
    """Compares data only; what is a hole in both is equal without reading."""
    if a.size != b.size:
        return False
    return all(extent.is_hole or _same_stretch(a, b, extent) for extent in (*a.extents(), *b.extents()))


def _same_stretch(a: Window, b: Window, extent: Extent) -> bool:
    return all(a.read(at, min(PIECE, extent.end - at)) == b.read(at, min(PIECE, extent.end - at))
               for at in range(extent.start, extent.end, PIECE))
