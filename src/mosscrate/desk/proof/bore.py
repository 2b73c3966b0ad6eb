"""The picture of a proof: the core, its log beside it, bad places cut through both, the true end as a surface."""

from __future__ import annotations

import math
from collections.abc import Sequence

from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QColor, QMouseEvent, QPainter, QPainterPath, QPaintEvent, QPen, QPolygonF, QResizeEvent
from PyQt6.QtWidgets import QWidget

from mosscrate.core.blocks import Extent
from mosscrate.core.blocks.runs import joined
from mosscrate.core.contents import Layout
from mosscrate.core.proof.log import DepthLog
from mosscrate.core.proof.reading import Hit
from mosscrate.core.sizes import binary, counted, duration, rate
from mosscrate.desk.proof.depth import Line, depth_at, lines
from mosscrate.desk.shared.core_view import CoreView
from mosscrate.desk.shared.drawing import CENTER, LEFT, draw_text, scaled_font
from mosscrate.desk.shared.hearing import Heard, Part, Words
from mosscrate.desk.shared.strata import y_of
from mosscrate.desk.shared.words import show_tip
from mosscrate.desk.theme import color

HEAD = 40                                # pixels above the column: the scale
CORE = 300                               # of the core with its ruler
NAMES = 190                              # of the names beside bad places
APART = 32                               # from one name to the next
TOUCHING = 6                             # pixels in which places of one file are one cut
MANY = 500                               # places from which on those of one pixel are drawn as one
GRID = 4
READING = "reading speed along the depth; the band is slowest to fastest"
WRITING = "writing speed along the depth; the band is slowest to fastest"
PALE = "; the pale line is last time"


UNMEASURED = ("Nothing was measured yet.", "Read all of it, and its log stands here.")
NO_CARD = ("No card is chosen.", "Choose one on the shelf, and its log stands here.")


