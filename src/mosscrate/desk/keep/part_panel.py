"""What of a card or a device is kept: kinds of files and folders to tick, and what that comes to."""

from __future__ import annotations

from collections.abc import Sequence

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QHBoxLayout,
    QLabel,
    QListWidget,
    QSizePolicy,
    QVBoxLayout,
    QWidget,
)

from mosscrate.core.contents.files import FileKind
from mosscrate.core.crate.parts import Choice, tally
from mosscrate.core.sizes import binary, counted
from mosscrate.core.slots import Medium
from mosscrate.core.volumes import Entry, Kind
from mosscrate.desk.shared.panel import button, clear, label, row
from mosscrate.desk.shared.words import choice, item_of

FIRST = (FileKind.SAVE, FileKind.SETTING)              # ticked to begin with: what cannot be had elsewhere
ROLE = Qt.ItemDataRole.UserRole


class PartPanel(QWidget):
    """Tells with `wanted` what is to be kept."""

    wanted = pyqtSignal(object)          # Choice
    unlike_wanted = pyqtSignal(object)   # the image that what is kept differs from; None for none

    def __init__(self) -> None:
        super().__init__()
        self.boxes: dict[FileKind, QCheckBox] = {}
        self._ticks = QVBoxLayout()
        self._ticks.setSpacing(5)
        self.folders = QListWidget()
        self.folders.setAccessibleName("Folders to keep whole")
        self.folders.setSpacing(2)
        self.folders.itemChanged.connect(lambda _item: self._tell())
        self.words = label(style="muted", scale=0.94, wraps=True)
        self.act = button("Keep them", lambda: self.wanted.emit(self.choice), style="primary")
        self.against = QComboBox()
        self.against.setAccessibleName("What is offered")
        self.against.activated.connect(lambda _number: self.unlike_wanted.emit(self.against.currentData()))
        kinds = QVBoxLayout()
        kinds.addWidget(_heading("Kinds of files"))
        kinds.addLayout(self._ticks)
        kinds.addStretch(1)
        folders = QVBoxLayout()
        folders.addWidget(_heading("Whole folders"))
        folders.addWidget(self.folders, 1)
        body = QHBoxLayout()
        body.setSpacing(24)
        body.addLayout(kinds, 2)
        body.addLayout(folders, 3)
        whole = QVBoxLayout(self)
        whole.setContentsMargins(0, 0, 0, 0)
        whole.addWidget(self.against)
        whole.addLayout(body, 1)
        foot = row(self.words, self.act)
        foot.setStretch(0, 1)
        whole.addLayout(foot)
        self._files: list[tuple[int, Entry]] = []
        self._unlike, self._only = "", frozenset[tuple[int, str]]()

    @property
    def choice(self) -> Choice:
        """What is ticked."""
        rows = (self.folders.item(number) for number in range(self.folders.count()))
        return Choice(tuple(kind for kind, box in self.boxes.items() if box.isChecked()), tuple(
            item.data(ROLE) for item in rows if item and item.checkState() == Qt.CheckState.Checked), self._unlike,
            self._only)

    def offer_images(self, images: Sequence[Medium]) -> None:
        """Images that a card can be compared with; with none there is nothing to choose."""
        self.against.clear()
        self.against.addItem("everything that is on it", None)
        for image in images:
            self.against.addItem(choice(f"only what differs from {image.name}"), image)
        self.against.setVisible(bool(images))

    def show_entries(self, entries: Sequence[tuple[int, Entry]], unlike: str = "",
                     only: frozenset[tuple[int, str]] = frozenset()) -> None:
        """Offer what is there; saves and settings are ticked, all where only what differs from an image is offered."""
        self._unlike, self._only = unlike, only
        self._files = [(partition, entry) for partition, entry in entries if entry.kind == Kind.FILE and (
            not unlike or (partition, entry.path) in only)]
        found = tally(entry for _, entry in self._files)
        clear(self._ticks)
        self.boxes = {}
        for kind in FileKind:
            if kind in found.kinds:
                count, size = found.kinds[kind]
                box = QCheckBox(f"{counted(count, 'other file' if kind == FileKind.OTHER else kind)}, {binary(size)}")
                box.setChecked(kind in FIRST or bool(unlike))
                box.toggled.connect(lambda _on: self._tell())
                self.boxes[kind] = box
                self._ticks.addWidget(box)
        self.folders.blockSignals(True)
        self.folders.clear()
        for name, (count, size) in sorted(found.folders.items(), key=lambda each: each[0].casefold()):
            item = item_of(f"{name}   {counted(count, 'file')}, {binary(size)}")
            item.setData(ROLE, name)
            item.setFlags(item.flags() | Qt.ItemFlag.ItemIsUserCheckable)
            item.setCheckState(Qt.CheckState.Unchecked)
            self.folders.addItem(item)
        self.folders.blockSignals(False)
        self._tell()

    def _tell(self) -> None:
        choice = self.choice
        is_any = bool(choice.kinds or choice.folders)
        taken = [entry for where, entry in self._files if choice.takes(where, entry)] if is_any else []
        self.act.setEnabled(bool(taken))
        self.words.setText(f"{counted(len(taken), 'file')}, {binary(sum(entry.size for entry in taken))}. The crate "
                           "stores equal data once." if taken else "Tick what is to be kept." if self._files else
                           f"Nothing on it differs from {self._unlike}.")


def _heading(text: str) -> QLabel:
    made = label(text, bold=True)
    made.setSizePolicy(QSizePolicy.Policy.Preferred, QSizePolicy.Policy.Fixed)
    return made
