"""The plan of a move as the person has it before them. No Qt.

It is proposed whole, then corrected: steps left out, a size typed or dragged. Every correction
gives a new plan; what is drawn follows from it.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from functools import cached_property

import msgspec

from mosscrate.core.contents import Layout, PartitionLook
from mosscrate.core.contents.straight import SWAPPED
from mosscrate.core.crate import Crate
from mosscrate.core.errors import FitError
from mosscrate.core.findings import Finding, Severity
from mosscrate.core.machines import Machine, boot_partition, check, largest_in
from mosscrate.core.sheet.planning.editing import with_steps
from mosscrate.core.sheet.planning.forecasting import Forecast, after, forecast
from mosscrate.core.sheet.planning.losses import what_would_be_lost
from mosscrate.core.sheet.planning.preparing import Wish, prepared, propose_preparation
from mosscrate.core.sheet.planning.propose import gives_room, offered, propose, propose_arrangement, propose_growth
from mosscrate.core.sheet.planning.putting_back import PutBack
from mosscrate.core.sheet.planning.suiting import Suited, suited, within_reach
from mosscrate.core.sheet.sheet import JobSheet
from mosscrate.core.sheet.sights import planned
from mosscrate.core.sheet.steps import (
    AnyStep,
    CopyFiles,
    CopyPartition,
    Eject,
    EmptyCard,
    GrowPartition,
    KeepCard,
    NewMap,
    RebuildPartition,
    RefreshPartition,
    WriteFitted,
    WriteImage,
)
from mosscrate.core.sheet.verdicts import proved_bad
from mosscrate.core.sizes import GIB, MIB, binary
from mosscrate.core.slots import Medium
from mosscrate.core.volumes import kind_name
from mosscrate.desk.shared.strata import header_of, lay_out, strata_of

SNAP = 9.0                     # pixels
ROUND_SIZES = tuple(size * GIB for size in (1, 2, 4, 8, 16, 32, 64, 128, 256, 512))


@dataclass(frozen=True)
class Stop:
    """A size at which the edge rests, and why."""

    size: int
    name: str


@dataclass(frozen=True)
class Ribbon:
    """How one partition comes over: from the source's to the target's stratum."""

    index: int
    to: int
    word: str
    is_grown: bool

WITHIN = ((RefreshPartition, "over the old one"), (CopyFiles, "files"))     # what goes into a partition that stays


@dataclass(frozen=True)
class Plan:
    """Source, target and the sheet between them; what follows from them is worked out once."""

    source: Medium
    source_layout: Layout
    target: Medium
    target_layout: Layout
    proposed: JobSheet
    losses: tuple[Finding, ...]
    left_out: frozenset[int] = frozenset()
    machine: Machine | None = None
    usual: JobSheet | None = None                # what is proposed for any machine; None once a person corrected it
    because: tuple[Finding, ...] = ()            # why another sheet is proposed
    at_stake: tuple[Finding, ...] = ()           # what the card holds that some steps would do away with
    wish: Wish | None = None                     # of a card that is laid out anew

    @cached_property
    def sheet(self) -> JobSheet:
        """The sheet without the steps that were left out."""
        steps = tuple(s for k, s in enumerate(self.proposed.steps) if k not in self.left_out)
        return msgspec.structs.replace(self.proposed, steps=steps)

    @property
    def would_be_lost(self) -> tuple[Finding, ...]:
        """What the sheet does away with: of a card that is changed where it is, only by some steps."""
        does_away = any(step.does_away and step.is_in_place for step in self.sheet.steps)
        return self.at_stake if does_away and self.at_stake else self.losses

    @cached_property
    def forecast(self) -> Forecast:
        """What the sheet does."""
        return self._forecast(self.sheet)

    def foreseen(self) -> Forecast:
        """The same with the media open, so that names and single files count too. Raises MossError; takes its time."""
        with self.source.open_to_look() as source, self.target.open() as target:
            return forecast(self.sheet, None if self.is_in_place else self.source_layout, self.target_layout,
                            source_blocks=None if self.is_in_place else source, target_blocks=target)

    def _forecast(self, sheet: JobSheet) -> Forecast:
        return forecast(sheet, None if self.is_in_place else self.source_layout, self.target_layout)

    @cached_property
    def suits(self) -> tuple[Finding, ...]:
        """What the machine that the card is meant for makes of the result; empty where none is chosen."""
        layout = self.forecast.layout
        return check(layout, self.machine) if self.machine and layout else ()

    @property
    def outlook(self) -> Layout | None:
        """The target as it will be, with what its machine makes of it."""
        layout = self.forecast.layout
        return replace(layout, findings=layout.findings + self.suits) if layout else None

    @cached_property
    def all_lines(self) -> Forecast:
        """Every proposed step in words, the ones left out too."""
        return self._forecast(self.proposed)

    @property
    def growing(self) -> int | None:
        """The partition whose edge can be dragged; it may still be as it was, its growing an offer."""
        return next((s.partition for s in self.proposed.steps if gives_room(s)), None)

    @property
    def is_made_anew(self) -> bool:
        """Whether that partition's volume is made anew with its files instead of being grown in place."""
        return any(isinstance(s, RebuildPartition) and gives_room(s) for s in self.proposed.steps)

    @property
    def is_offer(self) -> bool:
        """Whether that partition stays as it was unless somebody asks for more."""
        return any(gives_room(s) for k, s in enumerate(self.proposed.steps) if k in self.left_out)

    @property
    def is_in_place(self) -> bool:
        """Whether one card is changed where it is, without a second one."""
        return self.source.key == self.target.key

    @property
    def title(self) -> str:
        """What it does, in a few words."""
        steps = self.sheet.steps
        if self.is_in_place:
            anew = any(isinstance(s, RebuildPartition) for s in steps)
            return "Make a card’s last volume anew" if anew else "Grow a card’s last partition"
        if any(isinstance(s, CopyPartition) for s in steps):
            return "Copy partitions onto another card"
        if any(isinstance(s, WriteFitted) for s in steps):
            return "Move a card onto a smaller one, shrunk to fit"
        if any(isinstance(s, RefreshPartition) for s in steps):
            return "Put a new release over a card’s firmware"
        if any(isinstance(s, CopyFiles) for s in steps) and not self.writes_all:
            return "Copy files onto another card"
        larger = self.target.size > self.source.size and any(gives_room(s) for s in steps)
        return "Move a card onto a larger one" if larger else "Move a card as it is onto another one"

    @property
    def written(self) -> Layout | None:
        """The target after writing and before growing; None where it cannot be written."""
        if self.is_in_place or not self.writes_all:
            return self.target_layout
        writing = next((s for s in self.proposed.steps if isinstance(s, WriteImage | WriteFitted)), WriteImage())
        try:
            return after(writing, self.source_layout, self.target_layout)
        except FitError:                             # the sheet says why
            return None

    @property
    def writes_all(self) -> bool:
        """Whether the whole source is written onto the target."""
        return any(s.writes_all for s in self.proposed.steps)

    def meant_for(self, machine: Machine | None) -> Plan:
        """The plan for a machine: with the sheet that suits it, unless a person has corrected the one that is there."""
        if self.usual is None:
            return replace(self, machine=machine)
        if self.is_in_place:
            here = self.target_layout
            grown = within_reach(Suited(self.usual), here, here, machine) if machine else Suited(self.usual)
            return replace(self, machine=machine, proposed=grown.sheet, because=grown.findings)
        fit = suited(self.usual, self.source_layout, self.target_layout, machine) if machine else Suited(self.usual)
        return replace(self, machine=machine, proposed=fit.sheet, because=fit.findings,
                       left_out=offered(fit.sheet, self.source_layout))

    def wished(self, wish: Wish, machine: Machine | None) -> Plan:
        """The same card, laid out anew in another way or for another machine. Raises FitError."""
        steps = prepared(wish, self.target_layout, machine)
        old = self.proposed.steps
        kept, rest = (s for s in old if isinstance(s, KeepCard)), (s for s in old if isinstance(s, Eject))
        proposed = msgspec.structs.replace(self.proposed, steps=(*kept, *steps, *rest))
        return replace(self, wish=wish, machine=machine, proposed=proposed, left_out=self.left_out & frozenset(
            k for k, s in enumerate(proposed.steps) if isinstance(s, KeepCard)))

    def leaving_out(self, step: int, *, is_out: bool) -> Plan:
        """The same plan with one proposed step left out or taken in again."""
        return replace(self, usual=None, left_out=self.left_out | {step} if is_out else self.left_out - {step})

    def with_steps(self, steps: tuple[AnyStep, ...]) -> Plan:
        """The same plan with more steps, before the card is let go of.

        Steps that begin from nothing take the place of writing the whole source.
        """
        begins = not self.is_in_place and (self.writes_all or self.usual is not None)
        edited = with_steps(self.proposed, steps, self.left_out, may_begin_anew=begins)
        return replace(self, usual=None, proposed=edited.sheet, left_out=edited.left_out)

    def putting_back(self, found: PutBack) -> Plan:
        """The same plan with what comes back of an earlier card, and what is said of it."""
        is_all = found.steps and not found.left
        told = Severity.WARNING if found.unread else Severity.GOOD if is_all else Severity.NOTE
        return replace(self.with_steps(found.steps), because=(*self.because, Finding(told, found.sentence)))

    def with_size(self, size: int | None) -> Plan:
        """The same plan with another size for the partition that grows; None fills the card."""
        filling = frozenset(k for k, s in enumerate(self.proposed.steps) if gives_room(s))
        if size is not None and size <= self.bounds()[0]:
            return replace(self, usual=None, left_out=self.left_out | filling)
        asked = replace(self, left_out=self.left_out - filling)
        return asked._growing_by(lambda s: RebuildPartition(s.partition, s.kind, s.block, size, size is None)
                                if isinstance(s, RebuildPartition) else GrowPartition(s.partition, size))

    def in_the_way(self, *, is_anew: bool) -> Plan:
        """The same plan with the volume made anew with its files, or grown in place."""
        return self._growing_by(lambda s: RebuildPartition(s.partition, size=s.size, fills=s.size is None) if is_anew
                                else GrowPartition(s.partition, s.size))

    def _growing_by(self, changed: Callable[[GrowPartition | RebuildPartition], AnyStep]) -> Plan:
        steps = tuple(changed(s) if gives_room(s) else s for s in self.proposed.steps)
        return replace(self, usual=None, proposed=msgspec.structs.replace(self.proposed, steps=steps))

    def bounds(self) -> tuple[int, int]:
        """Smallest and largest size in bytes of the partition that grows."""
        written, index = self.written, self.growing
        if written is None or index is None:
            return 0, 0
        look = written.partition(index)
        volume = look.volume
        largest = volume.largest if volume else 0
        if look.is_unread:
            largest = self.target.size                     # how far it goes is only known on the card
        if self.is_made_anew and volume and volume.facts:
            largest = volume.facts.most or self.target.size
        return look.partition.length, max(look.partition.length, min(planned(written, "").room_behind(index), largest))

    def stops(self) -> tuple[Stop, ...]:
        """Where the edge rests: the old size, round sizes, limits of machine and file system, the end of the card."""
        low, high = self.bounds()
        written, index = self.written, self.growing
        if written is None or index is None:
            return ()
        fills = high >= planned(written, "").room_behind(index)
        volume = written.partition(index).volume
        last = Stop(high, "fills the card" if fills else f"limit: {volume.largest_because if volume else ''}")
        inner = {size: binary(size) for size in ROUND_SIZES if low + 64 * MIB < size < high - 64 * MIB}
        inner |= {size: because for size, because in self._machine_limits(written, index) if low < size < high}
        return (Stop(low, "as it was"), *(Stop(size, inner[size]) for size in sorted(inner)), last)

    def _machine_limits(self, layout: Layout, index: int) -> tuple[tuple[int, str], ...]:
        """Where the machine's limit for one partition lies, if it sets one."""
        boot = boot_partition(layout)
        limit = largest_in(self.machine, layout.partition(index),
                           is_boot=boot is not None and boot.index == index) if self.machine else None
        return (limit,) if limit else ()

    def size_at(self, y: float, height: float) -> int | None:
        """The size for an edge dragged to a pixel row, resting at stops; None fills the card.

        Heights are compressed, so the size is found by halving: its stratum's edge falls as it grows.
        """
        low, high = self.bounds()
        stops = self.stops()
        near = min(stops, key=lambda stop: abs(self._edge(stop.size, height) - y), default=None)
        if near and abs(self._edge(near.size, height) - y) <= SNAP:
            return None if near is stops[-1] else near.size
        for _ in range(40):
            middle = (low + high) // 2
            low, high = (middle, high) if self._edge(middle, height) < y else (low, middle)
        return low // MIB * MIB

    def nudged(self, step: int) -> Plan:
        """The same plan with the edge at the next stop up or down."""
        size, stops = self.size(), self.stops()
        if step > 0:
            found = next((s for s in stops if s.size > size), stops[-1])
        else:
            found = next((s for s in reversed(stops) if s.size < size), stops[0])
        return self.with_size(None if found is stops[-1] else found.size)

    def size(self) -> int:
        """What the partition that grows will have."""
        layout, index = self.forecast.layout, self.growing
        return layout.partition(index).partition.length if layout and index is not None else 0

    def ribbons(self) -> tuple[Ribbon, ...]:
        """One for each partition of the source that comes over."""
        layout = self.forecast.layout
        if layout is None:
            return ()
        brought = [s.source for s in self.sheet.steps if isinstance(s, CopyPartition)]
        if brought:
            is_cleared = self.target_layout.is_blank or any(isinstance(s, NewMap | EmptyCard) for s in self.sheet.steps)
            before = set() if is_cleared else {p.partition.start for p in self.target_layout.partitions}
            came = [p for p in layout.partitions if p.partition.start not in before and p.volume]
            pairs = [(self.source_layout.partition(i), twin) for i, twin in zip(brought, came, strict=False)]
        elif (self.is_in_place or self.writes_all) and not any(s.begins_anew for s in self.sheet.steps):
            pairs = [(look, twin) for look in self.source_layout.partitions
                     for twin in layout.partitions if twin.index == look.index]
        else:
            pairs = []
        into = [] if self.is_in_place else [(s, way) for kind, way in WITHIN for s in self.sheet.steps
                                            if isinstance(s, kind)]
        is_swapped = (layout.container == SWAPPED) != (self.source_layout.container == SWAPPED)
        return (*(Ribbon(look.index, twin.index,
                         "swapped" if is_swapped else _way(look, twin, is_in_place=self.is_in_place),
                         twin.partition.length > look.partition.length) for look, twin in pairs),
                *(Ribbon(s.source, s.partition, way, is_grown=False) for s, way in into))

    def _edge(self, size: int, height: float) -> float:
        written, index = self.written, self.growing
        assert written is not None, "only what is written has an edge"
        assert index is not None, "only a partition that grows has an edge"
        look = written.partition(index)
        changed = written.with_partition(replace(look, partition=replace(look.partition, length=size)))
        placed = lay_out(strata_of(changed), height, header=header_of(changed))
        return next(s.bottom for s in placed if s.index == index)