class Bore(QWidget):
    """Shows a card, its log as far as it has grown, and what was found."""

    def __init__(self) -> None:
        super().__init__()
        self.setMinimumSize(560, 240)
        self.setMouseTracking(True)
        self.core = CoreView("left", self)
        self.core.setMouseTracking(True)
        self._cuts = _Cuts(self)
        self._cuts.setAttribute(Qt.WidgetAttribute.WA_TransparentForMouseEvents)
        self.log: DepthLog | None = None
        self.hits: tuple[Hit, ...] = ()
        self.real: int | None = None
        self.differing: tuple[Extent, ...] = ()
        self.lines: list[Line] = []
        self.last: DepthLog | None = None        # of the time before
        self._last_lines: list[Line] = []
        self.caption, self._has_card = READING, False
        self.setAccessibleName("Log along the depth")
        self._heard = Heard(self, Words)

    def show_card(self, layout: Layout | None, name: str) -> None:
        """Another card, or another state of it; its log is shown apart. No name is no card."""
        self._has_card = bool(name)
        self.core.show_layout(layout, name or "nothing")
        self.grow()

    def show_log(self, log: DepthLog | None, hits: tuple[Hit, ...] = (), real: int | None = None, *,
                 caption: str = READING) -> None:
        """What was measured, the files on bad places, and where the card really ends."""
        self.log, self.hits, self.real, self.caption, self.differing = log, hits, real, caption, ()
        self.grow()

    def show_differing(self, places: tuple[Extent, ...], hits: tuple[Hit, ...]) -> None:
        """Where it is not what was kept, and the files there; until a log is shown."""
        self.differing, self.hits = places, hits
        self.grow()

    def show_last(self, log: DepthLog | None) -> None:
        """How it was the time before: a pale line."""
        self.last = log
        self.grow()

    def grow(self) -> None:
        """Draw the log as it is now."""
        self.lines = lines(self.log, self.core.placed()) if self.log is not None else []
        self._last_lines = lines(self.last, self.core.placed()) if self.last is not None else []
        if self.log is not None:
            said = f"Read at {rate(self.log.rate)}, {counted(len(self.log.bad), 'bad place')}"
            self._heard.show([Part(QRectF(self.rect()), said)])
        self.update()
        self._cuts.update()

    def resizeEvent(self, event: QResizeEvent | None) -> None:
        """Qt: core at the left, its log beside it."""
        self.core.setGeometry(0, HEAD, CORE, self.height() - HEAD)
        self._cuts.setGeometry(self.rect())
        self._cuts.raise_()
        self.grow()

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        """Qt: any depth can be pointed at."""
        at = depth_at(self.core.placed(), event.position().y() - self.top) if event else None
        if event is None or at is None or event.position().x() < CORE:
            return
        near = next((line.row for line in self.lines if line.row.start <= at < line.row.end), None)
        told = f"At {binary(at)}"
        if near is not None and near.mean:
            told += f": {rate(near.mean)} ({rate(near.slowest)} to {rate(near.fastest)}), longest answer " \
                    f"{duration(near.longest)}"
        if near is not None and near.bad:
            told += f"; {counted(near.bad, 'place')} here cannot be read"
        show_tip(event.globalPosition().toPoint(), told, self)

    @property
    def top(self) -> float:
        """Of the core's column, in this widget."""
        return HEAD + self.core.column().top()

    def area(self) -> QRectF:
        """Where the curves are."""
        column = self.core.column()
        return QRectF(CORE + 24, self.top, max(60.0, self.width() - CORE - 24 - NAMES - 16), column.height())

    def height_of(self, offset: int) -> float:
        """Where a depth stands."""
        return self.top + y_of(self.core.placed(), offset)

    def paintEvent(self, event: QPaintEvent | None) -> None:
        """Qt: the scale and the curves."""
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        area, font = self.area(), scaled_font(self.font(), 0.82)
        known = [line.row.fastest for line in self.lines if not self._is_below(line)]
        highest = _round_up(max([*known, *(line.row.mean for line in self._last_lines)], default=0.0))
        painter.setPen(QPen(color("line"), 1))
        for step in range(GRID + 1):
            x = area.left() + area.width() * step / GRID
            painter.setPen(QPen(color("line"), 1))
            painter.drawLine(QPointF(x, area.top()), QPointF(x, area.bottom()))
            if highest:
                told = rate(highest * step / GRID) if step else "0"
                draw_text(painter, QRectF(x - 40, HEAD - 20, 80, 16), told, font, color("muted"), CENTER)
        if not highest:
            middle = QRectF(area.left(), area.center().y() - 20, area.width() + NAMES, 18)
            for number, words in enumerate(UNMEASURED if self._has_card else NO_CARD):
                draw_text(painter, middle.translated(0, 18 * number), words, font, color("muted"), CENTER)
        draw_text(painter, QRectF(area.left(), 0, area.width() + NAMES, 16),
                  self.caption + (PALE if self._last_lines else ""), font, color("muted"), LEFT)
        self._draw_last(painter, highest, area)
        for stretch in self._stretches(self.lines):
            self._draw_stretch(painter, stretch, highest, area)
        painter.end()

    def _draw_last(self, painter: QPainter, highest: float, area: QRectF) -> None:
        pale = QColor(color("muted"))
        pale.setAlpha(150)
        painter.setPen(QPen(pale, 1.2))
        for stretch in self._stretches(self._last_lines):
            painter.drawPolyline(QPolygonF([QPointF(area.left() + area.width() * line.row.mean / highest,
                                                    self.top + line.y) for line in stretch]))

    def _stretches(self, along: list[Line]) -> list[list[Line]]:
        """The curve breaks where a place is bad, where nothing was measured and at the true end: it does not dive."""
        found: list[list[Line]] = [[]]
        for line in along:
            if line.row.bad or not line.row.mean or self._is_below(line):
                found.append([])
            else:
                found[-1].append(line)
        return [stretch for stretch in found if stretch]

    def _is_below(self, line: Line) -> bool:
        return self.real is not None and line.row.start >= self.real

    def _draw_stretch(self, painter: QPainter, stretch: list[Line], highest: float, area: QRectF) -> None:
        def x(value: float) -> float:
            return area.left() + area.width() * min(1.0, value / highest)

        ys = [self.top + line.y for line in stretch]
        band = [QPointF(x(line.row.slowest), y) for line, y in zip(stretch, ys, strict=True)]
        band += [QPointF(x(line.row.fastest), y) for line, y in reversed(list(zip(stretch, ys, strict=True)))]
        tint = QColor(color("accent"))
        tint.setAlpha(46)
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(tint)
        painter.drawPolygon(QPolygonF(band))
        painter.setPen(QPen(color("accent"), 1.8))
        curve = [QPointF(x(line.row.mean), y) for line, y in zip(stretch, ys, strict=True)]
        if len(curve) == 1:
            curve.append(curve[0] + QPointF(0, 1.5))
        painter.drawPolyline(QPolygonF(curve))


