"""Buttons, boxes and fields beside one another, in as many rows as the width asks for."""

from __future__ import annotations

from PyQt6.QtCore import QEvent, QSize
from PyQt6.QtGui import QResizeEvent
from PyQt6.QtWidgets import QSizePolicy, QWidget


class ButtonRows(QWidget):
    """Those that are shown stand in columns without gaps; `lay_out` after some were hidden or shown."""

    def __init__(self, *parts: QWidget, spacing: int = 3) -> None:
        super().__init__()
        self.all = parts
        self.spacing = spacing
        for each in parts:
            each.setParent(self)                                      # else it would be a window when it is shown
        policy = QSizePolicy(QSizePolicy.Policy.Preferred, QSizePolicy.Policy.Minimum)
        policy.setHeightForWidth(True)
        self.setSizePolicy(policy)

    def resizeEvent(self, event: QResizeEvent | None) -> None:
        """Qt: on a small window they take more rows."""
        self.lay_out()
        super().resizeEvent(event)

    def event(self, event: QEvent | None) -> bool:
        """Qt: parts that want another size, or come and go, move the others."""
        if event is not None and event.type() == QEvent.Type.LayoutRequest:
            self.lay_out()
        return super().event(event)

    def minimumSizeHint(self) -> QSize:
        """Qt: as narrow as one column, as high as the rows are now."""
        return QSize(max(map(_width, self._shown), default=0), self.heightForWidth(self.width()))

    def sizeHint(self) -> QSize:
        """Qt: one row."""
        return QSize(max(0, sum(_width(each) + self.spacing for each in self._shown) - self.spacing), self._tallest)

    def hasHeightForWidth(self) -> bool:
        """Qt."""
        return True

    def heightForWidth(self, a0: int) -> int:
        """Qt."""
        rows = -(-len(self._shown) // len(self._columns(self._shown, a0)))
        return max(0, rows * (self._tallest + self.spacing) - self.spacing)

    @property
    def whole_width(self) -> int:
        """Points that all of them take in one row, hidden ones too: what comes and goes moves nothing else."""
        return sum(_width(each) + self.spacing for each in self.all)

    def lay_out(self) -> None:
        """As many beside one another as there is room for."""
        shown, columns = self._shown, self._columns(self._shown, self.width())
        high = self._tallest
        lefts = [sum(columns[:k]) + k * self.spacing for k in range(len(columns))]
        is_row = len(shown) <= len(columns)
        for number, each in enumerate(shown):
            row, column = divmod(number, len(columns))
            own = each.sizeHint().height()
            wide = min(_width(each) if is_row else columns[column], max(self.width() - lefts[column], 0))
            each.setGeometry(lefts[column], row * (high + self.spacing) + (high - own) // 2, wide, own)
        self.updateGeometry()

    @property
    def _shown(self) -> list[QWidget]:
        return [each for each in self.all if not each.isHidden()]

    @property
    def _tallest(self) -> int:
        return max((each.sizeHint().height() for each in self._shown), default=0)

    def _columns(self, parts: list[QWidget], width: int) -> list[int]:
        """How wide each column is, in points."""
        widths = [_width(each) for each in parts]
        for count in range(len(widths), 1, -1):
            columns = [max(widths[k::count]) for k in range(count)]
            if sum(columns) + self.spacing * (count - 1) <= width:
                return columns
        return [max(widths, default=0)]


def _width(part: QWidget) -> int:
    """Points that it wants."""
    return min(max(part.sizeHint().width(), part.minimumWidth()), part.maximumWidth())
