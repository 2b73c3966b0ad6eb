"""What a person could not read in a window: texts wider than their place, over one another, or cut at an edge."""

from __future__ import annotations

from itertools import combinations

from PyQt6.QtCore import QEvent, QPoint, QRect, Qt
from PyQt6.QtWidgets import (
    QAbstractScrollArea,
    QApplication,
    QCheckBox,
    QComboBox,
    QLabel,
    QLineEdit,
    QPushButton,
    QScrollArea,
    QWidget,
)

from mosscrate.desk.shared.hearing import Words
from mosscrate.desk.shared.panel import Line

SLACK = 2                                # points that a text may be over


def faults(window: QWidget) -> list[str]:
    """Each in words, with the text that it is about."""
    QApplication.sendPostedEvents(None, QEvent.Type.DeferredDelete)
    QApplication.processEvents()
    shown = [part for part in window.findChildren(QWidget) if part.isVisible() and _text(part)
             and not isinstance(part, Words)]         # these are only heard
    found = [f"cut: {_said(part)}, {why}" for part in shown if (why := _cut(part))]
    found += [f"over the edge: {_said(part)}" for part in shown if not _scrolls(part) and not _frame(window).contains(
        _place(part, window))]
    for one, other in combinations(shown, 2):
        common = _seen(one, window) & _seen(other, window)
        if common.width() > SLACK and common.height() > SLACK and not one.isAncestorOf(other) \
                and not other.isAncestorOf(one):
            found.append(f"over one another: {_said(one)} and {_said(other)}")
    return found


def _text(part: QWidget) -> str:
    if isinstance(part, QLabel | QPushButton | QCheckBox):
        return part.text()
    if isinstance(part, QComboBox):
        return part.currentText() or part.placeholderText()
    return part.placeholderText() or part.text() or "a field" if isinstance(part, QLineEdit) else ""


def _said(part: QWidget) -> str:
    return f"{type(part).__name__} “{_text(part)[:50]}”"


def _cut(part: QWidget) -> str:
    above = part.parentWidget()
    if above is not None and not _scrolls(part) and not above.rect().adjusted(-SLACK, -SLACK, SLACK, SLACK).contains(
            part.geometry()):
        return "it goes beyond what it stands in"
    if isinstance(part, Line):
        return "" if part.width() > 24 else f"{part.width()} points for all of it"
    if isinstance(part, QComboBox | QLineEdit):
        return "" if part.width() >= 60 else f"{part.width()} points wide"
    needed = part.sizeHint()
    if isinstance(part, QLabel) and part.wordWrap():
        return "" if part.height() >= part.heightForWidth(part.width()) - SLACK else \
            f"{part.height()} of {part.heightForWidth(part.width())} points high"
    if needed.width() > part.width() + SLACK:
        return f"{part.width()} of {needed.width()} points wide"
    lines = part.fontMetrics().height() * (_text(part).count("\n") + 1)
    return "" if part.height() >= lines - SLACK else f"{part.height()} of {lines} points high"


def _place(part: QWidget, window: QWidget) -> QRect:
    return QRect(part.mapTo(window, QPoint()), part.size())


def _frame(window: QWidget) -> QRect:
    return window.rect().adjusted(-SLACK, -SLACK, SLACK, SLACK)


def _scrolls(part: QWidget) -> bool:
    above = part.parentWidget()
    while above is not None:
        if isinstance(above, QAbstractScrollArea):
            return True
        above = above.parentWidget()
    return False


def _seen(part: QWidget, window: QWidget) -> QRect:
    """The place of its text, without what its areas do not show of it."""
    place = _place(part, window)
    if isinstance(part, QLabel) and not part.wordWrap():
        width = min(place.width(), part.fontMetrics().horizontalAdvance(part.text()))
        if part.alignment() & Qt.AlignmentFlag.AlignLeft:
            place.setWidth(width)
    above = part.parentWidget()
    while above is not None and above is not window:
        if isinstance(above, QScrollArea) and (viewport := above.viewport()) is not None:
            place &= _place(viewport, window)
        above = above.parentWidget()
    return place
