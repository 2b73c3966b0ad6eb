"""Keeping what is on a running device: a lane like any other, and of what is kept already nothing is fetched again."""

from __future__ import annotations

from contextlib import ExitStack
from dataclasses import dataclass

from mosscrate.core.contents.survey import open_partition
from mosscrate.core.crate import Backup, Crate
from mosscrate.core.crate.laid_out import LaidOut, Part, Reader, lay_out
from mosscrate.core.crate.parts import A_DEVICE, AS_FAR, Choice, chosen
from mosscrate.core.devices.connection import Device, Gone
from mosscrate.core.devices.fetching import Fetching, Unchanged
from mosscrate.core.errors import CrateError, MediumError, MossError
from mosscrate.core.images.kept.manifest import CardRecord
from mosscrate.core.sizes import binary, counted
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
    """

    backup: Backup
    fetched: int
    changed: tuple[str, ...]

    @property
    def sentence(self) -> str:
        """What was kept, and what may not be as it should."""
        said = f"{self.backup.record.card.name}: {self.backup.chosen}; {binary(self.fetched)} were fetched."
        if self.changed:
            more = f" and {len(self.changed) - NAMED} more" if len(self.changed) > NAMED else ""
            named = f"{', '.join(self.changed[:NAMED])}{more}"
            said += f" {counted(len(self.changed), 'file')} changed meanwhile: {named}. Keep it again for those."
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
        earlier = None if anew else _earlier(crate, card.key, open_)
        known = {} if earlier is None else _same(earlier, files)
        late = _Late()
        disk = lay_out([Part(1, "", entries, late)], card.name, watch)
        rest = Fetching(device, folder, [entry for entry in disk.order() if entry.path not in known])
        late.reader = rest if earlier is None else Unchanged(earlier, known, rest)
        try:
            backup = crate.keep(_record(card, disk), disk, watch,
                                chosen=f"{choice.words}: {counted(len(files), 'file')}{missing}")
        except Gone as error:
            raise MediumError(f"{error}. No backup was made; keep it again.") from error
    now = {entry.path: entry for entry in device.tree(folder).entries}
    changed = (e.path for e in files if e.path in rest.failed or (
        e.path not in known and _looks(now.get(e.path)) != _looks(e)))
    return KeptDevice(backup, rest.bytes, tuple(changed))


class _Late:
    """A reader that is known once the order of the files is."""

    reader: Reader

    def read_at(self, entry: Entry, at: int, count: int) -> bytes:
        return self.reader.read_at(entry, at, count)


def _record(card: CardRecord, disk: LaidOut) -> CardRecord:
    return CardRecord(card.name, card.key, card.tag, disk.size, card.model, card.serial)


def _earlier(crate: Crate, key: str, open_: ExitStack) -> Volume | None:
    """What was kept last of a device; None where there is nothing, or it cannot be read."""
    latest = next(reversed(crate.backups_of(key)), None)
    if latest is None:
        return None
    try:
        return open_partition(open_.enter_context(latest.open()), 1)
    except MossError:
        return None


def _same(earlier: Volume, files: list[Entry]) -> dict[str, Entry]:
    """Files that were kept with the same name, size and time, as they are in the backup."""
    kept = {entry.path: entry for entry in earlier.tree().entries if entry.kind == Kind.FILE}
    return {file.path: kept[file.path] for file in files
            if file.path in kept and _looks(kept[file.path]) == _looks(file)}


def _looks(entry: Entry | None) -> tuple[int, int | None] | None:
    return None if entry is None else (entry.size, entry.modified)
