"""Unmounting and ejecting from any station: beside everything else, with what came of it said at the bottom."""

from __future__ import annotations

from collections.abc import Callable

from mosscrate.core.slots import Medium
from mosscrate.desk.bench_model import BenchModel


def unmount(model: BenchModel, medium: Medium, then: Callable[[], object] | None = None) -> None:
    """Unmount everything of a card; `then` is called when that was done."""
    def done(places: tuple[str, ...]) -> None:
        where = ", ".join(places)
        model.said.emit(f"{medium.name} is no longer mounted at {where}." if where else
                        f"Nothing of {medium.name} was mounted.")
        model.refresh()
        if then is not None:
            then()

    model.asker.ask(lambda: model.bench.shelf.unmount(medium), done, lambda error: model.failed.emit(str(error)))


def eject(model: BenchModel, medium: Medium) -> None:
    """Unmount it, eject it where its reader can, and say when it may be pulled."""
    def done(sentence: str) -> None:
        model.said.emit(sentence)
        model.refresh()

    model.asker.ask(lambda: model.bench.shelf.eject(medium), done, lambda error: model.failed.emit(str(error)))
