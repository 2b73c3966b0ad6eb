"""Parts of a drawing for people who hear the screen: each stands over its place as a widget of its own, unpainted.

What draws several things on one surface would be one nameless thing to them. A `Spot` is a button with name,
description, state and action; `Words` are a label; `Edge` is a slider with a value.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Generic, TypeVar

from PyQt6.QtCore import QRectF, Qt
from PyQt6.QtGui import QPaintEvent
from PyQt6.QtWidgets import QAbstractButton, QSlider, QWidget

from mosscrate.desk.shared.words import Label

STEPS = 1000                           # of an edge


@dataclass(frozen=True)
class Part:
    """One thing that is drawn: where, what it is called, what more is said, whether it is the chosen one."""

    rect: QRectF
    name: str
    about: str = ""
    is_chosen: bool = False
    act: Callable[[], object] | None = None


class Spot(QAbstractButton):
    """Something drawn that can be chosen."""

    def __init__(self, parent: QWidget) -> None:
        super().__init__(parent)
        _unseen(self)
        self.setCheckable(True)
        self.part: Part | None = None
        self.clicked.connect(self._chosen)

    def show_part(self, part: Part) -> None:
        """Stand for another one."""
        self.part = part
        self.setGeometry(part.rect.toRect())
        self.setAccessibleName(part.name)
        self.setAccessibleDescription(part.about)
        self.setChecked(part.is_chosen)

    def paintEvent(self, event: QPaintEvent | None) -> None:
        """Qt: the drawing below is seen."""

    def _chosen(self) -> None:
        if self.part is not None:
            self.setChecked(self.part.is_chosen)
            if self.part.act is not None:
                self.part.act()


class Words(Label):
    """Something drawn that is only told."""

    def __init__(self, parent: QWidget) -> None:
        super().__init__()
        self.setParent(parent)
        _unseen(self)

    def show_part(self, part: Part) -> None:
        """Stand for another one."""
        self.setGeometry(part.rect.toRect())
        self.setText(part.name)
        self.setAccessibleName(part.name)
        self.setAccessibleDescription(part.about)

    def paintEvent(self, event: QPaintEvent | None) -> None:
        """Qt: the drawing below is seen."""


class Edge(QSlider):
    """An edge that can be dragged, between the bytes that it can have."""

    def __init__(self, parent: QWidget, moved: Callable[[int], object]) -> None:
        super().__init__(Qt.Orientation.Vertical, parent)
        _unseen(self)
        self.setRange(0, STEPS)
        self._bounds = (0, 0)
        self.valueChanged.connect(lambda value: moved(self._bytes(value)))
        self.hide()

    def show_value(self, rect: QRectF, name: str, low: int, high: int, now: int, words: str) -> None:
        """Where it is now, without telling anybody."""
        self._bounds = (low, high)
        self.blockSignals(True)
        self.setValue(round((now - low) / max(1, high - low) * STEPS))
        self.blockSignals(False)
        self.setGeometry(rect.toRect())
        self.setAccessibleName(name)
        self.setAccessibleDescription(words)
        self.show()

    def paintEvent(self, event: QPaintEvent | None) -> None:
        """Qt: the drawing below is seen."""

    def _bytes(self, value: int) -> int:
        low, high = self._bounds
        return low + (high - low) * value // STEPS


KindT = TypeVar("KindT", "Spot", "Words")


class Heard(Generic[KindT]):
    """The parts of one drawing; widgets are used again."""

    def __init__(self, parent: QWidget, kind: type[KindT]) -> None:
        self._parent = parent
        self._kind: type[KindT] = kind
        self._made: list[KindT] = []

    def show(self, parts: Sequence[Part]) -> None:
        """Stand for these."""
        while len(self._made) < len(parts):
            self._made.append(self._kind(self._parent))
        for number, made in enumerate(self._made):
            if number < len(parts):
                made.show_part(parts[number])
            made.setVisible(number < len(parts))


def _unseen(widget: QWidget) -> None:
    widget.setAttribute(Qt.WidgetAttribute.WA_TransparentForMouseEvents)
    widget.setAttribute(Qt.WidgetAttribute.WA_NoSystemBackground)
    widget.setFocusPolicy(Qt.FocusPolicy.NoFocus)
