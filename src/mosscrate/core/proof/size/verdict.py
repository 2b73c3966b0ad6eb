"""What a proof says of a card, with how certain it is."""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum

from mosscrate.core.blocks import Extent
from mosscrate.core.sizes import MIB, binary, counted, exact, some_of


class Kind(StrEnum):
    """What was found."""

    HOLDS = "holds what it claims"
    FOLDS = "folds"                        # two addresses are one room
    LINE = "a line is stuck"               # every address is another one with one bit turned
    DROPS = "drops"                        # nothing is held above the end
    REPEATS = "repeats"                    # one block answers for everything above the end
    HOLE = "a hole"                        # a stretch holds nothing, with room above it
    UNSURE = "unsure"                      # too little could be read


@dataclass(frozen=True)
class Verdict:
    """The outcome of a size proof.

    Attributes:
        kind: what was found.
        stage: the step that decided.
        size: bytes that are claimed.
        real: bytes up to which it can be used; None where that was not found.
        is_exact: whether `real` is exact to a block of 4 KiB.
        hole: (first byte, last + 1) of a stretch that holds nothing.
        evidence: what was seen where.
        bad: how many blocks could not be read or written on the way.
        not_back: bytes from the start of blocks below the end whose old contents do not stay.
        hidden: bytes that a cache or an odd fold may still hide.
        is_given_up: whether what stood on it was not put back, as was asked for.
        at_least: bytes that it holds for certain, where `real` is not exact.
        lost: stretches that do not hold what is written there.
        skipped: stretches that were not written, since what stands there could not be read.
    """

    kind: Kind
    stage: str
    size: int
    real: int | None = None
    is_exact: bool = False
    hole: tuple[int, int] = (0, 0)
    evidence: str = ""
    bad: int = 0
    not_back: tuple[int, ...] = ()
    hidden: int = 0
    is_given_up: bool = False
    at_least: int = 0
    lost: tuple[Extent, ...] = ()
    skipped: tuple[Extent, ...] = ()

    @property
    def is_false(self) -> bool:
        """Whether it does not hold what it claims."""
        return self.kind not in (Kind.HOLDS, Kind.UNSURE)

    @property
    def is_good(self) -> bool:
        """Whether nothing speaks against using it."""
        return not (self.is_false or self.lost)

    def sentence(self, name: str) -> str:
        """The verdict with its certainty, its reason, and what became of the contents."""
        return " ".join(filter(None, (self._first(name), self._lost(), self._bad(), self._back(name))))

    def _first(self, name: str) -> str:
        if self.kind == Kind.UNSURE:
            return self.evidence or f"{name} cannot be proved: too many places of it cannot be read or written."
        if self.kind == Kind.HOLDS:
            return f"{name} holds the {binary(self.size)} that it claims, {self._certainty()}."
        about = "" if self.is_exact else f"at least {binary(self.at_least)} and at most " if self.at_least else "about "
        if self.kind == Kind.HOLE:
            first, end = self.hole
            return (f"{name} is false: nothing is held from byte {first:,} to {end:,} ({binary(end - first)}), though "
                    f"there is room behind it. {self.evidence}")
        if self.real is None:
            return f"{name} is false: it does not hold the {binary(self.size)} that it claims. {self.evidence}"
        how = {Kind.FOLDS: "what is written above that overwrites what lies below",
               Kind.LINE: "one line of its address is stuck, and what is written above overwrites what lies below",
               Kind.REPEATS: "everything above is one and the same block",
               Kind.DROPS: "what is written above that is lost"}[self.kind]
        precisely = f" ({exact(self.real)})" if self.is_exact else ""
        return (f"{name} is false: it holds {about}{binary(self.real)}{precisely}, not {binary(self.size)}; {how}. "
                f"{self.evidence}")

    def _certainty(self) -> str:
        if self.stage == "whole":
            left = f" but {binary(sum(e.length for e in self.skipped))} that could not be read before" \
                if self.skipped else ""
            return f"every block of it{left} was written and read again"
        if self.stage == "pulled":
            return "as far as marks tell that were on it while it was out of its reader"
        if self.stage == "run":
            return (f"unless it hides more than {binary(self.hidden * 2 // 3)} behind a cache or lies by less than "
                    f"{binary(self.hidden)}; a false stretch in its middle is only found for certain by the full proof")
        return f"unless it hides more than {binary(2 * MIB)} behind a cache or folds at an odd size"

    def _lost(self) -> str:
        if not self.lost or self.is_false:
            return ""
        shown = some_of([f"{binary(e.length)} at byte {e.start:,}" for e in self.lost], 3)
        places = counted(len(self.lost), "place")
        return f"But it does not hold what is written in {places}: {shown}. Use another card."

    def _bad(self) -> str:
        return f"{counted(self.bad, 'place')} of it could not be read or written; that says nothing about its size." \
            if self.bad else ""

    def _back(self, name: str) -> str:
        if self.is_given_up:
            return "Nothing is on it any more."
        if not self.not_back:
            return "Everything on it is as it was." if not self.is_false else \
                "What lies below its true end is as it was."
        where = ", ".join(f"{at:,}" for at in self.not_back[:3]) + (" …" if len(self.not_back) > 3 else "")
        what = f"{counted(len(self.not_back), 'block')} of {name}"
        if self.is_false:
            return f"{what} lost what stood there when the marks came to lie on them, at byte {where}."
        return f"{what} did not take back what stood there, at byte {where}."
