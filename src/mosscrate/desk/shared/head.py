"""The top of a page or a panel: what it is about, and what can be done, beside it or below where there is less room."""

from __future__ import annotations

from PyQt6.QtCore import QSize, Qt
from PyQt6.QtGui import QResizeEvent
from PyQt6.QtWidgets import QBoxLayout, QHBoxLayout, QSizePolicy, QVBoxLayout, QWidget

from mosscrate.desk.shared.button_rows import ButtonRows

LEAST_WORDS = 200                        # points that title and subtitle need


class Head(QWidget):
    """Title and subtitle on the left; the parts stand beside them where all have room, also those that are hidden now,
    so that what comes and goes moves nothing else."""

    def __init__(self, title: QWidget, subtitle: QWidget, *beside: QWidget) -> None:
        super().__init__()
        words = QVBoxLayout()
        words.setSpacing(2)
        words.addWidget(title)
        words.addWidget(subtitle)
        self.parts = ButtonRows(*beside, spacing=8)
        self.line = QHBoxLayout(self)
        self.line.setContentsMargins(0, 0, 0, 0)
        self.line.setSpacing(10)
        self.line.addLayout(words, 1)
        self.line.addWidget(self.parts, 0, Qt.AlignmentFlag.AlignVCenter)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Minimum)

    def resizeEvent(self, event: QResizeEvent | None) -> None:
        """Qt: on a small window the parts stand below the words."""
        self.arrange()
        super().resizeEvent(event)

    def minimumSizeHint(self) -> QSize:
        """Qt: the narrower way of standing."""
        return QSize(LEAST_WORDS, super().minimumSizeHint().height())

    def arrange(self) -> None:
        """Again, after parts were shown or hidden."""
        is_narrow = self.width() < self.parts.whole_width + LEAST_WORDS
        self.line.setDirection(QBoxLayout.Direction.TopToBottom if is_narrow else QBoxLayout.Direction.LeftToRight)
        self.line.setAlignment(self.parts, Qt.AlignmentFlag(0) if is_narrow else Qt.AlignmentFlag.AlignVCenter)
        self.parts.lay_out()
