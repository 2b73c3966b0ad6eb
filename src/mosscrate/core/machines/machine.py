"""One machine as its TOML file says it, and the machines at hand."""

from __future__ import annotations

from dataclasses import dataclass
from importlib import resources
from importlib.resources.abc import Traversable
from pathlib import Path
from typing import Literal

import msgspec

from mosscrate.core.errors import MachineError
from mosscrate.core.maps import MapKind, kinds
from mosscrate.core.maps.geometry import UNTRANSLATED
from mosscrate.core.sizes import parse_size
from mosscrate.core.volumes import KINDS, facts_of


def _must_be_kinds(words: tuple[str, ...]) -> None:
    for word in words:
        if facts_of(word) is None:
            raise ValueError(f"volumes holds “{word}”, expected one of {', '.join(facts.kind for facts in KINDS)}")


class Limit(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """A size such as "2 GiB" that the machine does not get past, and why, to follow a colon."""

    size: str
    because: str

    def __post_init__(self) -> None:
        if parse_size(self.size) <= 0:
            raise ValueError("a size above zero is expected")

    @property
    def bytes(self) -> int:
        """The size in bytes."""
        return parse_size(self.size)


class Boot(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """What the partition that the machine starts from must be."""

    ends_by: Limit | None = None
    volumes: tuple[str, ...] = ()            # kinds it can start from; empty for all it reads
    must_be_marked: bool = False             # active, bootable: whatever its map calls it

    def __post_init__(self) -> None:
        _must_be_kinds(self.volumes)


class Geometry(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """Heads and sectors of a track that the machine wants an RDB to be counted in."""

    heads: int
    sectors: int

    def __post_init__(self) -> None:
        for what, value in (("heads", self.heads), ("sectors", self.sectors)):
            if not 0 < value <= 255:
                raise ValueError(f"{what} is {value}, expected 1 to 255")


class Names(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """How long the names of files may be, and why, to follow a colon."""

    most: int
    because: str

    def __post_init__(self) -> None:
        if self.most < 1:
            raise ValueError("most is a number of characters above zero")


class Machine(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """What a kind of machine can take.

    Attributes:
        maps: as in `MapKind`; "none" where a bare volume is right.
        volumes: kinds of file systems that it opens.
        bytes: order in which its drives hold the two bytes of a word.
        partition: the largest partition.
        reach: where its last partition must end.
        most: partitions it takes; 0 where only the map sets a limit.
        geometry: for a new RDB; None where any will do.
        bios: how it counts the sectors of a drive: "plain" in 16 heads, "translating" in as many as its size asks for.
        names: of files; None where the file systems alone set a limit.
        has_devices_by_name: whether it runs DOS, which opens a device instead of a file that bears its name.
    """

    name: str
    maps: tuple[str, ...]
    volumes: tuple[str, ...]
    about: str = ""
    bytes: Literal["straight", "swapped", "either"] = "straight"
    partition: Limit | None = None
    reach: Limit | None = None
    boot: Boot = Boot()
    most: int = 0
    geometry: Geometry | None = None
    bios: Literal["", "plain", "translating"] = ""
    names: Names | None = None
    has_devices_by_name: bool = False

    def __post_init__(self) -> None:
        known = [str(kind) for kind in kinds()]
        for word in self.maps:
            if word not in known:
                raise ValueError(f"maps holds “{word}”, expected one of {', '.join(known)}")
        _must_be_kinds(self.volumes)
        if not self.maps or not self.volumes:
            raise ValueError("maps and volumes each need at least one word")


    def tracks(self, map: str) -> tuple[int, int]:
        """Heads and sectors of a track that it wants a map of a kind to be counted in; zeros for the usual ones."""
        if map == MapKind.RDB and self.geometry:
            return self.geometry.heads, self.geometry.sectors
        if map == MapKind.MBR and self.bios == "plain":
            return UNTRANSLATED.heads, UNTRANSLATED.sectors
        return 0, 0


msgspec.json.Decoder(Machine)            # knows the type before two threads ask for it at once


@dataclass(frozen=True)
class Machines:
    """The machines that ship and those in a person's own folder, which come last and win by name.

    Attributes:
        folder: the person's own; it need not exist.
    """

    folder: Path | None = None

    def all(self) -> dict[str, Machine]:
        """Every machine by its key, the name of its file. Raises MachineError."""
        shipped = sorted((f for f in resources.files(__package__).iterdir() if f.name.endswith(".toml")),
                         key=lambda f: f.name)
        own = sorted(self.folder.glob("*.toml")) if self.folder and self.folder.is_dir() else []
        return {f.name.removesuffix(".toml"): read_machine(f) for f in (*shipped, *own)}

    def find(self, key: str) -> Machine:
        """One by its key. Raises MachineError."""
        machines = self.all()
        if key not in machines:
            raise MachineError(f"There is no machine “{key}”; these are at hand: {', '.join(machines)}.")
        return machines[key]


def read_machine(file: Path | Traversable) -> Machine:
    """Read one description. Raises MachineError that names file, key and what was expected."""
    try:
        return msgspec.toml.decode(file.read_bytes(), type=Machine)
    except (OSError, ValueError) as error:
        words = str(error).replace("Object ", "It ").replace("`$.", "`")
        raise MachineError(f"The machine in {file} cannot be used: {words}. Correct the file; the other machines "
                           "are as they were.") from error
