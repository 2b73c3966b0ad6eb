"""One question at the foot of the files, answered by typing the card's tag; then what came of it."""

from __future__ import annotations

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QComboBox, QLineEdit, QVBoxLayout, QWidget

from mosscrate.core.findings import Finding
from mosscrate.core.sheet.steps import Existing
from mosscrate.desk.shared.panel import button, label, restyle, row
from mosscrate.desk.shared.tag_entry import TagEntry

_EXISTING = {"keep an old one under a dated name": Existing.KEEP_BOTH, "replace what is there": Existing.REPLACE,
             "stop if one is there already": Existing.REFUSE}
_WHOLE = ("the folder itself", "only what is in it")


class AskStrip(QWidget):
    """One question at the foot of the panel, answered by typing the card's tag; then what came of it."""

    confirmed = pyqtSignal(str)
    undo_wanted = pyqtSignal(str)

    def __init__(self) -> None:
        super().__init__()
        self.sentence = label(wraps=True)
        self.losses = label(style="warning", scale=0.9, wraps=True)
        self.number = 0                                # of the question that is asked
        self.field = QLineEdit()
        self.field.setAccessibleName("Name")
        self.box = QComboBox()
        self.box.addItems(list(_EXISTING))
        self.box.setAccessibleName("What happens to a file that is there already")
        self.whole = QComboBox()
        self.whole.addItems(_WHOLE)
        self.whole.setAccessibleName("The folder itself, or what is in it")
        self.entry = TagEntry("Change the card")
        self.entry.confirmed.connect(lambda _word: self.confirmed.emit(self.entry.typed()))
        self.undo = TagEntry("Take it back")
        self.undo.confirmed.connect(lambda _word: self.undo_wanted.emit(self.undo.typed()))
        self.close_button = button("Not now", self.close_up)
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 6, 0, 0)
        column.setSpacing(5)
        head = row(self.sentence)
        head.setStretch(0, 1)
        head.addWidget(self.close_button)
        column.addLayout(head)
        for part in (self.losses, self.field, self.whole, self.box, self.entry, self.undo):
            column.addWidget(part)
        self.close_up()

    def ask(self, sentence: str, tag: str, *, text: str | None, existing: Existing | None, has_folders: bool) -> None:
        """Ask for one change; where it may meet files, `existing` is what is usual then."""
        self.number += 1
        self._show(sentence, "", field=text is not None, box=existing is not None, whole=has_folders, entry=True)
        self.whole.setCurrentIndex(0)
        if existing is not None:
            self.box.setCurrentIndex(list(_EXISTING.values()).index(existing))
        self.close_button.setText("Not now")
        self.entry.ask(tag)
        self.entry.prompt.setText(f"Type {tag} to change the card")
        if text is not None:
            self.field.setText(text)
            self.field.selectAll()
        (self.field if text is not None else self.entry.field).setFocus()

    def text(self) -> str:
        """What was typed as a name."""
        return self.field.text().strip()

    def existing(self) -> Existing:
        """What happens to a file that is there already."""
        return _EXISTING[self.box.currentText()]

    def wants_contents(self) -> bool:
        """Whether what is in a folder goes, without the folder itself."""
        return not self.whole.isHidden() and self.whole.currentIndex() == 1

    def tell(self, findings: tuple[Finding, ...], number: int) -> None:
        """What the change of that number would lose, while it is still asked."""
        if number == self.number and not self.entry.isHidden():
            self.losses.setText(" ".join(f.sentence for f in findings))
            self.losses.setVisible(bool(findings))

    def show_working(self) -> None:
        """The change runs."""
        self._show("Being written…", "muted")

    def show_done(self, sentence: str, tag: str) -> None:
        """It is done; with a tag it can be taken back."""
        self._show(sentence, "good", undo=bool(tag))
        self.close_button.setText("Close")
        self.undo.ask(tag)
        self.undo.prompt.setText(f"Type {tag} to take it back")

    def show_problem(self, sentence: str) -> None:
        """It could not be done."""
        self._show(sentence, "problem")
        self.close_button.setText("Close")

    def close_up(self) -> None:
        """Nothing is asked."""
        self.hide()

    def _show(self, sentence: str, style: str, *, field: bool = False, box: bool = False, whole: bool = False,
              entry: bool = False, undo: bool = False) -> None:
        self.sentence.setText(sentence)
        self.losses.hide()
        restyle(self.sentence, style)
        for part, is_shown in ((self.field, field), (self.box, box), (self.whole, whole), (self.entry, entry),
                               (self.undo, undo)):
            part.setVisible(is_shown)
        self.show()
