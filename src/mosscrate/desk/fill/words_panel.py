"""Below the streams: what needs a word with its ready answers, or the files of what was chosen with their reasons."""

from __future__ import annotations

from collections.abc import Sequence
from functools import partial

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QHBoxLayout, QListWidget, QVBoxLayout, QWidget

from mosscrate.core.fill.placed import Placed, Question
from mosscrate.core.sizes import binary, counted
from mosscrate.desk.shared.panel import Panel, Rows, button, clear, label

MOST = 5                                 # questions at once
LISTED = 1000                            # files in the list


class WordsPanel(Panel):
    """Tells with `answered` what the person said to a question."""

    answered = pyqtSignal(str, str)      # key, word

    def __init__(self) -> None:
        super().__init__()
        self.head = label("Needs a word from you", bold=True)
        self.rows = Rows(spacing=6)
        self.files = QListWidget()
        self.files.setAccessibleName("Files with their places and reasons")
        self.files.hide()
        self._questions: tuple[Question, ...] = ()
        self._is_whole = False
        self.column.addWidget(self.head)
        self.column.addWidget(self.rows, 1)
        self.column.addWidget(self.files, 1)

    def show_questions(self, questions: Sequence[Question]) -> None:
        """The most worth first; more on demand."""
        self._questions, self._is_whole = tuple(questions), False
        self._fill()

    def show_files(self, name: str, placed: Sequence[Placed]) -> None:
        """Of a group or a folder; for "" the questions again."""
        self.files.setVisible(bool(name))
        self.rows.setVisible(not name)
        if not name:
            self._fill()
            return
        more = f", the first {LISTED} of them" if len(placed) > LISTED else ""
        self.head.setText(f"{name}: {counted(len(placed), 'file')}{more}")
        self.files.clear()
        self.files.addItems([_line(each) for each in placed[:LISTED]])

    def _fill(self) -> None:
        clear(self.rows.column)
        shown = self._questions if self._is_whole else self._questions[:MOST]
        self.head.setText("Needs a word from you" if shown else "Nothing needs a word from you")
        for question in shown:
            self.rows.column.addWidget(self._row(question))
        if len(self._questions) > len(shown):
            more = button(f"{len(self._questions) - len(shown)} more like these", self._show_all, style="quiet")
            self.rows.column.addWidget(more)
        self.rows.column.addStretch(1)

    def _row(self, question: Question) -> QWidget:
        row = QWidget()
        line = QHBoxLayout(row)
        line.setContentsMargins(0, 0, 0, 0)
        words = QVBoxLayout()
        words.addWidget(label(question.sentence, wraps=True, scale=0.95))
        line.addLayout(words, 1)
        line.addWidget(label(f"{question.usual}, if you say nothing", style="muted", scale=0.9))
        for word in question.answers if len(question.answers) > 1 else ():
            line.addWidget(button(word, partial(self.answered.emit, question.key, word), style="quiet"))
        return row

    def _show_all(self) -> None:
        self._is_whole = True
        self._fill()


def _line(placed: Placed) -> str:
    packed = "unpacked, " if placed.is_unpacked else ""
    to = f" to {placed.to}" if placed.to else ""
    reason = placed.why or placed.file.reason
    return f"{placed.file.path.name}   {binary(placed.size)}   {packed}{placed.act}{to}   ({reason})"
