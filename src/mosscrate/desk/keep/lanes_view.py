"""Draws the lanes of the crate; a backup can be chosen by mouse and keyboard."""

from __future__ import annotations

from datetime import datetime

from PyQt6.QtCore import QPointF, QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen
from PyQt6.QtWidgets import QSizePolicy, QWidget

from mosscrate.core.crate import Backup, Lane
from mosscrate.core.sizes import binary
from mosscrate.desk.keep.timeline import (
    CORE_WIDTH,
    HEAD,
    LANE_HEIGHT,
    Mark,
    Timeline,
    lane_words,
    lay_out,
    mark_at,
    neighbour,
)
from mosscrate.desk.shared.drawing import CENTER, draw_card, draw_focus, draw_text, mixed, scaled_font
from mosscrate.desk.shared.hearing import Heard, Part, Spot
from mosscrate.desk.shared.words import show_tip
from mosscrate.desk.theme import Look, color

NAMES = 260.0


class LanesView(QWidget):
    """All lanes, one below the other."""

    chosen = pyqtSignal(object)          # Backup

    def __init__(self) -> None:
        super().__init__()
        self.lanes: list[Lane] = []
        self.since: dict[str, str] = {}      # by the key of a card: what is new on it
        self.selected: Backup | None = None
        self._now = datetime.now().astimezone()
        self._timeline = Timeline((), ())
        self._heard = Heard(self, Spot)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setMouseTracking(True)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Preferred)
        self.setAccessibleName("Backups along time, a lane for each card")

    def show_lanes(self, lanes: list[Lane], now: datetime) -> None:
        """Draw these; the newest backup of the first lane is chosen when none was."""
        self.lanes, self._now = lanes, now
        now_there = {b.path: b for lane in lanes for b in lane.backups}
        newest = lanes[0].backups[-1] if lanes else None
        self.selected = now_there.get(self.selected.path, newest) if self.selected else newest
        self.setMinimumHeight(int(HEAD + len(lanes) * LANE_HEIGHT + 8))
        self._place()
        self._describe()
        self.update()

    def sizeHint(self) -> QSize:
        """Qt."""
        return QSize(760, self.minimumHeight())

    def timeline(self) -> Timeline:
        """Every backup with its place, for tests that click."""
        return self._timeline

    def resizeEvent(self, event: object) -> None:
        """Qt: time follows the width."""
        self._place()

    def paintEvent(self, event: QPaintEvent | None) -> None:
        """Qt: draw."""
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        for month in self._timeline.months:
            painter.setPen(QPen(mixed(color("line"), color("ground"), 0.5), 1))
            painter.drawLine(QPointF(month.x, HEAD - 6), QPointF(month.x, HEAD + len(self.lanes) * LANE_HEIGHT))
            draw_text(painter, QRectF(month.x + 4, 4, 90, 18), month.name, scaled_font(self.font(), 0.82),
                      color("muted"))
        for number, lane in enumerate(self.lanes):
            self._draw_lane(painter, number, lane)
        for mark in self._timeline.marks:
            self._draw_mark(painter, mark)
        painter.end()

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        """Qt: choose a backup; on a lane's name its newest."""
        if event is None:
            return
        x, y = event.position().x(), event.position().y()
        mark = mark_at(self._timeline, x, y)
        row = int((y - HEAD) // LANE_HEIGHT)
        if mark:
            self._choose(mark.backup)
        elif 0 <= row < len(self.lanes):
            self._choose(self.lanes[row].backups[-1])

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        """Qt: say what is under the pointer."""
        mark = mark_at(self._timeline, event.position().x(), event.position().y()) if event else None
        lane = int((event.position().y() - HEAD) // LANE_HEIGHT) if event else -1
        if event and not mark and 0 <= lane < len(self.lanes) and self.lanes[lane].note:
            show_tip(event.globalPosition().toPoint(), self.lanes[lane].note, self)
        if event and mark:
            record = mark.backup.record
            show_tip(event.globalPosition().toPoint(),
                              f"{record.card.name}\n{mark.backup.kept_at:%d %B %Y, %H:%M}"
                              f"\n{binary(record.length)}, {binary(record.written)} of it not empty"
                              f"\n{binary(round(mark.backup.new * record.written))} of that in no backup before"
                              + (f"\n{mark.backup.note}" if mark.backup.note else ""), self)

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        """Qt: left and right along time, up and down between cards."""
        if event is None:
            return
        mark = next((m for m in self._timeline.marks if self.selected and m.backup.path == self.selected.path), None)
        keys = Qt.Key
        moved = {keys.Key_Left: (0, -1), keys.Key_Right: (0, 1), keys.Key_Up: (-1, 0), keys.Key_Down: (1, 0)}.get(
            Qt.Key(event.key()))
        if moved is None:
            super().keyPressEvent(event)
            return
        found = neighbour(self._timeline, mark, lanes=moved[0], steps=moved[1])
        if found:
            self._choose(found.backup)

    def _place(self) -> None:
        left = min(NAMES, self.width() * 0.32)
        self._timeline = lay_out(self.lanes, self._now, left + 14, self.width() - left - 22)
        self._describe()

    def _choose(self, backup: Backup) -> None:
        self.selected = backup
        self._describe()
        self.update()
        self.chosen.emit(backup)

    def _describe(self) -> None:
        chosen = self.selected
        self.setAccessibleDescription(f"{chosen.record.card.name}, {chosen.kept_at:%d %B %Y}" if chosen else "")
        self._heard.show([self._part(mark) for mark in self._timeline.marks])

    def _part(self, mark: Mark) -> Part:
        backup, record = mark.backup, mark.backup.record
        whole = "" if record.is_complete else ", incomplete"
        return Part(QRectF(mark.x, mark.top, CORE_WIDTH, mark.height),
                    f"{record.card.name}, kept {backup.kept_at:%d %B %Y}{whole}",
                    f"{binary(record.length)}, {binary(record.written)} of it not empty",
                    self.selected is not None and backup.path == self.selected.path, lambda: self._choose(backup))

    def _draw_lane(self, painter: QPainter, number: int, lane: Lane) -> None:
        top, width = HEAD + number * LANE_HEIGHT, min(NAMES, self.width() * 0.32)
        is_chosen = self.selected is not None and self.selected.record.card.key == lane.card.key
        if is_chosen:
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(color("panel"))
            painter.drawRoundedRect(QRectF(0, top + 2, self.width() - 2, LANE_HEIGHT - 4), 6, 6)
        painter.setPen(QPen(color("line"), 1))
        painter.drawLine(QPointF(width, top + LANE_HEIGHT), QPointF(self.width() - 4, top + LANE_HEIGHT))
        draw_card(painter, QRectF(12, top + 15, 27, 36))
        words = QRectF(52, top + 13, width - 58, 20)
        draw_text(painter, words, lane.card.name, scaled_font(self.font(), 1.0, bold=True), color("text"))
        since = self.since.get(lane.card.key, "")
        days = (self._now - lane.backups[-1].kept_at).days
        draw_text(painter, words.translated(0, 20), lane_words(lane, self._now, since), scaled_font(self.font(), 0.85),
                  color("warning" if days > 60 or since else "muted"))

    def _draw_mark(self, painter: QPainter, mark: Mark) -> None:
        rect = QRectF(mark.x, mark.top, CORE_WIDTH, mark.height)
        is_chosen = self.selected is not None and mark.backup.path == self.selected.path
        painter.setPen(QPen(color("accent") if is_chosen else mixed(color("muted"), color("ground"), 0.6),
                            2 if is_chosen else 1.2))
        painter.setBrush(color("ground"))
        painter.drawRoundedRect(rect, 4, 4)
        inner = rect.adjusted(3, 3, -3, -3)
        top = inner.top()
        for part in mark.parts:
            tall = inner.height() * part.share
            base = Look.now.role(part.role)
            painter.fillRect(QRectF(inner.left(), top, inner.width(), tall - 1), mixed(base, color("ground"), 0.3))
            used = QRectF(inner.left(), top, max(2.0, inner.width() * part.used), tall - 1)
            painter.fillRect(used, mixed(base, color("ground"), 0.55))
            painter.fillRect(used.adjusted(0, used.height() * (1 - mark.backup.new), 0, 0), base)
            top += tall
        if not mark.backup.record.is_complete:
            draw_text(painter, rect, "!", scaled_font(self.font(), 1.0, bold=True), color("problem"),
                      CENTER)
        if is_chosen and self.hasFocus():
            draw_focus(painter, rect.adjusted(-5, -5, 5, 5), 6)
