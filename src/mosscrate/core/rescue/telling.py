"""How far a rescue is, in numbers and in a sentence; and which files are whole."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import suppress
from dataclasses import dataclass

from mosscrate.core.blocks import Blocks
from mosscrate.core.contents import Layout
from mosscrate.core.contents.straight import straight
from mosscrate.core.contents.survey import partition_window
from mosscrate.core.crate.record import HoledFile
from mosscrate.core.errors import FormatError, MediumError
from mosscrate.core.proof.reading import Hit
from mosscrate.core.rescue.areas import Areas, Class
from mosscrate.core.rescue.rescuing import Ending, Reached
from mosscrate.core.rescue.runs import Runs
from mosscrate.core.rescue.state import RescueState
from mosscrate.core.sizes import binary
from mosscrate.core.volumes import Entry, Kind, Volume, open_volume

_NAMES = {Class.SAVE: "saves", Class.SETTING: "settings", Class.STRUCTURE: "tables", Class.FILE: "files",
          Class.DOUBTFUL: "room that may hold lost files"}


@dataclass(frozen=True)
class Standing:
    """How far a rescue is.

    Attributes:
        shares: for each class that there is, bytes that are had and all of them.
        bad: places that have failed by themselves, in bytes.
        ending: why the last sitting ended; None where it was stopped, or the card went away.
        hour: what the next hour is worth, in bytes of files.
        hits: files on places that have failed.
    """

    shares: dict[Class, tuple[int, int]]
    bad: int
    ending: Ending | None
    hour: float = 0.0
    hits: tuple[Hit, ...] = ()

    @property
    def missing(self) -> int:
        """Bytes in use that are not had."""
        return sum(all_ - have for which, (have, all_) in self.shares.items() if which != Class.FREE)

    @property
    def missing_saves(self) -> int:
        """Of saves."""
        have, all_ = self.shares.get(Class.SAVE, (0, 0))
        return all_ - have

    @property
    def is_whole(self) -> bool:
        """Whether everything in use is had."""
        return not self.missing

    @property
    def told(self) -> dict[str, tuple[int, int]]:
        """By their names: bytes that are had, and all of them."""
        return {name: self.shares[which] for which, name in _NAMES.items() if which in self.shares}

    def sentence(self, name: str) -> str:
        """What is had, what is missing, and whether going on is worth it."""
        if self.is_whole:
            return f"Everything in use on {name} was read; nothing is missing."
        told = ", ".join(f"{kind} {_share(*share)}" for kind, share in self.told.items())
        return f"Rescued of {name}: {told}. {self.further}".strip()

    @property
    def further(self) -> str:
        """Whether going on is worth it, and whether a save is missing."""
        if self.is_whole:
            return "Nothing is missing."
        saves = f"{binary(self.missing_saves)} of saves are missing" if self.missing_saves else self._no_save
        if self.ending == Ending.NOT_WORTH_IT:
            hour = binary(max(1024, int(min(self.hour, self.missing))))
            return (f"Going on would bring about {hour} of files an hour; {saves}. Keep what there is, or go on to "
                    "the end.")
        if self.ending is None and not self.bad:
            return f"Nothing has failed yet; {saves}."
        if self.ending == Ending.TRIED:
            return f"Everything else was tried and cannot be read; {saves}. Keep what there is, or try it again."
        return f"You can continue it at any time; {saves}."

    @property
    def _no_save(self) -> str:
        have, all_ = self.shares.get(Class.STRUCTURE, (0, 0))
        return "no save is missing" if have == all_ else "no save is missing of those that the tables name"


def standing(state: RescueState, areas: Areas, reached: Reached | None = None, hits: tuple[Hit, ...] = ()) -> Standing:
    """How far it is now."""
    return Standing(areas.shares(state.have), sum(runs.total for runs in state.bad),
                    reached.ending if reached else None, reached.hour if reached else 0.0, hits)


def holed(view: Blocks, layout: Layout | None, have: Runs) -> tuple[list[HoledFile], int]:
    """Files and folders with holes, and how many files are whole.

    Args:
        view: what was rescued, zeros elsewhere.
        layout: of it.
        have: what is not a hole.
    """
    found, whole = [], 0
    for look in layout.with_contents if layout else ():
        with suppress(FormatError, MediumError):
            volume = open_volume(partition_window(straight(view), look.partition))
            for entry in volume.tree().entries:
                holes = list(_holes(_rows(volume, entry), look.partition.start, have))
                whole += entry.kind == Kind.FILE and not holes
                if holes:
                    found.append(HoledFile(look.index, entry.path, holes, entry.kind == Kind.FOLDER))
    return found, whole


def _rows(volume: Volume, entry: Entry) -> Iterator[tuple[int, int, int]]:
    """(first byte of it, place, length) of the pieces of a file or folder."""
    if entry.kind == Kind.FILE:
        pieces = volume.pieces_of(entry)
        yield from zip(*(pieces[name].tolist() for name in ("logical", "place", "length")), strict=True)
    elif entry.kind == Kind.FOLDER:
        at = 0
        for extent in volume.extents_of(entry):
            yield at, extent.start, extent.length
            at += extent.length


def _holes(rows: Iterator[tuple[int, int, int]], start: int, have: Runs) -> Iterator[tuple[int, int]]:
    """[first byte of the file, length] of what is missing."""
    for logical, place, length in rows:
        for first, last in have.missing(start + place, start + place + length):
            yield logical + first - start - place, last - first


def _share(have: int, all_: int) -> str:
    if have == all_:
        return "all"
    return f"{min(99.9, int(1000 * have / all_) / 10):g} % ({binary(all_ - have)} missing)" if all_ else "none"
