"""Where a person was in a tree of files, to be there again when it has been read anew."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

from PyQt6.QtCore import QModelIndex
from PyQt6.QtWidgets import QTreeView

from mosscrate.desk.look.tree_model import TreeModel


@dataclass(frozen=True)
class TreePlace:
    """Paths of the folders that stand open, of the current row, and how far the view is scrolled."""

    opened: tuple[str, ...] = ()
    current: str = ""
    scrolled: int = 0


def place_in(view: QTreeView, model: TreeModel) -> TreePlace:
    """Where the view is now."""
    bar, current = view.verticalScrollBar(), model.entry(view.currentIndex())
    return TreePlace(tuple(_opened(view, model, QModelIndex())), current.path if current else "",
                     bar.value() if bar else 0)


def go_to(view: QTreeView, model: TreeModel, place: TreePlace) -> None:
    """Back to a place; what is gone is passed over, a row that is gone gives way to its folder."""
    for path in place.opened:
        index = model.find(path)
        if index.isValid():
            view.expand(index)
    path = place.current
    while path and not model.find(path).isValid():
        path = path.rpartition("/")[0]
    if path:
        view.setCurrentIndex(model.find(path))
    if bar := view.verticalScrollBar():
        bar.setValue(place.scrolled)


def _opened(view: QTreeView, model: TreeModel, above: QModelIndex) -> Iterator[str]:
    for row in range(model.rowCount(above)):
        index = model.index(row, 0, above)
        entry = model.entry(index)
        if entry is not None and view.isExpanded(index):
            yield entry.path
            yield from _opened(view, model, index)
