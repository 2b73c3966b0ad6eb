"""The pieces that a rescue still has to do, and the command that each would send next."""

from __future__ import annotations

import msgspec
from msgspec.structs import replace

SWEEP = 256 << 10
SWEEP_OF_FILES = 1 << 20
LONGEST_JUMP = 16 << 20
LONGEST_COMMAND = 1 << 20


class Command(msgspec.Struct, frozen=True):
    """What is read at once: bytes [start, end)."""

    start: int
    end: int

    @property
    def length(self) -> int:
        """Bytes."""
        return self.end - self.start


class Sweep(msgspec.Struct, frozen=True, tag="sweep"):
    """A stretch that nobody has touched yet; after a failure `jump` pieces are left out."""

    start: int
    end: int
    piece: int
    jump: int = 1

    def command(self, unit: int) -> Command:
        """Its front."""
        return Command(self.start, min(self.end, self.start + self.piece))


class Gap(msgspec.Struct, frozen=True, tag="gap"):
    """A stretch with a bad place somewhere: from its good sides the first and the last bad unit are looked for.

    Attributes:
        start, end: bytes.
        is_left_good, is_right_good: which sides can be gone on from.
        left: one command has failed that lay in [start, left); None where none has yet.
        right: the same of [right, end).
        step: bytes of the next command from a side where nothing has failed; 0 takes half of what is left.
        hits, tries: of units in its middle, before.
    """

    start: int
    end: int
    is_left_good: bool = True
    is_right_good: bool = True
    left: int | None = None
    right: int | None = None
    step: int = 0
    hits: int = 0
    tries: int = 0

    def command(self, unit: int) -> Command:
        """From the side where more is to be had."""
        left = self._length(self.left, (self.left or self.end) - self.start, unit) if self.is_left_good else 0
        right = self._length(self.right, self.end - (self.start if self.right is None else self.right), unit) \
            if self.is_right_good else 0
        return Command(self.start, self.start + left) if left >= right else Command(self.end - right, self.end)

    @property
    def is_bounded(self) -> bool:
        """Whether a command from one of its sides has failed."""
        return self.left is not None or self.right is not None

    def _length(self, bound: int | None, reach: int, unit: int) -> int:
        half = self.step if self.step and bound is None else reach // 2 // unit * unit
        return min(reach, max(unit, min(half, LONGEST_COMMAND)))


class Inside(msgspec.Struct, frozen=True, tag="inside"):
    """A stretch between bad units: one in its middle is tried."""

    start: int
    end: int
    hits: int = 0
    tries: int = 0

    def command(self, unit: int) -> Command:
        """One unit."""
        middle = self.start + (self.end - self.start) // 2 // unit * unit
        return Command(middle, min(self.end, middle + unit))


class Again(msgspec.Struct, frozen=True, tag="again"):
    """Units that have failed by themselves, tried once more one after the other."""

    start: int
    end: int
    tries: int = 1

    def command(self, unit: int) -> Command:
        """Its first unit."""
        return Command(self.start, min(self.end, self.start + unit))


Piece = Sweep | Gap | Inside | Again


class Reached(msgspec.Struct, frozen=True):
    """What a command has come to: pieces that are left, and units that are bad by themselves now."""

    left: tuple[Piece, ...] = ()
    bad: tuple[Command, ...] = ()


def after(piece: Piece, unit: int, *, is_good: bool) -> Reached:
    """What is left of a piece after its command."""
    command = piece.command(unit)
    if isinstance(piece, Sweep):
        return _after_sweep(piece, command, is_good=is_good)
    if isinstance(piece, Gap):
        from_left = piece.is_left_good and command.start == piece.start
        side = _after_left if from_left else _after_right
        return side(piece, command, unit, is_good=is_good)
    if isinstance(piece, Inside):
        return _after_inside(piece, command, unit, is_good=is_good)
    rest = replace(piece, start=command.end)
    return Reached(_some(rest), () if is_good else (command,))


def _after_sweep(piece: Sweep, command: Command, *, is_good: bool) -> Reached:
    if is_good:
        return Reached(_some(Sweep(command.end, piece.end, piece.piece)))
    over = min(piece.end, command.end + min(piece.jump * piece.piece, LONGEST_JUMP))
    return Reached((Gap(command.start, over, left=command.end),
                    *_some(Sweep(over, piece.end, piece.piece, piece.jump * 2))))


def _after_left(piece: Gap, command: Command, unit: int, *, is_good: bool) -> Reached:
    if is_good:
        piece = replace(piece, start=command.end, step=min(2 * piece.step, LONGEST_COMMAND))
    else:
        piece = replace(piece, left=command.end)
    if piece.left is None or piece.left - piece.start > unit:
        return Reached(_some(piece))
    if piece.left <= piece.start:                          # what failed at first has answered bit by bit
        return Reached(_some(replace(piece, left=None, step=0)))
    bad = Command(piece.start, piece.left)
    rest = replace(piece, start=bad.end, left=None, is_left_good=False)
    return Reached(_some(_closed(rest)), (bad,))


def _after_right(piece: Gap, command: Command, unit: int, *, is_good: bool) -> Reached:
    if is_good:
        left = piece.left if piece.left is None or piece.left < command.start else None
        piece = replace(piece, end=command.start, left=left, step=min(2 * piece.step, LONGEST_COMMAND))
    else:
        piece = replace(piece, right=command.start)
    if piece.right is None or piece.end - piece.right > unit:
        return Reached(_some(piece))
    if piece.right >= piece.end:
        return Reached(_some(replace(piece, right=None, step=0)))
    bad = Command(piece.right, piece.end)
    left = piece.left if piece.left is None or piece.left <= bad.start else None
    rest = replace(piece, end=bad.start, right=None, left=left, is_right_good=False)
    return Reached(_some(_closed(rest)), (bad,))


def _closed(piece: Gap) -> Gap | Inside:
    """Without a good side it is looked into from its middle."""
    is_open = piece.is_left_good or piece.is_right_good
    return piece if is_open else Inside(piece.start, piece.end, piece.hits, piece.tries)


def _after_inside(piece: Inside, command: Command, unit: int, *, is_good: bool) -> Reached:
    hits, tries = piece.hits + is_good, piece.tries + 1
    if is_good:
        before = Gap(piece.start, command.start, is_left_good=False, step=unit, hits=hits, tries=tries)
        behind = Gap(command.end, piece.end, is_right_good=False, step=unit, hits=hits, tries=tries)
        return Reached((*_some(before), *_some(behind)))
    return Reached((*_some(Inside(piece.start, command.start, hits, tries)),
                    *_some(Inside(command.end, piece.end, hits, tries))), (command,))


def _some(piece: Piece) -> tuple[Piece, ...]:
    """The piece, unless nothing of it is left."""
    return (piece,) if piece.start < piece.end else ()
