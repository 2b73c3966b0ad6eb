"""A medium as a core sample: an upright column, first sector on top, partitions as strata."""

from __future__ import annotations

from collections.abc import Sequence

from PyQt6.QtCore import QPoint, QPointF, Qt, pyqtSignal
from PyQt6.QtGui import QContextMenuEvent, QDragEnterEvent, QDragMoveEvent, QDropEvent, QKeyEvent, QMouseEvent
from PyQt6.QtWidgets import QApplication, QSizePolicy, QWidget

from mosscrate.core.blocks import Extent
from mosscrate.core.contents import Layout
from mosscrate.core.sizes import binary, exact
from mosscrate.desk.shared.core_drawing import DrawnCore
from mosscrate.desk.shared.files_in_hand import in_hand
from mosscrate.desk.shared.hearing import Edge, Heard, Part, Spot
from mosscrate.desk.shared.strata import Stratum, StratumKind, header_of, lay_out, strata_of, stratum_at, y_of
from mosscrate.desk.shared.words import show_tip

GRIP = 7.0                             # pixels beside the handle that still take hold of it


class CoreView(DrawnCore):
    """Shows one layout; a stratum can be chosen or, where it `can_be_carried`, dragged away; so can the edge of one."""

    chosen = pyqtSignal(int)               # index of a partition
    edge_moved = pyqtSignal(float)         # where the handle was dragged to, in pixels from the column's top
    edge_nudged = pyqtSignal(int)          # -1 or +1 by the keyboard
    edge_released = pyqtSignal()
    edge_set = pyqtSignal(object)          # bytes, by people who hear the screen
    acts_wanted = pyqtSignal(object, QPoint)   # a partition, or None for the card; where on the screen
    carried = pyqtSignal(int, QPoint)      # a partition, and where on the screen it is being dragged
    let_go = pyqtSignal(int, QPoint)
    files_dropped = pyqtSignal(int, object)          # a partition, FilesInHand

    def __init__(self, ruler: str = "left", parent: QWidget | None = None) -> None:
        super().__init__(ruler, parent)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setMouseTracking(True)
        self.setMinimumSize(150, 180)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.can_be_carried = False
        self._is_dragging = False
        self._heard = Heard(self, Spot)
        self._edge = Edge(self, self.edge_set.emit)
        self._pressed_at: QPointF | None = None  # on a stratum, so long as it may become a carrying
        self._is_carrying = False

    def show_layout(self, layout: Layout | None, name: str) -> None:
        """Draw another layout; `name` is said to people who hear the screen."""
        self.layout_shown = layout
        self.setAccessibleName(f"Core of {name}")
        self._place()
        indexes = [s.index for s in self._placed if s.index is not None]
        if self.selected not in indexes:
            self.selected = indexes[-1] if indexes else None
        self._describe()
        self._still = None
        self.update()

    def show_changed(self, changed: Sequence[Extent]) -> None:
        """Mark stretches that are other than they were."""
        self.changed = tuple(changed)
        held = binary(sum(extent.length for extent in changed))
        self.setToolTip(f"Marked at the edge: what changed since, {held}." if changed else "")
        self._still = None
        self.update()

    def select(self, index: int | None) -> None:
        """Choose a partition without telling anybody."""
        self.selected = index
        self._describe()
        self._still = None
        self.update()

    def show_edge(self, low: int, high: int, now: int) -> None:
        """Between which bytes the edge of the partition with the handle can lie, and where it is."""
        rect, stratum = self._handle_rect(), self._stratum(self.handle)
        if rect is None or stratum is None or not low <= now <= high:
            self._edge.hide()
        else:
            self._edge.show_value(rect, f"Size of {stratum.name}", low, high, now, binary(now))

    def show_reached(self, offset: int | None) -> None:
        """How far a running job has come, in bytes."""
        before, self.reached = self.reached, offset
        if offset is None or before is None:
            self._still = None
            self.update()
        elif int(y_of(self._placed, offset)) != int(y_of(self._placed, before)):
            self.update()

    def show_unwrapped(self, fraction: float) -> None:
        """How much of a packed disk was read through, 0 to 1."""
        if abs(fraction - self.unwrapped) * self.height() >= 1 or fraction in (0.0, 1.0):
            self.unwrapped, self._still = fraction, None
            self.update()

    def show_welcome(self, *, is_welcome: bool) -> None:
        """Whether what is carried over this core may be let go here."""
        self._is_welcome = is_welcome
        self.update()

    def resizeEvent(self, event: object) -> None:
        """Qt: the strata follow the height."""
        self._place()
        self._describe()

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        """Qt: up and down choose; with Alt, or left and right, the edge moves."""
        if event is None:
            return
        if event.key() in (Qt.Key.Key_Menu, Qt.Key.Key_Return, Qt.Key.Key_Enter) and self.has_acts:
            self._ask_for_acts(self.selected)
            return
        key, with_alt = event.key(), bool(event.modifiers() & Qt.KeyboardModifier.AltModifier)
        step = {Qt.Key.Key_Up: -1, Qt.Key.Key_Down: 1, Qt.Key.Key_Left: -1, Qt.Key.Key_Right: 1}.get(Qt.Key(key))
        if step is None:
            super().keyPressEvent(event)
        elif self.handle is not None and (with_alt or key in (Qt.Key.Key_Left, Qt.Key.Key_Right)):
            self.edge_nudged.emit(step)
        else:
            self._step(step)

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        """Qt: choose a stratum, or take hold of the edge."""
        if event is None:
            return
        y = event.position().y() - self.column().top()
        if self._is_on_handle(event.position()):
            self._is_dragging = True
        elif self.has_acts and (dots := self._dots_rect()) is not None and dots.contains(event.position()):
            self._ask_for_acts(self.selected)
        elif self.has_acts and (head := stratum_at(self._placed, y)) and head.kind == StratumKind.MAP:
            self._ask_for_acts(None)
        elif (hit := stratum_at(self._placed, y)) and hit.index is not None:
            self._choose(hit.index)
            self._pressed_at = event.position() if self.can_be_carried else None

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        """Qt: drag the edge, carry a stratum, or tell exact bytes."""
        if event is None:
            return
        y = event.position().y() - self.column().top()
        if self._is_dragging:
            self.edge_moved.emit(y)
            return
        if self._pressed_at is not None and self.selected is not None:
            way = (event.position() - self._pressed_at).manhattanLength()
            self._is_carrying = self._is_carrying or way >= QApplication.startDragDistance()
            if self._is_carrying:
                self.setCursor(Qt.CursorShape.ClosedHandCursor)
                self.carried.emit(self.selected, event.globalPosition().toPoint())
            return
        is_over = self._is_on_handle(event.position())
        self.setCursor(Qt.CursorShape.SizeVerCursor if is_over else Qt.CursorShape.ArrowCursor)
        hit = stratum_at(self._placed, y)
        if hit and hit.kind != StratumKind.MAP:
            hint = "\nDrag it across to bring it over alone." if self.can_be_carried and hit.index is not None else ""
            show_tip(event.globalPosition().toPoint(),
                              f"{hit.name}: {exact(hit.length)}, from byte {hit.start:,}\n{hit.line}{hint}", self)

    def mouseReleaseEvent(self, event: QMouseEvent | None) -> None:
        """Qt: let go of the edge, or of a stratum."""
        if self._is_dragging:
            self._is_dragging = False
            self.edge_released.emit()
        was_carrying, self._is_carrying, self._pressed_at = self._is_carrying, False, None
        if was_carrying and event is not None and self.selected is not None:
            self.setCursor(Qt.CursorShape.ArrowCursor)
            self.let_go.emit(self.selected, event.globalPosition().toPoint())

    def contextMenuEvent(self, event: QContextMenuEvent | None) -> None:
        """Qt: the short list at the pointer, of the stratum that it is over."""
        if event is None or not self.has_acts:
            return
        hit = stratum_at(self._placed, event.pos().y() - self.column().top())
        if hit is not None and hit.index is not None:
            self._choose(hit.index)
        self.acts_wanted.emit(hit.index if hit else None, event.globalPos())

    def _ask_for_acts(self, index: int | None) -> None:
        stratum = self._stratum(index)
        dots = self._dots_rect()
        place = dots.bottomLeft() if dots is not None and stratum is not None else self.column().topLeft()
        self.acts_wanted.emit(stratum.index if stratum else None, self.mapToGlobal(place.toPoint()))

    def dragEnterEvent(self, event: QDragEnterEvent | None) -> None:
        """Qt: files of a card may be dropped on a partition."""
        if event is not None and in_hand(event.mimeData()):
            event.acceptProposedAction()

    def dragMoveEvent(self, event: QDragMoveEvent | None) -> None:
        """Qt: onto a partition, not beside it."""
        if event is not None:
            hit = stratum_at(self._placed, event.position().y() - self.column().top())
            event.setAccepted(hit is not None and hit.index is not None)

    def dropEvent(self, event: QDropEvent | None) -> None:
        """Qt."""
        hand = in_hand(event.mimeData()) if event else None
        hit = stratum_at(self._placed, event.position().y() - self.column().top()) if event else None
        if event is not None and hand is not None and hit is not None and hit.index is not None:
            self.files_dropped.emit(hit.index, hand)
            event.acceptProposedAction()

    def _place(self) -> None:
        self._still = None
        if self.layout_shown is None:
            self._placed = ()
        else:
            self._placed = lay_out(strata_of(self.layout_shown), self.column().height(),
                                   header=header_of(self.layout_shown))

    def _choose(self, index: int) -> None:
        self.selected = index
        self._describe()
        self._still = None
        self.update()
        self.chosen.emit(index)

    def _step(self, step: int) -> None:
        indexes = [s.index for s in self._placed if s.index is not None]
        if indexes:
            at = indexes.index(self.selected) + step if self.selected in indexes else 0
            self._choose(indexes[max(0, min(at, len(indexes) - 1))])

    def _describe(self) -> None:
        chosen = self._stratum(self.selected)
        self.setAccessibleDescription(chosen.sentence if chosen else "nothing chosen")
        self._heard.show([self._part(s) for s in self._placed])

    def _part(self, stratum: Stratum) -> Part:
        index = stratum.index
        found = f"{stratum.severity}: something was found here" if stratum.severity else ""
        if stratum.kind == StratumKind.MAP:
            return Part(self.stratum_rect(stratum), f"Head of the card: {stratum.name}", "",
                        act=lambda: self._ask_for_acts(None) if self.has_acts else None)
        return Part(self.stratum_rect(stratum), stratum.sentence, found, index is not None and index == self.selected,
                    (lambda: self._choose(index)) if index is not None else None)

    def _is_on_handle(self, point: QPointF) -> bool:
        rect = self._handle_rect()
        return rect is not None and rect.adjusted(-20, -GRIP, 20, GRIP).contains(point)
