"""Where an address of a card really leads."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

from mosscrate.core.blocks.base import SECTOR
from mosscrate.core.blocks.faulty.description import Faults

BLOCK = 4096


@dataclass(frozen=True)
class Run:
    """A stretch of addresses that leads to one place.

    Attributes:
        at: bytes from the beginning of what was asked for.
        length: bytes.
        place: where it lies; None where nothing is held.
    """

    at: int
    length: int
    place: int | None


class Holding:
    """The addresses of a card, as its faults have it. Whole sectors are told apart."""

    def __init__(self, faults: Faults, size: int) -> None:
        self.faults, self.size = faults, size

    def runs(self, offset: int, length: int, *, writing: bool) -> Iterator[Run]:
        """Where the bytes from an address on lead, in order."""
        at = 0
        while at < length:
            place, left = self._lead(offset + at, writing=writing)
            count = min(left, length - at)
            yield Run(at, count, place)
            at += count

    def _lead(self, address: int, *, writing: bool) -> tuple[int | None, int]:
        """Where one address leads, and how many bytes from there on lead to the same stretch."""
        f = self.faults
        if f.address_line is not None:
            return self._stuck(address, f.address_line.bit, f.address_line.stuck)
        if f.false_middle is not None:
            middle = f.false_middle
            if address < middle.start:
                return address, middle.start - address
            if address < middle.end:
                return (address - middle.by if middle.by else None), middle.end - address
            return address, self.size - address
        real = next((each.real for each in (f.fold, f.drop, f.repeat) if each is not None), self.size)
        if address < real:
            return address, real - address
        if f.repeat is not None:
            return real - BLOCK + address % BLOCK, BLOCK - address % BLOCK
        if f.fold is not None and (writing or f.fold.reads):
            return _folded(address, f.fold.start, real)
        if f.drop is not None and f.drop.reads == "fold" and not writing:
            return _folded(address, 0, real)
        if f.drop is not None and f.drop.reads == "old" and not writing:
            return address, self.size - address
        return None, self.size - address

    def _stuck(self, address: int, bit: int, stuck: int) -> tuple[int, int]:
        step = 1 << bit
        place = address | step if stuck else address & ~step
        if place >= self.size:
            place &= ~step
        return place, step - address % step


def _folded(address: int, start: int, real: int) -> tuple[int, int]:
    period = max(SECTOR, real - start)
    place = start + (address - start) % period
    return place, real - place
