"""The steps that a sheet can hold: pure data that can be saved, shown and rehearsed. Sizes in bytes."""

from __future__ import annotations

from enum import StrEnum
from typing import TypeAlias, get_args

import msgspec


class Which(StrEnum):
    """One of the two media of a sheet."""

    SOURCE = "source"
    TARGET = "target"


class Existing(StrEnum):
    """What happens to a file that is there already."""

    REFUSE = "refuse"
    KEEP_BOTH = "keep both"            # the old one stays under a dated name
    REPLACE = "replace"


class KeepCard(msgspec.Struct, tag="keep", frozen=True):
    """Keep a whole medium in the crate, verified by reading back."""

    which: Which = Which.SOURCE


class WriteImage(msgspec.Struct, tag="write", frozen=True):
    """Write the source (its backup, when this sheet made one) onto the target from its first byte."""

    verify: bool = False               # read back at once; a Verify step at the end does more
    swap: bool = False                 # exchange the two bytes of every word on the way
    cut: bool = False                  # write what there is of a source that is cut short


class WriteFitted(msgspec.Struct, tag="write fitted", frozen=True):
    """Write a source that is larger than the target: its last volume is shrunk on a view first."""


class EmptyCard(msgspec.Struct, tag="empty", frozen=True):
    """Clear every map and the signature of every volume, those that the desktop cannot see included."""


class SwapBytes(msgspec.Struct, tag="swap", frozen=True):
    """Exchange the two bytes of every word, for an adapter that swaps them or away from one."""


class NewMap(msgspec.Struct, tag="map", frozen=True):
    """Put an empty partition map in place of whatever is there: "mbr", "gpt", "rdb" or "ahdi".

    `heads` and `sectors` of a track are the geometry of an RDB; 0 takes the usual one.
    """

    kind: str
    heads: int = 0
    sectors: int = 0


class AddPartition(msgspec.Struct, tag="add", frozen=True):
    """Make a partition and, unless `kind` is empty, a fresh volume on it.

    `start` and `size` None take the largest free stretch; `alignment` None what the card asks for.
    """

    kind: str
    size: int | None = None
    start: int | None = None
    label: str = ""
    is_logical: bool = False
    block: int | None = None
    alignment: int | None = None


class RemovePartition(msgspec.Struct, tag="remove", frozen=True):
    """Take a partition out of the map; its bytes stay until something else is put there."""

    partition: int


class GrowPartition(msgspec.Struct, tag="grow", frozen=True):
    """Grow one partition of the target in place; `size` None fills the room behind it."""

    partition: int
    size: int | None = None


class ShrinkPartition(msgspec.Struct, tag="shrink", frozen=True):
    """Shrink one partition in place; `size` None takes the smallest possible."""

    partition: int
    size: int | None = None


class MovePartition(msgspec.Struct, tag="move", frozen=True):
    """Move a partition with what is on it; `start` None takes it to the end of the room behind it."""

    partition: int
    start: int | None = None


class LabelPartition(msgspec.Struct, tag="label", frozen=True):
    """Give a volume, and its partition where the map has names, another label."""

    partition: int
    label: str


class FlagPartition(msgspec.Struct, tag="flag", frozen=True):
    """Set or clear a flag of a partition: "active", "hidden" ..."""

    partition: int
    flag: str
    is_set: bool = True


class TypePartition(msgspec.Struct, tag="type", frozen=True):
    """Set the type of a partition as its map writes it."""

    partition: int
    code: str


class TunePartition(msgspec.Struct, tag="tune", frozen=True):
    """How the drivers of an RDB's machine take a partition; None leaves a value as it is."""

    partition: int
    name: str = ""
    boot_priority: int | None = None
    mask: int | None = None
    max_transfer: int | None = None
    buffers: int | None = None


def tuning_of(step: TunePartition) -> str:
    """What a step sets, in words."""
    said = [f"name {step.name}"] if step.name else []
    said += [f"{what} {shown}" for what, value, shown in (
        ("boot priority", step.boot_priority, step.boot_priority), ("mask", step.mask, f"0x{step.mask or 0:08x}"),
        ("largest transfer", step.max_transfer, f"0x{step.max_transfer or 0:x}"),
        ("buffers", step.buffers, step.buffers)) if value is not None]
    return ", ".join(said) or "as it was"


class BringCode(msgspec.Struct, tag="bring code", frozen=True):
    """Copy embedded file-system code from the RDB of the source; `dos_type` as "0x50465303", "" for all."""

    dos_type: str = ""


class RemoveCode(msgspec.Struct, tag="remove code", frozen=True):
    """Take embedded file-system code out of an RDB."""

    dos_type: str


