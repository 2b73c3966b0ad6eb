"""Files found in all backups: which, what became of the chosen one in time, and bringing a version of it back."""

from __future__ import annotations

from datetime import UTC, datetime

from PyQt6.QtCore import QSize, Qt, pyqtSignal
from PyQt6.QtWidgets import QHBoxLayout, QListWidget, QListWidgetItem, QVBoxLayout

from mosscrate.core.crate.library import KeptFile, Version
from mosscrate.core.sizes import binary, counted
from mosscrate.core.slots import Medium
from mosscrate.desk.shared.panel import Panel, button, label, row
from mosscrate.desk.shared.tag_entry import TagEntry
from mosscrate.desk.shared.words import item_of, tip

SHOWN = 500                              # files in the list; more are counted
BRING = "Bring it back"
ROLE = Qt.ItemDataRole.UserRole


class FindPanel(Panel):
    """What was typed is looked for by the station."""

    chosen = pyqtSignal(object)          # KeptFile
    out_wanted = pyqtSignal(object)      # KeptFile: a version, to this computer
    back_wanted = pyqtSignal(object, str)           # KeptFile, typed tag: onto its card

    def __init__(self) -> None:
        super().__init__()
        self.head = label(bold=True, elides=True)
        self.files = QListWidget()
        self.files.setAccessibleName("Files that were found")
        self.files.setSpacing(2)
        self.files.currentItemChanged.connect(self._choose)
        self.name = label(bold=True, elides=True)
        self.versions = QListWidget()
        self.versions.setAccessibleName("Versions in time")
        self.versions.setSpacing(2)
        self.versions.currentItemChanged.connect(self._ask)
        self.out_button = button("To computer…", self._take_out, tip="Copy the chosen version to this computer")
        self.out_button.setProperty("compact", True)
        self.entry = TagEntry(BRING)
        self.entry.confirmed.connect(lambda _word: self._bring_back())
        self.words = label(style="muted", scale=0.9, wraps=True)
        self.card: Medium | None = None
        for each in (self.files, self.versions):
            each.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self._lay_out()

    def show_nothing(self, words: str) -> None:
        """While it is looked for, or where nothing is found."""
        self.head.setText(words)
        self.files.clear()
        self.show_versions(None, [], None)

    def show_files(self, found: list[KeptFile]) -> None:
        """The newest backup first; the first one is chosen."""
        self.head.setText(f"{counted(len(found), 'file')} in {counted(len({f.backup.path for f in found}), 'backup')}"
                          + (f", the first {SHOWN} of them" if len(found) > SHOWN else ""))
        self.files.clear()
        for file in found[:SHOWN]:
            item = item_of(f"{file.path}\n{file.backup.record.card.name} · kept {file.backup.kept_at:%d %b %Y}"
                                   f" · {binary(file.size)} · {_dated(file)}")
            item.setToolTip(tip(file.path))
            self._add(self.files, item, file)
        self.files.setCurrentRow(0)

    def show_versions(self, file: KeptFile | None, versions: list[Version], card: Medium | None) -> None:
        """What a file has been in time, the latest first; `card` takes one back."""
        self.card = card
        self.name.setText(f"The life of {file.name}" if file else "")
        self.versions.clear()
        for version in reversed(versions):
            item = item_of(_line(version))
            self._add(self.versions, item, version.last)
        chosen = next((k for k, v in enumerate(reversed(versions)) if file and v.last.contents == file.contents), 0)
        self.versions.setCurrentRow(chosen)
        self._ask()

    def _add(self, to: QListWidget, item: QListWidgetItem, file: KeptFile) -> None:
        """Two lines, shortened where there is no room."""
        item.setData(ROLE, file)
        item.setSizeHint(QSize(0, 2 * self.fontMetrics().height() + 4))
        to.addItem(item)

    def version(self) -> KeptFile | None:
        """The one that is chosen."""
        item = self.versions.currentItem()
        found: KeptFile | None = item.data(ROLE) if item is not None else None
        return found

    def _choose(self) -> None:
        item = self.files.currentItem()
        if item is not None:
            self.chosen.emit(item.data(ROLE))

    def _ask(self) -> None:
        version, card = self.version(), self.card
        self.out_button.setEnabled(version is not None)
        self.entry.setVisible(version is not None and card is not None)
        if version is None:
            self.words.setText("")
        elif card is None:
            name = version.backup.record.card.name
            self.words.setText(f"{name} is not at hand. Put it in to bring this version back.")
        else:
            self.words.setText(f"It goes onto {card.name}. What is there under its name stays, under a dated one.")
            self.entry.ask(card.tag, is_possible=not card.is_write_protected and not card.in_use)

    def _take_out(self) -> None:
        if (version := self.version()) is not None:
            self.out_wanted.emit(version)

    def _bring_back(self) -> None:
        if (version := self.version()) is not None:
            self.back_wanted.emit(version, self.entry.typed())

    def _lay_out(self) -> None:
        left, right = QVBoxLayout(), QVBoxLayout()
        left.addWidget(self.head)
        left.addWidget(self.files, 1)
        head = row(self.name, self.out_button)
        head.setStretch(0, 1)
        right.addLayout(head)
        right.addWidget(self.versions, 1)
        right.addWidget(self.words)
        right.addWidget(self.entry)
        body = QHBoxLayout()
        body.setSpacing(18)
        body.addLayout(left, 1)
        body.addLayout(right, 1)
        self.column.addLayout(body, 1)


def _line(version: Version) -> str:
    last = version.last
    until = f" to {last.backup.kept_at:%d %b %Y}" if version.first.backup.path != last.backup.path else ""
    cards = last.backup.record.card.name
    return (f"{version.when:%d %b %Y}{until}   {binary(last.size)}, {_dated(last)}\n{cards} · in "
            f"{counted(version.backups, 'backup')} · {last.path}")


def _dated(file: KeptFile) -> str:
    return "without a date" if file.modified is None else f"of {datetime.fromtimestamp(file.modified, UTC):%d %b %Y}"
