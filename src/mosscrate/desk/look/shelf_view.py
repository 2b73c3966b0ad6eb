"""The shelf: every medium at hand as a small core with its name."""

from __future__ import annotations

from PyQt6.QtCore import QModelIndex, QPersistentModelIndex, QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QDragEnterEvent, QDragMoveEvent, QDropEvent, QPainter, QPainterPath, QPen
from PyQt6.QtWidgets import QListWidget, QListWidgetItem, QStyle, QStyledItemDelegate, QStyleOptionViewItem, QWidget

from mosscrate.core.contents import Layout
from mosscrate.core.findings import Severity, worst
from mosscrate.core.maps import MapKind
from mosscrate.core.sizes import counted
from mosscrate.core.slots import Medium, Source
from mosscrate.desk.bench_model import BenchModel
from mosscrate.desk.shared.drawing import draw_focus, draw_text, scaled_font
from mosscrate.desk.shared.files_in_hand import in_hand
from mosscrate.desk.shared.painting import draw_wrapping, free_brush
from mosscrate.desk.shared.strata import StratumKind, lay_out, strata_of, unknown_because
from mosscrate.desk.shared.words import item_of, tip
from mosscrate.desk.theme import Look, color

KEY_ROLE = Qt.ItemDataRole.UserRole
SLOT_ROLE = Qt.ItemDataRole.UserRole + 1
SLOT_HEIGHT = 40
ROW_HEIGHT = 74
SMALL_WRAPPING = 4


