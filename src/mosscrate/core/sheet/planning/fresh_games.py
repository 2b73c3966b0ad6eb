"""Games and what belongs to them for a card that is laid out anew: sorted by a plan onto the volume to be made."""

from __future__ import annotations

from contextlib import ExitStack
from dataclasses import dataclass, replace

from mosscrate.core.contents.layout import Layout
from mosscrate.core.errors import FitError
from mosscrate.core.fill.comparing import OnTheCard
from mosscrate.core.fill.lists import NO_LISTS, Lists
from mosscrate.core.fill.placed import Act, Question, Sorted
from mosscrate.core.fill.plans import FolderPlan
from mosscrate.core.fill.sorting import Home, sort
from mosscrate.core.fill.ways import FOLDERS, MAKE_ALL
from mosscrate.core.machines import Machine
from mosscrate.core.sheet.planning.filling import Sources, brought_from, steps_of
from mosscrate.core.sheet.planning.forecasting import forecast
from mosscrate.core.sheet.planning.preparing import Wish, home_of_layout, prepared
from mosscrate.core.sheet.sheet import JobSheet
from mosscrate.core.sizes import binary, counted
from mosscrate.core.watch import Watch


@dataclass(frozen=True)
class FreshGames:
    """What comes onto the fresh card, and what was asked: there every question has its usual answer."""

    sorted: Sorted
    questions: tuple[Question, ...]
    wish: Wish

    @property
    def sentence(self) -> str:
        """How much of it, and what is left out."""
        coming = self.sorted.coming
        left = sum(each.act == Act.LEAVE for each in self.sorted.placed)
        folders = len({each.to.rpartition("/")[0] for each in coming})
        out = f" {counted(left, 'file')} {'is' if left == 1 else 'are'} left out." if left else ""
        return f"{counted(len(coming), 'file')}, {binary(sum(each.size for each in coming))}, into " \
            f"{counted(folders, 'folder')}.{out}"

    @property
    def worst(self) -> str:
        """What is asked first of what is left out; "" for nothing."""
        return next((each.sentence for each in self.questions), "")


def games_for(wish: Wish, layout: Layout, machine: Machine | None, sources: Sources, plan: FolderPlan, watch: Watch, *,
              lists: Lists = NO_LISTS, answers: dict[str, str] | None = None) -> FreshGames:
    """Sort what is brought in onto the card that a wish makes of this one; the wish comes back with the steps for it.

    All folders that are needed are made, where nothing else is answered. Raises FitError, MediumError, FormatError,
    Stopped.
    """
    home = home_of_layout(wish)
    seen = forecast(JobSheet(prepared(replace(wish, games=()), layout, machine)), None, layout)
    look = seen.layout.partition(home) if seen.layout is not None and not seen.problems else None
    if look is None or look.volume is None or look.volume.facts is None:
        raise FitError(seen.problems[0].sentence if seen.problems else "Nothing can be put onto this card.")
    volume, facts = look.volume, look.volume.facts
    with ExitStack() as open_:
        brought = brought_from(sources, None, open_, watch, lists)
        nothing = OnTheCard(lambda _entry, _at, _count: b"", lambda _entry: iter(()))
        found = sort(brought, plan, Home((), facts, volume.block, volume.free or volume.size), nothing,
                     answers={FOLDERS: MAKE_ALL} | (answers or {}))
    if not found.fits:
        raise FitError(f"What is brought in needs {binary(found.need)}, and {look.name} has {binary(found.free)} for "
                       "files. Bring in less, or choose a larger card.")
    return FreshGames(found, found.questions, replace(wish, games=steps_of(found, home)))
