"""A medium as a person sees it: a card, a drive or an image, and how to know it again."""

from __future__ import annotations

from dataclasses import dataclass, field
from enum import StrEnum
from functools import cached_property
from pathlib import Path
from typing import Protocol

from blake3 import blake3

from mosscrate.core.blocks import Blocks, FileBlocks
from mosscrate.core.blocks.faulty import CardState, Faults, FaultyBlocks
from mosscrate.core.contents.identity import tag_of
from mosscrate.core.contents.unpacking import suppose_size
from mosscrate.core.errors import MediumError
from mosscrate.core.images import (
    Compared,
    Packing,
    Reach,
    Remembered,
    disk_in,
    open_image,
    packed_in,
    published_for,
    unchanged,
)
from mosscrate.core.images.published import about
from mosscrate.core.sizes import printed
from mosscrate.core.slots.locks import StorageLock, lock_for_reading, lock_for_writing, lock_image
from mosscrate.core.slots.proofs import Record, in_the_middle, must_hold_contents
from mosscrate.core.slots.storage import Storage, storage_of, storage_of_open

KEPT = ".kept"                                   # a backup that is a list of chunks


class Access(StrEnum):
    """What a medium is opened for."""

    READ = "read"
    READ_ALONE = "read alone"    # nothing can mount it meanwhile; what is mounted already stays so
    WRITE = "write"              # everybody else is kept out


class Slot(Protocol):
    """Where media are found, and what opens them: readers, simulated slots, files that somebody opened."""

    def media(self) -> list[Medium]:
        """Everything that is in it now. Raises MediumError."""

    def medium_at(self, path: Path) -> Medium | None:
        """The medium that lies at a path, where this is its slot. Raises MediumError."""

    def open(self, medium: Medium, access: Access) -> FileBlocks:
        """Its bytes; whoever asks holds the lock. Raises MediumError."""


class Source(StrEnum):
    """Where a medium is."""

    READER = "reader"            # a real block device
    SIMULATED = "simulated"      # a card of a simulated slot
    IMAGE = "image"              # a file somewhere
    BACKUP = "backup"            # a file in the crate


