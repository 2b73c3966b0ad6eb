"""Which system files a plan wants, and where each of them is: on the card, in the crate, or nowhere."""

from __future__ import annotations

from collections import Counter
from dataclasses import dataclass, replace
from functools import partial

from mosscrate.core.contents.survey import open_partition
from mosscrate.core.fill.plans import FolderPlan, Want
from mosscrate.core.fill.wanted import is_it, places_of
from mosscrate.core.sheet.bench import Bench
from mosscrate.core.sheet.planning.from_crate import held_for
from mosscrate.core.sizes import counted, listed
from mosscrate.core.slots import Medium
from mosscrate.core.volumes import Kind, facts_of


@dataclass(frozen=True)
class Wanted:
    """One of them.

    Attributes:
        want: as the plan has it.
        there: places at which it lies as it should.
        other: places at which something else has its name.
        gone: places at which nothing is.
        held: what the crate has, as a sentence; "" for nothing.
        games: on the card that wait for it.
    """

    want: Want
    there: tuple[str, ...]
    other: tuple[str, ...]
    gone: tuple[str, ...]
    held: str
    games: int

    @property
    def sentence(self) -> str:
        """For people."""
        parts = [f"on the card at {listed(list(self.there))}"] if self.there else []
        parts += [f"something else is at {listed(list(self.other))}"] if self.other else []
        parts += [f"missing at {listed(list(self.gone))}"] if self.gone else []
        waits = f"; {counted(self.games, 'game')} of {listed(list(self.want.systems))} there" if self.games else ""
        return f"{self.want.file}: {', '.join(parts) or 'has no place in this plan'}{waits}. {self.held}".rstrip()


def wanted_on(card: Medium, partition: int, plan: FolderPlan, bench: Bench) -> list[Wanted]:
    """Every system file of a plan, seen from a card. Raises MediumError, FormatError."""
    with card.open() as blocks:
        volume = open_partition(blocks, partition)
        facts, entries = facts_of(volume.variant), volume.tree().entries
        fold = facts.folded if facts is not None else str.casefold
        files = {fold(entry.path): entry for entry in entries if entry.kind == Kind.FILE}
        games = Counter({code: sum(path.startswith(fold(f"{plan.folder_of(code)}/")) for path in files)
                         for code in plan.systems})
        found = list[Wanted]()
        for want in plan.wants:
            states = {place: files.get(fold(place)) for place in places_of(plan, want)}
            there = tuple(place for place, entry in states.items() if entry is not None and (
                not want.size or entry.size == want.size) and (
                not want.digests or is_it(want, partial(volume.read_file, entry))))
            gone = tuple(place for place, entry in states.items() if entry is None)
            other = tuple(place for place in states if place not in there and place not in gone)
            found.append(Wanted(want, there, other, gone, "", sum(games[code] for code in want.systems)))
    held = held_for([each.want for each in found if not each.there], bench)
    return [replace(each, held=held[each.want.file].sentence) if each.want.file in held else each for each in found]