class FormatPartition(msgspec.Struct, tag="format", frozen=True):
    """Put a fresh volume on a partition; what is on it is lost."""

    partition: int
    kind: str
    label: str = ""
    block: int | None = None


class RebuildPartition(msgspec.Struct, tag="rebuild", frozen=True):
    """Make a volume anew and put its files back: `kind` "" and `block` None keep those it has."""

    partition: int
    kind: str = ""
    block: int | None = None


class CopyPartition(msgspec.Struct, tag="copy partition", frozen=True):
    """Bring a partition of the source into the free room of the target; onto a blank one as a bare volume.

    `kind` "" copies its volume exactly, another one makes a volume of that kind and copies the files.
    `size` None keeps its length; a larger one grows it on arrival.
    """

    source: int
    kind: str = ""
    size: int | None = None


class CopyFiles(msgspec.Struct, tag="copy files", frozen=True):
    """Copy files of a partition of the source into a volume of the target.

    Without a source in the sheet they come from another partition of the target itself. `path` is the file
    or folder that is copied, "" for everything.
    """

    source: int
    partition: int
    folder: str = ""
    path: str = ""
    existing: Existing = Existing.REFUSE


class FillWithDrives(msgspec.Struct, tag="drives", frozen=True):
    """Logical drives of at most `each` bytes, formatted, none of them ending above `until`."""

    each: int
    until: int
    kind: str = "fat16"
    label: str = "DRIVE"


class ReplayJournal(msgspec.Struct, tag="replay", frozen=True):
    """Carry out what the journal of an ext volume still holds."""

    partition: int


class RebuildBitmap(msgspec.Struct, tag="bitmap", frozen=True):
    """Work out from its files which blocks of a volume are in use, and make bitmaps, tables and counts agree."""

    partition: int


class MendMap(msgspec.Struct, tag="mend map", frozen=True):
    """Write the map again as it was read, both copies of it."""


class PutFiles(msgspec.Struct, tag="put", frozen=True):
    """Put files and folders of this computer into a folder of a volume."""

    partition: int
    paths: tuple[str, ...]
    folder: str = ""
    existing: Existing = Existing.REFUSE
    name: str = ""                     # another name, for a single file


class RemoveFiles(msgspec.Struct, tag="remove files", frozen=True):
    """Remove files, or folders with all that is in them."""

    partition: int
    paths: tuple[str, ...]


class RenameFile(msgspec.Struct, tag="rename", frozen=True):
    """Give a file or folder another name or another folder."""

    partition: int
    path: str
    new: str


class SetTraits(msgspec.Struct, tag="traits", frozen=True):
    """Set comment, protection bits or date of a file on OFS or FFS; None leaves them.

    `protection` as letters of "hsparwed" that are set, `modified` in seconds since 1970.
    """

    partition: int
    path: str
    comment: str | None = None
    protection: str | None = None
    modified: int | None = None


class MakeFolder(msgspec.Struct, tag="folder", frozen=True):
    """Make a folder, and those above it where they are missing."""

    partition: int
    path: str


class Verify(msgspec.Struct, tag="verify", frozen=True):
    """Read the target back and compare it with the source, file by file."""


class Eject(msgspec.Struct, tag="eject", frozen=True):
    """Let go of the target, so that it may be pulled."""


OnMap: TypeAlias = (EmptyCard | SwapBytes | NewMap | AddPartition | RemovePartition | MovePartition | FlagPartition
                    | TypePartition | TunePartition | RemoveCode | FillWithDrives | MendMap)
OnVolume: TypeAlias = (CopyPartition | BringCode | GrowPartition | ShrinkPartition | LabelPartition | FormatPartition
                       | RebuildPartition | CopyFiles | ReplayJournal | RebuildBitmap)
OnFiles: TypeAlias = PutFiles | RemoveFiles | RenameFile | MakeFolder | SetTraits
InPlace: TypeAlias = OnMap | OnVolume | OnFiles
Step: TypeAlias = KeepCard | WriteImage | WriteFitted | InPlace | Verify | Eject
IN_PLACE = get_args(InPlace)
FROM_SOURCE = (CopyPartition, CopyFiles, BringCode)
CHANGES_VOLUME = (GrowPartition, ShrinkPartition, LabelPartition, RebuildPartition, CopyFiles, *get_args(OnFiles))
WRITES_ALL = (WriteImage, WriteFitted)
CHANGES = (*WRITES_ALL, *IN_PLACE)
# Steps whose journal saves all that they overwrite; the others leave out what stood in free room.
RESTORED_EXACTLY = (KeepCard, Verify, Eject, EmptyCard, SwapBytes, RemovePartition, FlagPartition, TypePartition,
                    TunePartition, MendMap, GrowPartition, ReplayJournal, RebuildBitmap)