@dataclass(frozen=True)
class Medium:
    """One medium at hand.

    Attributes:
        name: what people call it.
        path: of the device or file.
        size: bytes; only supposed where `is_size_known` is not set, of a packed one.
        model, serial, reader: as the hardware says; "" where it says nothing.
        is_write_protected: by its switch or by permission.
        in_use: why it must not be written, such as "mounted at /media/x"; "" when free.
        mark: by what is on it, for a card without a serial number; "" where nothing is.
        twin: what tells it from another one at hand of the same model, serial number and size, or from one that was
            written from it; "" for most.
        backup: the id of the backup that it is; "" for all others.
        faults: of a simulated card.
        slot: where it was found.
        member: of an archive, where it is not the likely one.
        packing: how it is packed; None for all that is not.
        remembered: what is known of a packed one.
        lists: of published checksums, besides those that lie beside it.
        state: of a simulated card: its clock, what its cache holds.
        may_ask: whether a person may be asked for permission when it is opened.
        proofs: where proofs of cards are noted on this bench.
    """

    name: str
    path: Path
    size: int
    source: Source
    model: str = ""
    serial: str = ""
    reader: str = ""
    is_removable: bool = True
    is_write_protected: bool = False
    in_use: str = ""
    mark: str = ""
    twin: str = ""
    backup: str = ""
    faults: Faults = field(default_factory=Faults)
    slot: Slot | None = field(default=None, compare=False, repr=False)
    member: str = ""
    packing: Packing | None = None
    remembered: Remembered | None = field(default=None, compare=False, repr=False)
    is_size_known: bool = True
    lists: tuple[Path, ...] = ()
    state: CardState | None = field(default=None, compare=False, repr=False)
    may_ask: bool = field(default=True, compare=False)
    proofs: Path | None = field(default=None, compare=False, repr=False)

    @cached_property
    def key(self) -> str:
        """Knows the same medium again: its serial number, else what is on it, else its storage; never the reader."""
        if self.serial:
            identity = f"{self.model}|{self.serial}|{self.size}|{self.twin}".removesuffix("|")
        elif self.mark:
            identity = f"{self.mark}|{self.size}"
        else:
            identity = f"{self._storage_name()}|{self.member}".rstrip("|")
        return blake3(identity.encode()).hexdigest()[:16]

    @property
    def tag(self) -> str:
        """Four characters to type before this medium is written; a clone at hand has others than its twin."""
        is_clone = self.twin and not self.serial
        return tag_of(blake3(f"{self.key}|{self.twin}".encode()).hexdigest()[:16] if is_clone else self.key)

    @property
    def subtitle(self) -> str:
        """One line under the name: printed size, where it is, and whether its switch keeps it from being written."""
        size = printed(self.size) if self.is_size_known else "size not known yet"
        is_locked = self.is_write_protected and self.source in (Source.READER, Source.SIMULATED)
        return " · ".join(filter(None, (size, self.reader or str(self.path.name), "write-protected" * is_locked)))

    def storage(self) -> Storage:
        """What it stands on. Raises MediumError."""
        try:
            return storage_of(self.path)
        except OSError as error:
            raise MediumError(f"{self.name} is not there: {error.strerror}.") from error

    @property
    def address(self) -> str:
        """Its path, and what is meant inside of it."""
        return str(self.path / self.member) if self.member else str(self.path)

    def open(self) -> Blocks:
        """For reading, as long as nobody writes. Raises MediumError."""
        return self._open(None, Access.READ)

    def open_for_job(self, reach: Reach | None = None) -> Blocks:
        """The same for a job that reads all of it: the desktop does not mount it meanwhile.

        Raises MediumError, InProof.
        """
        blocks = self._open(reach, Access.READ_ALONE)
        try:
            self.must_hold_contents(blocks)
        except BaseException:
            blocks.close()
            raise
        return blocks

    def must_hold_contents(self, blocks: Blocks) -> None:
        """Raises InProof where it is open in the middle of a proof, by what is noted here or stands on it."""
        if self._may_be_proved(blocks):
            must_hold_contents(self.proofs, self.key, blocks)

    def interrupted_proof(self, blocks: Blocks) -> Record | None:
        """The proof that it is in the middle of, as noted here. Raises MediumError."""
        found = in_the_middle(self.proofs, self.key, blocks) if self._may_be_proved(blocks) else None
        return found[1] if found else None

    def _may_be_proved(self, blocks: Blocks) -> bool:
        """Whether it is a card or a plain image: nothing else is ever marked."""
        return self.source != Source.BACKUP and self.packing is None and blocks.container == "raw"

    def open_to_look(self, reach: Reach | None = None) -> Blocks:
        """The same to see what is on it: a packed one is unpacked no further than a glance goes, and remembered.

        Raises MediumError; NotReadYet where that is not far enough.
        """
        return self._open(reach or Reach(), Access.READ)

    def _open(self, reach: Reach | None, access: Access) -> Blocks:
        lock = lock_for_reading(self.storage(), self.name)
        blocks: Blocks = self._opened(lock, access)
        blocks.refuse_marks()
        if self._is_a_file:
            blocks = disk_in(blocks, self.member, self.remembered, reach)
            suppose_size(blocks)
            if (packed := packed_in(blocks)) is not None:
                packed.look(reach)
            blocks = self._compared(blocks)
        return self._with_faults(blocks)

    def _compared(self, disk: Blocks) -> Blocks:
        """The disk, compared while it is read with what is published beside its file."""
        packed, lists = packed_in(disk), published_for(self.path, self.lists)
        file = packed.meter.inner if packed else disk
        of_file = about(lists, self.path.name) if packed and packed.packing.parts == 1 else ()
        of_disk = about(lists, packed.packing.name if packed else self.path.name)
        return Compared(disk, file, of_file, of_disk) if of_file or of_disk else disk

    @property
    def _is_a_file(self) -> bool:
        """Whether it may be a container, or packed: a card or a backup is what it is, whatever its bytes look like."""
        return self.source == Source.IMAGE or self.path.suffix == KEPT

    def open_for_guard(self, purpose: str = "a job") -> Blocks:
        """For writing, everybody else kept out; the guard alone calls this. Raises MediumError.

        What was opened has to be the storage that was locked: a card may be exchanged between the two.
        """
        storage = self.storage()
        blocks = self._opened(lock_for_writing(storage, self.name, purpose), Access.WRITE)
        if not blocks.is_device:
            lock_image(blocks.fd, self.name, writing=True)
        if self._is_a_file and (disk := disk_in(blocks)) is not blocks:
            packed = packed_in(disk)
            disk.close()
            raise MediumError(unchanged(self.name, packed.packing.sentence if packed else disk.container.upper()))
        if storage_of_open(blocks.fd) != storage:
            blocks.close()
            raise MediumError(f"{self.name} was exchanged for something else just now. Nothing was changed.")
        return self._with_faults(blocks)

    def _storage_name(self) -> str:
        try:
            return "|".join(sorted(storage_of(self.path).members))
        except OSError:
            return str(self.path)

    def _opened(self, lock: StorageLock, access: Access) -> FileBlocks:
        blocks = self.slot.open(self, access) if self.slot else open_image(self.path, writable=access == Access.WRITE)
        blocks.when_closed(lock.release)
        return blocks

    def _with_faults(self, blocks: Blocks) -> Blocks:
        blocks.name = self.name
        return blocks if self.faults == Faults() else FaultyBlocks(blocks, self.faults, self.state)
