"""Keeping what is on a running device: a lane like any other, and of what is kept already nothing is fetched again."""

from __future__ import annotations

from contextlib import ExitStack
from dataclasses import dataclass

from mosscrate.core.blocks import Extent
from mosscrate.core.blocks.stretches import Stretches
from mosscrate.core.contents.survey import open_partition
from mosscrate.core.crate import Backup, Crate
from mosscrate.core.crate.laid_out import LaidOut, Part, Reader, lay_out
from mosscrate.core.crate.parts import A_DEVICE, AS_FAR, Choice, chosen
from mosscrate.core.devices.connection import Device, Gone
from mosscrate.core.devices.fetching import Fetching, Unchanged
from mosscrate.core.errors import CrateError, MediumError, MossError
from mosscrate.core.images.kept.manifest import CardRecord
from mosscrate.core.maps import read_map
from mosscrate.core.sizes import binary, counted, some_of
from mosscrate.core.volumes import Entry, Kind, Volume
from mosscrate.core.watch import Watch

NAMED = 3


@dataclass(frozen=True)
class KeptDevice:
    """What keeping a device came to.

    Attributes:
        backup: that was made.
        fetched: bytes that came over the network.
        changed: files that were written to while they were read.
        unread: files that could not be read, or not to their end; what is missing of them is zeros.
    """

    backup: Backup
    fetched: int
    changed: tuple[str, ...]
    unread: tuple[str, ...] = ()

    @property
    def sentence(self) -> str:
        """What was kept, and what may not be as it should."""
        said = f"{self.backup.record.card.name}: {self.backup.chosen}; {binary(self.fetched)} were fetched."
        if self.unread:
            said += (f" {counted(len(self.unread), 'file')} could not be read: {some_of(self.unread, NAMED)}. It is "
                     "incomplete.")
        if self.changed:
            said += (f" {counted(len(self.changed), 'file')} changed meanwhile: {some_of(self.changed, NAMED)}. Keep "
                     "it again for those.")
        return said


def keep_device(crate: Crate, device: Device, choice: Choice, watch: Watch, *, anew: bool = False) -> KeptDevice:
    """Keep some files of a device.

    Args:
        crate: that takes them.
        device: connected.
        choice: what is kept.
        watch: is told.
        anew: whether files with the name, size and time of kept ones are fetched all the same.

    Raises:
        MediumError: the device does not answer any more, and nothing was listed.
        CrateError: nothing is chosen by that, or the crate cannot take it.
        Stopped.
    """
    folder, card = device.address.folder, device.address.card
    watch.progress(f"Looking through {device.address.host}", 0, None)
    tree = device.tree(folder)
    entries, missing = chosen(A_DEVICE, tree.entries, choice), choice.missing([tree])
    files = [entry for entry in entries if entry.kind == Kind.FILE]
    if not files:
        where, said = folder or "this user’s folder", AS_FAR if missing else ""
        raise CrateError(f"There are no {choice.none} in {where} of {device.address.host}{said}. Nothing was kept.")
    with ExitStack() as open_:
        earlier = None if anew else _earlier(crate, device.address.keys, open_)
        known = {} if earlier is None else _same(earlier, files)
        late = _Late()
        disk = lay_out([Part(1, "", entries, late)], card.name, watch)
        rest = Fetching(device, folder, [entry for entry in disk.order() if entry.path not in known])
        late.reader = rest if earlier is None else Unchanged(earlier.volume, known, rest)
        try:
            backup = crate.keep(_record(card, disk), disk, watch,
                                chosen=f"{choice.words}: {counted(len(files), 'file')}{missing}")
        except Gone as error:
            raise MediumError(f"{error}. No backup was made; keep it again.") from error
    now = {entry.path: entry for entry in device.tree(folder).entries}
    changed = {e.path for e in files if e.path not in known and _looks(now.get(e.path)) != _looks(e)}
    unread = tuple(e.path for e in files if e.path in rest.failed and e.path not in changed)
    return KeptDevice(backup, rest.bytes, tuple(e.path for e in files if e.path in changed), unread)


class _Late:
    """A reader that is known once the order of the files is."""

    reader: Reader

    def read_at(self, entry: Entry, at: int, count: int) -> bytes:
        return self.reader.read_at(entry, at, count)


def _record(card: CardRecord, disk: LaidOut) -> CardRecord:
    return CardRecord(card.name, card.key, card.tag, disk.size, card.model, card.serial)


@dataclass(frozen=True)
class _Earlier:
    """What was kept last of a device, and the places of it that are zeros since they could not be read."""

    volume: Volume
    start: int
    unread: Stretches

    def is_whole(self, entry: Entry) -> bool:
        """Whether all of a file was read then."""
        return not self.unread or not self.unread & Stretches.of(
            Extent(self.start + row[1], row[2]) for row in self.volume.pieces_of(entry).tolist())


def _earlier(crate: Crate, keys: tuple[str, ...], open_: ExitStack) -> _Earlier | None:
    """From the first lane that has something; None where there is nothing, or it cannot be read."""
    latest = next((backups[-1] for backups in map(crate.backups_of, keys) if backups), None)
    if latest is None:
        return None
    try:
        blocks = open_.enter_context(latest.open())
        unread = Stretches.of(Extent(start, length) for start, length in latest.record.unreadable)
        return _Earlier(open_partition(blocks, 1), read_map(blocks).partition(1).start, unread)
    except MossError:
        return None


def _same(earlier: _Earlier, files: list[Entry]) -> dict[str, Entry]:
    """Files that were kept whole with the same name, size and time, as they are in the backup."""
    kept = {entry.path: entry for entry in earlier.volume.tree().entries
            if entry.kind == Kind.FILE and earlier.is_whole(entry)}
    return {file.path: kept[file.path] for file in files
            if file.path in kept and _looks(kept[file.path]) == _looks(file)}


def _looks(entry: Entry | None) -> tuple[int, int | None] | None:
    return None if entry is None else (entry.size, entry.modified)