class ShelfView(QListWidget):
    """Follows the bench's media; the chosen one is the medium in hand."""

    picked = pyqtSignal(object)
    opened = pyqtSignal()                            # the chosen one, by Enter or a double click
    files_dropped = pyqtSignal(object, object)       # Medium, FilesInHand

    def __init__(self, model: BenchModel, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.model_ = model
        self.setItemDelegate(_Delegate(model, self))
        self.setFrameShape(QListWidget.Shape.NoFrame)
        self.setStyleSheet("background: transparent;")
        self.setAccessibleName("Shelf: cards, drives and images at hand")
        self.setVerticalScrollMode(QListWidget.ScrollMode.ScrollPerPixel)
        self.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.setAcceptDrops(True)
        model.media_changed.connect(self.fill)
        model.selected_changed.connect(self.follow)
        model.seen_changed.connect(lambda _key: self._repaint())
        model.crate_changed.connect(self._repaint)
        self.currentRowChanged.connect(self._pick)
        self.itemActivated.connect(lambda _item: self.opened.emit())
        self.fill()

    def fill(self) -> None:
        """Show the media as they are now."""
        self.blockSignals(True)
        self.clear()
        for medium in self.model_.shelf:
            item = item_of(f"{medium.name}, {medium.subtitle}, tag {medium.tag}")
            item.setData(KEY_ROLE, medium.key)
            item.setToolTip(tip(f"{medium.name}\n{medium.path}\n{medium.model} {medium.serial}".strip()))
            self.addItem(item)
        for slot in self.model_.empty_slots:
            item = QListWidgetItem(f"Empty slot of {slot.reader}")
            item.setData(SLOT_ROLE, slot.reader)
            item.setFlags(Qt.ItemFlag.NoItemFlags)
            self.addItem(item)
        self.blockSignals(False)
        self.follow()

    def follow(self) -> None:
        """Mark the medium in hand."""
        if self.count() != len(self.model_.shelf) + len(self.model_.empty_slots):
            self.fill()
            return
        keys = [m.key for m in self.model_.shelf]
        chosen = self.model_.selected
        self.blockSignals(True)
        self.setCurrentRow(keys.index(chosen.key) if chosen and chosen.key in keys else -1)
        self.blockSignals(False)
        self._repaint()

    def dragEnterEvent(self, event: QDragEnterEvent | None) -> None:
        """Qt: files of a card may be dropped on another one."""
        if event is not None and in_hand(event.mimeData()):
            event.acceptProposedAction()

    def dragMoveEvent(self, event: QDragMoveEvent | None) -> None:
        """Qt: onto a card, not beside it."""
        if event is not None:
            event.setAccepted(self.itemAt(event.position().toPoint()) is not None)

    def dropEvent(self, event: QDropEvent | None) -> None:
        """Qt."""
        hand = in_hand(event.mimeData()) if event else None
        row = self.indexAt(event.position().toPoint()).row() if event else -1
        if event is not None and hand is not None and 0 <= row < len(self.model_.shelf):
            self.files_dropped.emit(self.model_.shelf[row], hand)
            event.acceptProposedAction()

    def _pick(self, row: int) -> None:
        shelf = self.model_.shelf
        if 0 <= row < len(shelf):
            self.picked.emit(shelf[row])

    def _repaint(self) -> None:
        if viewport := self.viewport():
            viewport.update()


class _Delegate(QStyledItemDelegate):
    def __init__(self, model: BenchModel, parent: QWidget) -> None:
        super().__init__(parent)
        self.model = model

    def sizeHint(self, option: QStyleOptionViewItem, index: QModelIndex) -> QSize:
        return QSize(180, SLOT_HEIGHT if index.data(SLOT_ROLE) else ROW_HEIGHT)

    def paint(self, painter: QPainter | None, option: QStyleOptionViewItem,
              index: QModelIndex | QPersistentModelIndex) -> None:
        medium = next((m for m in self.model.shelf if m.key == index.data(KEY_ROLE)), None)
        if painter is not None and index.data(SLOT_ROLE):
            _draw_empty_slot(painter, option, index.data(SLOT_ROLE))
        if painter is None or medium is None:
            return
        painter.save()
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        area = QRectF(option.rect).adjusted(2, 2, -4, -2)
        is_chosen = bool(option.state & QStyle.StateFlag.State_Selected)
        painter.setPen(QPen(color("accent" if is_chosen else "line"), 1.4 if is_chosen else 1))
        painter.setBrush(color("panel"))
        painter.drawRoundedRect(area, 7, 7)
        seen = self.model.seen.get(medium.key)
        draw_small_core(painter, QRectF(area.left() + 9, area.top() + 8, 26, area.height() - 16),
                        seen.layout if seen else None)
        font = scaled_font(option.font, 1.0)
        words = QRectF(area.left() + 45, area.top() + 8, area.width() - 54, 18)
        draw_text(painter, words, medium.name, scaled_font(font, 1.0, bold=True), color("text"))
        draw_text(painter, words.translated(0, 19), medium.subtitle, scaled_font(font, 0.85), color("muted"))
        text, ink = self._status(medium, seen.layout if seen else None, seen.error if seen else "")
        draw_text(painter, words.translated(0, 37), text, scaled_font(font, 0.85), color(ink))
        if is_chosen and bool(option.state & QStyle.StateFlag.State_HasFocus):
            draw_focus(painter, area, 7)
        painter.restore()

    def _status(self, medium: Medium, layout: Layout | None, error: str) -> tuple[str, str]:
        if medium.key in self.model.busy:
            return "a job is at work on it", "accent"
        seen = self.model.seen.get(medium.key)
        if seen is not None and seen.must_ask:
            return "ask to read it", "warning"
        if error:
            return "cannot be read", "problem"
        if layout is None:
            return "being read…", "muted"
        if medium.source == Source.BACKUP:
            return "a kept backup", "muted"
        if self.model.proof_on(medium):
            return "proof interrupted", "problem"
        if self.model.interrupted_on(medium):
            return "in the middle of a job", "problem"
        if worst(layout.findings) in (Severity.WARNING, Severity.PROBLEM):
            return "something was found", "warning"
        if layout.is_blank:
            return "blank" if layout.trace is None else "no map, old contents", "muted"
        kept = self.model.last_kept(medium)
        unkept = self.model.unkept.get(medium.key)
        if unkept and unkept.saves:
            return f"{unkept.short} not kept", "warning"
        if kept:
            return f"kept {kept.kept_at:%d %b %Y}", "muted"
        return (_contents(layout), "muted") if medium.source == Source.IMAGE else ("not kept yet", "warning")


def _draw_empty_slot(painter: QPainter, option: QStyleOptionViewItem, reader: str) -> None:
    """A place that waits for a card: only its outline."""
    painter.save()
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    area = QRectF(option.rect).adjusted(2, 2, -4, -2)
    painter.setPen(QPen(color("line"), 1, Qt.PenStyle.DashLine))
    painter.drawRoundedRect(area, 7, 7)
    painter.drawRoundedRect(QRectF(area.left() + 9, area.top() + 7, 26, area.height() - 14), 4, 4)
    words = QRectF(area.left() + 45, area.top(), area.width() - 54, area.height())
    draw_text(painter, words, f"Empty slot · {reader}", scaled_font(option.font, 0.85), color("muted"))
    painter.restore()


def _contents(layout: Layout) -> str:
    """What an image file holds, in a few words."""
    if layout.map_kind != MapKind.NONE:
        return f"{layout.map_kind.upper()}, {counted(len(layout.partitions), 'partition')}"
    if unknown := unknown_because(layout):
        return unknown
    volume = layout.partitions[0].volume if layout.partitions else None
    return f"{volume.kind_name}, no map" if volume and volume.kind else "nothing known"


def draw_small_core(painter: QPainter, rect: QRectF, layout: Layout | None) -> None:
    """A core without words, in its wrapping where it is packed."""
    if layout is not None and layout.packing is not None:
        rect = rect.adjusted(SMALL_WRAPPING, SMALL_WRAPPING, -SMALL_WRAPPING, -SMALL_WRAPPING)
        draw_wrapping(painter, rect, SMALL_WRAPPING, 1.0 if layout.is_read_through else 0.0)
    outline = QPainterPath()
    outline.addRoundedRect(rect, 4, 4)
    painter.fillPath(outline, color("ground"))
    if layout is not None:
        painter.save()
        painter.setClipPath(outline)
        strata = strata_of(layout)
        for stratum in lay_out(strata, rect.height(), header="", header_height=4):
            part = QRectF(rect.left(), rect.top() + stratum.top, rect.width(), stratum.height)
            if stratum.kind == StratumKind.MAP:
                painter.fillRect(part, color("raised"))
            elif stratum.kind == StratumKind.FREE:
                painter.fillRect(part, free_brush())
            else:
                painter.fillRect(part.adjusted(0, 0, 0, -0.8), Look.now.role(stratum.role))
        painter.restore()
    painter.setPen(QPen(color("line"), 1.2))
    painter.setBrush(Qt.BrushStyle.NoBrush)
    painter.drawPath(outline)
