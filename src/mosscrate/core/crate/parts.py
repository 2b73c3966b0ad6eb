"""Keeping a part of a card: its saves, its settings, some folders. It has a lane of its own beside that of the card."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

from blake3 import blake3

from mosscrate.core.blocks import Blocks
from mosscrate.core.contents.files import FileKind, kind_of
from mosscrate.core.contents.identity import tag_of
from mosscrate.core.contents.layout import Layout
from mosscrate.core.contents.naming import folders_above
from mosscrate.core.contents.survey import open_volumes
from mosscrate.core.contents.unpacking import prove_packed
from mosscrate.core.crate.crate import Backup, Crate
from mosscrate.core.crate.laid_out import Part, lay_out
from mosscrate.core.errors import CrateError
from mosscrate.core.images.kept.manifest import CardRecord
from mosscrate.core.sizes import counted, listed
from mosscrate.core.volumes import Entry, Kind, Tree
from mosscrate.core.watch import Watch

KINDS_BY_WORD = {"saves": FileKind.SAVE, "settings": FileKind.SETTING, "system": FileKind.FIRMWARE,
                 "roms": FileKind.ROM, "pictures": FileKind.PICTURE, "others": FileKind.OTHER}


A_DEVICE = 0                             # where there are no partitions
AS_FAR = ", as far as its folders can be read"


@dataclass(frozen=True)
class Choice:
    """What is kept: files of some kinds, and everything below some folders; nothing chosen is everything.

    With `unlike`, the name of an image, only files that are in `only` by partition and path: it has them not, or
    otherwise.
    """

    kinds: tuple[FileKind, ...] = ()
    folders: tuple[str, ...] = ()
    unlike: str = ""
    only: frozenset[tuple[int, str]] = frozenset()

    def takes(self, partition: int, entry: Entry) -> bool:
        """Whether a file or link is kept."""
        if self.unlike and (partition, entry.path) not in self.only:
            return False
        if not self.kinds and not self.folders:
            return True
        path = entry.path.casefold()
        return kind_of(entry) in self.kinds or any(
            path == folder or path.startswith(f"{folder}/")
            for folder in (folder.strip("/").casefold() for folder in self.folders))

    def missing(self, trees: Iterable[Tree]) -> str:
        """How many folders that could not be read in full may hold more of it, behind a sentence; "" for none."""
        folders = self.folders if self.folders and not self.kinds else ("",)
        unread = sum(len({finding for folder in folders for finding in tree.unread(folder)}) for tree in trees)
        return f"; {counted(unread, 'folder')} could not be read in full" if unread else ""

    @property
    def words(self) -> str:
        """Named in a sentence."""
        return self._named("all files")

    @property
    def none(self) -> str:
        """The same behind "There are no"."""
        return self._named("files")

    def _named(self, everything: str) -> str:
        named = [*(f"{kind}s" for kind in self.kinds), *(f"“{folder}”" for folder in self.folders)]
        return (listed(named) or everything) + (f" that differ from “{self.unlike}”" if self.unlike else "")


def chosen(partition: int, entries: Iterable[Entry], choice: Choice) -> list[Entry]:
    """Files of a partition that are kept, with the folders above them, folders first as they were."""
    entries = list(entries)
    files = {entry.path for entry in entries if entry.kind != Kind.FOLDER and choice.takes(partition, entry)}
    above = folders_above(files)
    return [entry for entry in entries if entry.path in files or entry.path in above]


@dataclass(frozen=True)
class Tally:
    """Files and their bytes: of each kind that is there, and below each folder at the top."""

    kinds: dict[FileKind, tuple[int, int]]
    folders: dict[str, tuple[int, int]]


def tally(entries: Iterable[Entry]) -> Tally:
    """What there is to choose from."""
    kinds, folders = dict[FileKind, tuple[int, int]](), dict[str, tuple[int, int]]()
    for entry in entries:
        if entry.kind == Kind.FILE:
            kind, (top, slash, _) = kind_of(entry), entry.path.partition("/")
            kinds[kind] = _more(kinds.get(kind), entry)
            if slash:
                folders[top] = _more(folders.get(top), entry)
    return Tally(kinds, folders)


def _more(so_far: tuple[int, int] | None, entry: Entry) -> tuple[int, int]:
    count, size = so_far or (0, 0)
    return count + 1, size + entry.size


def entries_on(blocks: Blocks, layout: Layout) -> list[tuple[int, Entry]]:
    """Everything on the volumes of a card that can be opened, by partition. Raises MediumError, FormatError."""
    return [(index, entry) for index, volume in open_volumes(blocks, layout).items()
            for entry in volume.tree().entries]


def part_record(card: CardRecord) -> CardRecord:
    """The lane of the parts that are kept of a card."""
    key = blake3(f"part of {card.key}".encode()).hexdigest(8)
    return CardRecord(f"{card.name}, in part", key, tag_of(key), card.size, card.model, card.serial)


def keep_part(crate: Crate, card: CardRecord, blocks: Blocks, layout: Layout, choice: Choice, watch: Watch) -> Backup:
    """Keep some files of a card.

    Raises:
        CrateError: nothing is chosen by that, or the crate cannot take it.
        MediumError, FormatError: the card cannot be read.
        Damaged: what it is packed in is not whole.
        Stopped.
    """
    prove_packed(blocks, watch)
    volumes = open_volumes(blocks, layout)
    trees = {index: volume.tree() for index, volume in volumes.items()}
    parts = [Part(index, volume.label, chosen(index, trees[index].entries, choice), volume)
             for index, volume in volumes.items()]
    files, missing = sum(entry.kind == Kind.FILE for part in parts for entry in part.entries), choice.missing(
        trees.values())
    if not files:
        raise CrateError(f"There are no {choice.none} on {card.name}{AS_FAR if missing else ''}. Nothing was kept.")
    own = part_record(card)
    disk = lay_out(parts, own.name, watch)
    record = CardRecord(own.name, own.key, own.tag, disk.size, own.model, own.serial)
    return crate.keep(record, disk, watch, chosen=f"{choice.words}: {counted(files, 'file')}{missing}")
