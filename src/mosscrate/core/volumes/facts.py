"""What is true of every volume of one kind, said once by the package of its file system."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from mosscrate.core.errors import FitError
from mosscrate.core.maps import MapKind


@dataclass(frozen=True)
class Facts:
    """One kind of file system, such as "fat32" or "ffs-intl".

    Attributes:
        kind: its short name.
        name: as people write it.
        plain: the same without its variant; `name` where left out.
        family: the package that knows it.
        ids: how it writes what tells it apart: "serial", "uuid", "moment".
        shows: the kind that such a volume shows once it is made; `kind` where left out.
        why_not: why a name of a file cannot stand there; "" when it can.
        label_of: a label as such a volume holds it. Raises FitError.
        longest_name: characters of a file's name.
        largest_file: bytes; None where only the volume sets a limit.
        blocks: bytes that an allocation unit may have; empty where that cannot be chosen.
        unit: what an allocation unit is called.
        has_owners, has_links, has_comments: what it keeps beside the bytes of a file.
        folded: a name as it is compared with others; two that fold alike are one.
        stands_as: a name as it stands in its folder.
        is_written: whether it is made and changed here.
        is_resized_anew: whether another size means that it is made anew with its files.
        longest_tail: bytes that a medium without a map may be longer than such a volume; None for any number.
        is_known_swapped: whether one without a map is known again with its bytes swapped.
        entry_bytes: bytes of a folder that a name takes, at most.
        largest_folder: bytes that one may have; None where only the volume sets a limit.
        extra_blocks: (size of a file, of a block): blocks beside its data, at most.
        is_mostly_room: whether an exact copy leaves out what is free, since such volumes are large.
        has_journal: whether a journal of its own may have to be carried out.
        misread: why machines of other maps read such a volume otherwise than its own; "" where they do not.
        made_as: the kind that one is made anew as; `kind` where left out.
        least, most: bytes that one can have; `most` None where only the medium sets a limit.
        home: the map of its machines, `NONE` for a floppy; None where any map of later machines carries it.
    """

    kind: str
    name: str
    family: str
    why_not: Callable[[str], str]
    label_of: Callable[[str], str]
    plain: str = ""
    shows: str = ""
    ids: str = "serial"
    longest_name: int = 255
    largest_file: int | None = None
    blocks: tuple[int, ...] = ()
    unit: str = "blocks"
    has_owners: bool = False
    has_links: bool = False
    has_comments: bool = False
    folded: Callable[[str], str] = str.lower
    stands_as: Callable[[str], str] = str
    is_written: bool = True
    is_resized_anew: bool = False
    longest_tail: int | None = None
    is_known_swapped: bool = False
    is_mostly_room: bool = False
    has_journal: bool = False
    misread: str = ""
    made_as: str = ""
    least: int = 0
    most: int | None = None
    home: MapKind | None = None
    entry_bytes: Callable[[str], int] = lambda _name: 0
    largest_folder: int | None = None
    extra_blocks: Callable[[int, int], int] = lambda _size, _block: 0

    @property
    def plain_name(self) -> str:
        """Without its variant."""
        return self.plain or self.name

    @property
    def shown(self) -> str:
        """The kind that a volume shows once it is made: a variant shows what it is a variant of."""
        return self.shows or self.kind

    def cut_label(self, label: str) -> str:
        """As much of a label as such a volume can hold; the firmware looks for it."""
        for length in range(len(label), 0, -1):
            try:
                self.label_of(label[:length])
            except FitError:
                continue
            return label[:length]
        return ""

    def stands_under(self, map: MapKind) -> bool:
        """Whether machines that know a map know such a volume below it."""
        if map == MapKind.NONE:
            return True
        return map == self.home if self.home is not None else map not in (MapKind.RDB, MapKind.AHDI)