class _Cuts(QWidget):
    """Over core and log: bad places, and the surface of the true end."""

    def __init__(self, bore: Bore) -> None:
        super().__init__(bore)
        self.bore = bore

    def paintEvent(self, event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        if self.bore.real is not None:
            self._draw_end(painter, self.bore.real)
        if self.bore.differing:
            self._draw_places(painter, self.bore.differing, color("warning"), "differ from the backup")
        elif self.bore.log is not None:
            self._draw_places(painter, self.bore.log.bad, color("problem"), "cannot be read")
        painter.end()

    def _draw_places(self, painter: QPainter, places_there: Sequence[Extent], ink: QColor, words_for: str) -> None:
        """One cut for each line that is touched, its number beside it, and the files that lie there."""
        core, area, font = self.bore.core, self.bore.area(), scaled_font(self.font(), 0.85)
        column = core.column().translated(core.x(), core.y())
        groups: list[tuple[float, int, int]] = []                   # height, places, first byte
        for extent in places_there if len(places_there) < MANY else joined(places_there, self._pixel()):
            y = self.bore.height_of(extent.start)
            if groups and y - groups[-1][0] < TOUCHING and self._name_at(groups[-1][2]) == self._name_at(extent.start):
                groups[-1] = (groups[-1][0], groups[-1][1] + 1, groups[-1][2])
            else:
                groups.append((y, 1, extent.start))
        free = 0.0
        for y, places, first in groups:
            painter.setPen(QPen(ink, 1.8))
            painter.drawPath(_zigzag(column.left() - 3, column.right() + 3, y))
            painter.setPen(QPen(ink, 1, Qt.PenStyle.DotLine))
            words = max(y - 8, free)
            painter.drawLine(QPointF(column.right() + 3, y), QPointF(area.right() + 4, y))
            if words + APART > self.height():                # no room for more names: the cuts say enough
                continue
            painter.drawLine(QPointF(area.right() + 4, y), QPointF(area.right() + 12, words + 8))
            place = QRectF(area.right() + 16, words, NAMES - 8, 16)
            draw_text(painter, place, self._name_at(first), scaled_font(font, 1.0, bold=True), color("text"), LEFT)
            told = words_for if places > 1 else words_for.replace("differ ", "differs ")
            draw_text(painter, place.translated(0, 14), f"{counted(places, 'place')} {told}", font, ink, LEFT)
            free = words + APART

    def _pixel(self) -> int:
        """Bytes that lie on a pixel of the column, in the mean."""
        layout = self.bore.core.layout_shown
        return int((layout.size if layout else 0) / max(1.0, self.bore.core.column().height()))

    def _name_at(self, offset: int) -> str:
        """The file on a bad place, else its partition."""
        layout = self.bore.core.layout_shown
        look = next((look for look in (layout.partitions if layout else ())
                     if 0 <= offset - look.partition.start < look.partition.length), None)
        hit = next((h for h in self.bore.hits if offset in h.at), None)
        if hit is not None:
            return hit.path.rpartition("/")[2]
        if look is None:
            return "outside of every partition"
        return "contents not known" if look.is_unread else f"{look.name}, no file"

    def _draw_end(self, painter: QPainter, real: int) -> None:
        """What lies below is drawn over: there is nothing of its own there."""
        core, area = self.bore.core, self.bore.area()
        column = core.column().translated(core.x(), core.y())
        y = self.bore.height_of(real)
        below = QRectF(column.left(), y, area.right() - column.left(), column.bottom() - y)
        ground = QColor(color("ground"))
        ground.setAlpha(214)
        painter.fillRect(below, ground)
        wave = QPainterPath(QPointF(column.left() - 6, y))
        x = column.left() - 6
        while x < self.width() - 4:
            x += 4
            wave.lineTo(x, y + 3 * math.sin((x - column.left()) / 22))
        painter.setPen(QPen(color("warning"), 2.4))
        painter.drawPath(wave)
        font = scaled_font(self.font(), 0.95, bold=True)
        place = QRectF(column.left(), y + 10, column.width(), 18)
        draw_text(painter, place, "nothing of its own", font, color("warning"), CENTER)
        draw_text(painter, QRectF(area.left() + 8, y + 10, area.width() + NAMES, 18), f"True end: {binary(real)}", font,
                  color("warning"), LEFT)
        draw_text(painter, QRectF(area.left() + 8, y + 30, area.width() + NAMES, 18),
                  "What is written below this surface is lost, or overwrites what lies above it.",
                  scaled_font(self.font(), 0.85), color("text"), LEFT)


def _zigzag(left: float, right: float, y: float) -> QPainterPath:
    path, up = QPainterPath(QPointF(left, y)), True
    x = left
    while x < right:
        x += 4
        path.lineTo(min(x, right), y + (-2.5 if up else 2.5))
        up = not up
    return path


def _round_up(value: float) -> float:
    """A rate at which the scale can end."""
    if value <= 0:
        return 0.0
    power = 10.0 ** math.floor(math.log10(value))
    return float(next(step * power for step in (1, 2, 4, 8, 10) if step * power >= value))


