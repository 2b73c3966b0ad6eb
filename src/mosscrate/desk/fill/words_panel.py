"""Below the streams: what needs a word with its ready answers, or the files of what was chosen with their reasons."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from functools import partial
from itertools import islice

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtGui import QResizeEvent
from PyQt6.QtWidgets import QWIDGETSIZE_MAX, QComboBox, QHBoxLayout, QLabel, QListWidget, QWidget

from mosscrate.core.fill.placed import Placed, Question
from mosscrate.core.sizes import binary, counted
from mosscrate.desk.shared.panel import Panel, Rows, button, clear, label, row
from mosscrate.desk.shared.words import choice

MOST = 5                                 # questions at once
HIGH = 34                                # points of a question beside a list
MOST_WORDS = 4                           # answers beside one another
WIDEST = 0.58                            # share of the panel's width that sentences may take
LISTED = 1000                            # files in the list
NEEDS, NOTHING, MARKED = "Questions", "No questions", "the marked answer is taken until you choose another"


class WordsPanel(Panel):
    """Tells with `answered` what the person said to a question, with `taken_back` that they take it all back."""

    answered = pyqtSignal(str, str)      # key, word
    taken_back = pyqtSignal()

    def __init__(self) -> None:
        super().__init__()
        self.head = label(NEEDS, bold=True)
        self.hint = label(MARKED, style="muted", scale=0.9)
        self.back = button("Take back what I said", self.taken_back.emit, style="quiet")
        self.rows = Rows("Questions", spacing=6)
        self.files = QListWidget()
        self.files.setAccessibleName("Files with their places and reasons")
        self.files.hide()
        self._questions: tuple[Question, ...] = ()
        self._said: dict[str, str] = {}
        self._is_whole = False
        self._sentences: list[QLabel] = []
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

    def show_moves(self, moves: Mapping[str, str], what: str = "with {its} old and new places") -> None:
        """Every file that changes its place or name, old and new, below the questions."""
        self.files.setVisible(bool(moves))
        self.files.clear()
        self.files.addItems([choice(f"{path}   →   {place}") for path, place in islice(moves.items(), LISTED)])
        self.rows.setVisible(bool(self._questions))
        self.hint.setVisible(bool(self._questions))
        more = f", the first {LISTED} of them" if len(moves) > LISTED else ""
        whole = f"{counted(len(moves), 'file')} {what.format(its='its' if len(moves) == 1 else 'their')}{more}"
        if moves and self._questions:
            self.rows.setMaximumHeight(HIGH * min(len(self._questions), MOST))
            self.files.insertItem(0, whole)
        elif moves:
            self.head.setText(whole)

    def _fill(self) -> None:
        clear(self.rows.column)
        self._sentences = []
        self.rows.setMaximumHeight(QWIDGETSIZE_MAX)
        shown = self._questions if self._is_whole else self._questions[:MOST]
        self.head.setText(NEEDS if shown else NOTHING)
        self.hint.setVisible(bool(shown))
        self.back.setVisible(bool(self._said))
        for question in shown:
            self.rows.column.addWidget(self._row(question))
        if len(self._questions) > len(shown):
            more = button(f"{len(self._questions) - len(shown)} more like these", self._show_all, style="quiet")
            self.rows.column.addWidget(more, 0, Qt.AlignmentFlag.AlignLeft)
        self.rows.column.addStretch(1)
        self._set_widths()

    def _row(self, question: Question) -> QWidget:
        made = QWidget()
        line = QHBoxLayout(made)
        line.setSpacing(14)
        line.setContentsMargins(0, 0, 0, 0)
        sentence = label(question.sentence, wraps=True, scale=0.95)
        self._sentences.append(sentence)
        line.addWidget(sentence)
        taken = self._said.get(question.key, question.usual)
        if len(question.answers) > MOST_WORDS:
            line.addWidget(self._box(question, taken))
        for word in question.answers if len(question.answers) <= MOST_WORDS else ():
            line.addWidget(label(f"✓ {word}", style="good", scale=0.95) if word == taken else
                           button(word, partial(self.answered.emit, question.key, word), style="quiet"))
        line.addStretch(1)
        return made

    def _box(self, question: Question, taken: str) -> QComboBox:
        """Many answers, to choose one of them."""
        made = QComboBox()
        made.setAccessibleName(question.sentence)
        for word in question.answers:
            made.addItem(choice(word))
        made.setCurrentIndex(question.answers.index(taken) if taken in question.answers else 0)
        made.activated.connect(lambda row_: self.answered.emit(question.key, question.answers[row_]))
        return made

    def resizeEvent(self, event: QResizeEvent | None) -> None:
        """Qt: answers stand beside their questions, in one column."""
        self._set_widths()
        super().resizeEvent(event)

    def _set_widths(self) -> None:
        most = max((each.fontMetrics().horizontalAdvance(each.text()) + 8 for each in self._sentences), default=0)
        for each in self._sentences:
            each.setFixedWidth(min(most, round(self.width() * WIDEST)))

    def _show_all(self) -> None:
        self._is_whole = True
        self._fill()


def _line(placed: Placed) -> str:
    packed = "unpacked, " if placed.is_unpacked else ""
    to = f" to {placed.to}" if placed.to else ""
    reason = placed.why or placed.file.reason
    return f"{placed.file.path.name}   {binary(placed.size)}   {packed}{placed.act}{to}   ({reason})"