def _way(look: PartitionLook, twin: PartitionLook, *, is_in_place: bool) -> str:
    """How a partition comes over, in a word or two."""
    old, new = look.partition, twin.partition
    if look.volume and twin.volume and look.volume.variant != twin.volume.variant:
        return f"anew, {kind_name(twin.variant)}"
    if new.length > old.length:
        return f"grown ×{new.length / old.length:.1f}"
    if new.length < old.length:
        return "shrunk"
    if new.start != old.start:
        return "moved"
    return "stays" if is_in_place else "exact"


def make_arrangement(medium: Medium, layout: Layout, crate: Crate) -> Plan:
    """A plan that changes one card where it is, its steps still to be added. Raises MediumError."""
    return Plan(medium, layout, medium, layout, propose_arrangement(medium, layout, crate),
                (Finding(Severity.GOOD, "What is overwritten is noted first, so a step can be taken back."),),
                at_stake=(*proved_bad(layout), *what_would_be_lost(medium, layout, crate)))


def make_preparation(medium: Medium, layout: Layout, crate: Crate, wish: Wish, machine: Machine | None) -> Plan:
    """A plan that lays a card out anew. Raises MediumError, FitError."""
    lost = (*proved_bad(layout), *what_would_be_lost(medium, layout, crate))
    sheet = propose_preparation(medium, layout, crate, prepared(wish, layout, machine))
    return Plan(medium, layout, medium, layout, sheet, lost, machine=machine, at_stake=lost, wish=wish)


def make_plan(source: Medium, source_layout: Layout, target: Medium, target_layout: Layout, crate: Crate) -> Plan:
    """The proposed plan; growing in place where both are one card. Raises MediumError where a medium cannot be read."""
    if source.key == target.key:
        growth = propose_growth(target, target_layout, crate)
        return Plan(source, source_layout, target, target_layout, growth,
                    (Finding(Severity.GOOD, "Its files stay. What is overwritten is noted first, so it can be taken "
                             "back."),), usual=growth)
    sheet = propose(source, source_layout, target, target_layout, crate)
    losses = what_would_be_lost(target, target_layout, crate)
    told = (*proved_bad(target_layout), *proved_bad(source_layout), *losses)
    return Plan(source, source_layout, target, target_layout, sheet, told, usual=sheet,
                left_out=offered(sheet, source_layout))
