"""The ribbons between two cores: which partition goes where, and how."""

from __future__ import annotations

from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QBrush, QColor, QLinearGradient, QPainter, QPainterPath, QPaintEvent, QPen
from PyQt6.QtWidgets import QSizePolicy, QWidget

from mosscrate.desk.move.plan import Ribbon
from mosscrate.desk.shared.core_view import CoreView
from mosscrate.desk.shared.drawing import CENTER, draw_chip, draw_text, scaled_font
from mosscrate.desk.shared.hearing import Heard, Part, Words
from mosscrate.desk.shared.strata import Stratum
from mosscrate.desk.theme import Look, color

SHORTEST = 16                     # pixels of a stratum whose ribbon still has room for a word
CHIP = 28                         # pixels from one word to the next
# Places on a ribbon's middle line as shares of its width and of its rise: the Bézier curve at 1/2, 1/4 and 3/4.
ALONG = ((0.5, 0.5), (0.297, 0.156), (0.703, 0.844))


class Ribbons(QWidget):
    """Stands between two core views of the same height and joins their strata."""

    def __init__(self, left: CoreView, right: CoreView) -> None:
        super().__init__()
        self._left, self._right = left, right
        self._ribbons: tuple[Ribbon, ...] = ()
        self._sentence = ""
        self._heard = Heard(self, Words)
        self.setMinimumWidth(90)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.setAccessibleName("Where each partition goes")

    def show_ribbons(self, ribbons: tuple[Ribbon, ...], sentence: str = "") -> None:
        """Draw these, or a sentence when there are none."""
        self._ribbons, self._sentence = ribbons, sentence
        names = {s.index: s.name for s in self._left.placed() if s.index is not None}
        told = [f"{names.get(r.index, f'partition {r.index}')}: {r.word}" for r in ribbons]
        told += [sentence] if sentence and not told else []
        self.setAccessibleDescription(", ".join(told))
        tall = self.height() / max(1, len(told))
        self._heard.show([Part(QRectF(0, k * tall, self.width(), tall), words) for k, words in enumerate(told)])
        self.update()

    def paintEvent(self, event: QPaintEvent | None) -> None:
        """Qt: draw."""
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        left = {s.index: s for s in self._left.placed() if s.index is not None}
        right = {s.index: s for s in self._right.placed() if s.index is not None}
        drawn = [(r, left[r.index], right[r.to]) for r in self._ribbons if r.index in left and r.to in right]
        for ribbon, source, target in drawn:
            self._draw(painter, ribbon, source, target)
        self._draw_words(painter, drawn)
        if not self._ribbons and self._sentence:
            area = self.rect().toRectF().adjusted(8, 0, -8, 0)
            draw_text(painter, area, self._sentence, scaled_font(self.font(), 0.95), color("muted"),
                      CENTER)
        painter.end()

    def _draw(self, painter: QPainter, ribbon: Ribbon, source: Stratum, target: Stratum) -> None:
        width, half = float(self.width()), self.width() / 2
        top, bottom = self._left.column().top(), self._right.column().top()
        a, b = source.top + top + 1, source.bottom + top - 1
        c, d = target.top + bottom + 1, target.bottom + bottom - 1
        path = QPainterPath(QPointF(0, a))
        path.cubicTo(QPointF(half, a), QPointF(half, c), QPointF(width, c))
        path.lineTo(QPointF(width, d))
        path.cubicTo(QPointF(half, d), QPointF(half, b), QPointF(0, b))
        path.closeSubpath()
        base = Look.now.role(source.role)
        strong, weak = QColor(base), QColor(base)
        strong.setAlpha(120)
        weak.setAlpha(45)
        gradient = QLinearGradient(0, 0, width, 0)
        gradient.setColorAt(0, strong)
        gradient.setColorAt(0.5, weak)
        gradient.setColorAt(1, strong)
        painter.setPen(Qt.PenStyle.NoPen)
        painter.fillPath(path, QBrush(gradient))
        pen = QPen(base, 1.2, Qt.PenStyle.DashLine if ribbon.is_grown else Qt.PenStyle.SolidLine)
        painter.strokePath(path, pen)

    def _draw_words(self, painter: QPainter, drawn: list[tuple[Ribbon, Stratum, Stratum]]) -> None:
        """The word of each ribbon on its middle line, further left or right where another word is there already."""
        top, bottom = self._left.column().top(), self._right.column().top()
        taken: list[QPointF] = []
        for ribbon, source, target in drawn:
            if min(source.bottom - source.top, target.bottom - target.top) < SHORTEST:
                continue
            start, end = (source.top + source.bottom) / 2 + top, (target.top + target.bottom) / 2 + bottom
            places = [QPointF(x * self.width(), start + (end - start) * y) for x, y in ALONG]
            place = next((p for p in places if all(abs(p.y() - q.y()) >= CHIP for q in taken)), places[0])
            taken.append(place)
            draw_chip(painter, place, ribbon.word, scaled_font(self.font(), 0.9, bold=True),
                      Look.now.role(source.role))
