"""Below the streams: what needs a word with its ready answers, or the files of what was chosen with their reasons."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from functools import partial
from itertools import islice

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QWIDGETSIZE_MAX, QHBoxLayout, QListWidget, QVBoxLayout, QWidget

from mosscrate.core.fill.placed import Placed, Question
from mosscrate.core.sizes import binary, counted
from mosscrate.desk.shared.panel import Panel, Rows, button, clear, label, row
from mosscrate.desk.shared.words import choice

MOST = 5                                 # questions at once
HIGH = 34                                # points of a question beside a list
LISTED = 1000                            # files in the list
NEEDS, NOTHING, MARKED = "Needs a word from you", "Nothing needs a word from you", "what is marked is done otherwise"


class WordsPanel(Panel):
    """Tells with `answered` what the person said to a question, with `taken_back` that they take it all back."""

    answered = pyqtSignal(str, str)      # key, word
    taken_back = pyqtSignal()

    def __init__(self) -> None:
        super().__init__()
        self.head = label(NEEDS, bold=True)
        self.hint = label(MARKED, style="muted", scale=0.9)
        self.back = button("Take back what I said", self.taken_back.emit, style="quiet")
        self.rows = Rows(spacing=6)
        self.files = QListWidget()
        self.files.setAccessibleName("Files with their places and reasons")
        self.files.hide()
        self._questions: tuple[Question, ...] = ()
        self._said: dict[str, str] = {}
        self._is_whole = False
        top = row(self.head, self.hint, self.back)
        top.setStretch(1, 1)
        self.column.addLayout(top)
        self.column.addWidget(self.rows, 1)
        self.column.addWidget(self.files, 1)

    def show_questions(self, questions: Sequence[Question], said: dict[str, str]) -> None:
        """The most worth first; more on demand. `said` are the answers that were given, by keys."""
        self._questions, self._said, self._is_whole = tuple(questions), said, False
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
        self.files.addItems([choice(_line(each)) for each in placed[:LISTED]])

    def show_moves(self, moves: Mapping[str, str]) -> None:
        """Every file that changes its place, old and new, below the questions."""
        self.files.setVisible(bool(moves))
        self.files.clear()
        self.files.addItems([choice(f"{path}   →   {place}") for path, place in islice(moves.items(), LISTED)])
        self.rows.setVisible(bool(self._questions))
        self.hint.setVisible(bool(self._questions))
        more = f", the first {LISTED} of them" if len(moves) > LISTED else ""
        whole = f"{counted(len(moves), 'file')} with {'its' if len(moves) == 1 else 'their'} old and new places{more}"
        if moves and self._questions:
            self.rows.setMaximumHeight(HIGH * min(len(self._questions), MOST))
            self.files.insertItem(0, whole)
        elif moves:
            self.head.setText(whole)

    def _fill(self) -> None:
        clear(self.rows.column)
        self.rows.setMaximumHeight(QWIDGETSIZE_MAX)
        shown = self._questions if self._is_whole else self._questions[:MOST]
        self.head.setText(NEEDS if shown else NOTHING)
        self.hint.setVisible(bool(shown))
        self.back.setVisible(bool(self._said))
        for question in shown:
            self.rows.column.addWidget(self._row(question))
        if len(self._questions) > len(shown):
            more = button(f"{len(self._questions) - len(shown)} more like these", self._show_all, style="quiet")
            self.rows.column.addWidget(more)
        self.rows.column.addStretch(1)

    def _row(self, question: Question) -> QWidget:
        made = QWidget()
        line = QHBoxLayout(made)
        line.setSpacing(14)
        line.setContentsMargins(0, 0, 0, 0)
        words = QVBoxLayout()
        words.addWidget(label(question.sentence, wraps=True, scale=0.95))
        line.addLayout(words, 1)
        taken = self._said.get(question.key, question.usual)
        for word in question.answers:
            line.addWidget(label(f"✓ {word}", style="good", scale=0.95) if word == taken else
                           button(word, partial(self.answered.emit, question.key, word), style="quiet"))
        return made

    def _show_all(self) -> None:
        self._is_whole = True
        self._fill()


def _line(placed: Placed) -> str:
    packed = "unpacked, " if placed.is_unpacked else ""
    to = f" to {placed.to}" if placed.to else ""
    reason = placed.why or placed.file.reason
    return f"{placed.file.path.name}   {binary(placed.size)}   {packed}{placed.act}{to}   ({reason})"
