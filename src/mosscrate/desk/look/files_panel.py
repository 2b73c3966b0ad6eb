"""The files of one partition: listed, taken out, put, renamed, removed. Every change asks for the card's tag."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from PyQt6.QtCore import QModelIndex, QPoint, Qt, pyqtSignal
from PyQt6.QtGui import QDragEnterEvent, QDragMoveEvent, QDropEvent
from PyQt6.QtWidgets import QComboBox, QFileDialog, QHeaderView, QLineEdit, QTreeView, QVBoxLayout, QWidget

from mosscrate.core.contents import Layout, PartitionLook
from mosscrate.core.maps import MapKind, map_format
from mosscrate.core.sheet.steps import AnyStep, Existing, MakeFolder, PutFiles, RemoveFiles, RenameFile, SetTraits
from mosscrate.core.sizes import binary, counted
from mosscrate.core.slots import Medium
from mosscrate.core.volumes import Entry, Kind, is_changed_here
from mosscrate.core.volumes.ffs import protection_text
from mosscrate.desk.look.tree_model import Node, TreeModel
from mosscrate.desk.shared.panel import Panel, button, label, restyle, row
from mosscrate.desk.shared.tag_entry import TagEntry

_EXISTING = {"keep an old one under a dated name": Existing.KEEP_BOTH, "replace what is there": Existing.REPLACE,
             "refuse if one is there": Existing.REFUSE}


class FilesPanel(Panel):
    """Shows one tree and asks for its changes on the page."""

    take_out_wanted = pyqtSignal(object)            # Entry
    change_wanted = pyqtSignal(object, str)         # AnyStep, typed tag
    undo_wanted = pyqtSignal(str)                   # typed tag
    image_wanted = pyqtSignal(int)                  # partition

    def __init__(self) -> None:
        super().__init__()
        self.head = label(bold=True, scale=1.1, elides=True)
        self.image_button = button("As image…", self._as_image,
                                   tip="Save this partition as an image file without a map, byte for byte")
        self.facts = label(style="muted", scale=0.9, wraps=True)
        self.take_button = button("Take out…", self._take_out, tip="Copy the chosen file or folder to this computer")
        self.put_button = button("Put…", self._ask_for_files, tip="Put files into the chosen folder; or drop them here")
        self.folder_button = button("Folder…", self._ask_for_folder, tip="Make a new folder in the chosen one")
        self.rename_button = button("Rename…", self._ask_for_name, tip="A name with slashes moves it")
        self.remove_button = button("Remove", self._ask_to_remove)
        self.tree = QTreeView()
        self.tree.setUniformRowHeights(True)
        self.tree.setAccessibleName("Files of the chosen partition")
        self.tree.setAllColumnsShowFocus(True)
        self.empty = label(style="muted", wraps=True)
        self.empty.setAlignment(Qt.AlignmentFlag.AlignTop)
        self.strip = _AskStrip()
        self.strip.confirmed.connect(self._confirmed)
        self.strip.undo_wanted.connect(self.undo_wanted)
        head = row(self.head)
        head.setStretch(0, 1)
        head.addWidget(self.image_button)
        buttons = row(self.take_button, self.put_button, self.folder_button, self.rename_button, self.remove_button,
                      None, spacing=3)
        self.comment_button = button("Comment…", self._ask_for_comment, tip="Up to 79 characters that go with the file")
        self.protect_button = button("Protection…", self._ask_for_protection,
                                     tip="Letters of hsparwed that are set: r, w, e, d allow reading, writing, "
                                         "starting and removing")
        own = row(self.comment_button, self.protect_button, None, spacing=3)
        for part in (self.take_button, self.put_button, self.folder_button, self.rename_button, self.remove_button,
                     self.image_button, self.comment_button, self.protect_button):
            part.setProperty("compact", True)
        self.column.addLayout(head)
        self.column.addWidget(self.facts)
        self.column.addLayout(buttons)
        self.column.addLayout(own)
        self.column.addWidget(self.tree, 1)
        self.column.addWidget(self.empty, 1)
        self.column.addWidget(self.strip)
        self.setAcceptDrops(True)
        self._model: TreeModel | None = None
        self._medium: Medium | None = None
        self._look: PartitionLook | None = None
        self._is_free = False
        self._build: Callable[[], AnyStep] | None = None

    def set_free(self, *, is_free: bool) -> None:
        """Whether the card can be written now."""
        self._is_free = is_free
        self._enable()

    def show_nothing(self, layout: Layout | None) -> None:
        """No partition is chosen."""
        self._look = None
        self.head.setText("Files")
        self.facts.setText("")
        self.show_text("" if layout is None else "There is no partition whose files could be listed."
                       if not layout.is_blank else "This card is blank. Moving another card onto it is one step away.")

    def show_head(self, medium: Medium, look: PartitionLook, map_kind: MapKind) -> None:
        """The chosen partition in words."""
        if self._medium is None or medium.key != self._medium.key or self._look is None or \
                self._look.index != look.index:
            self.strip.close_up()
        self._medium, self._look = medium, look
        volume, p = look.volume, look.partition
        self.head.setText(look.name)
        facts = [f"{look.role}, because {look.role_reason}"]
        if volume and volume.used is not None:
            unit = volume.facts.unit if volume.facts else "blocks"
            facts.append(f"{volume.kind_name}, {unit} of {binary(volume.block)}, {binary(volume.used)} used, "
                         f"{binary(volume.free or 0)} free, {volume.id}")
        where = f"from {binary(p.start)} to {binary(p.end)}"
        facts.append(f"{where}, type {p.type_name or p.type}" if p.type else where)
        format = map_format(map_kind)
        if p.flags:
            facts.append(", ".join(map(format.flag_word, p.flags)))
        if own := format.facts_of(p):
            facts.append(", ".join(own))
        self.facts.setText("\n".join(facts))
        readable = volume is not None and volume.used is not None
        if volume is None:
            self.show_text(f"There is nothing to list: {look.role_reason}.")
        else:
            self.show_text("Being read…" if readable else
                           "Its files cannot be listed here yet. That does not mean that anything is wrong with it.")

    def show_tree(self, root: Node) -> None:
        """The files themselves."""
        self._let_go()
        self._model = TreeModel(root, self)
        self.tree.setModel(self._model)
        if header := self.tree.header():
            header.setSectionResizeMode(0, QHeaderView.ResizeMode.Stretch)
            header.setStretchLastSection(False)
            for column in (1, 2):
                header.setSectionResizeMode(column, QHeaderView.ResizeMode.ResizeToContents)
        if selection := self.tree.selectionModel():
            selection.currentChanged.connect(lambda _now, _before: self._enable())
        if not root.children:
            self.show_text("No files yet. Drop some here, or use Put.", keeps_model=True)
            return
        self.tree.show()
        self.empty.hide()
        self._enable()

    def show_text(self, text: str, *, keeps_model: bool = False) -> None:
        """A sentence where the files would be."""
        if not keeps_model:
            self._let_go()
        self.tree.hide()
        self.empty.setText(text)
        self.empty.show()
        self._enable()

    def show_done(self, sentence: str, *, can_undo: bool = True) -> None:
        """A change has been made."""
        self.strip.show_done(sentence, self._medium.tag if self._medium and can_undo else "")

    def show_problem(self, sentence: str) -> None:
        """A change could not be made."""
        self.strip.show_problem(sentence)

    def offer_put(self, paths: list[Path], folder: str) -> None:
        """Ask whether files should go into a folder of the volume."""
        look = self._look
        if look is None or not paths:
            return
        what = f"“{paths[0].name}”" if len(paths) == 1 else counted(len(paths), "item")
        names = tuple(str(p) for p in paths)
        self._open(f"Put {what} into {f'{look.name}/{folder}' if folder else look.name}",
                   lambda: PutFiles(look.index, names, folder, self.strip.existing()), choice=True)

    def dragEnterEvent(self, event: QDragEnterEvent | None) -> None:
        """Qt: files may be put by dropping them."""
        data = event.mimeData() if event else None
        if event and data and data.hasUrls() and self._can_change():
            event.acceptProposedAction()

    def dragMoveEvent(self, event: QDragMoveEvent | None) -> None:
        """Qt."""
        if event and self._can_change():
            event.acceptProposedAction()

    def dropEvent(self, event: QDropEvent | None) -> None:
        """Qt: the folder under the pointer takes them."""
        data = event.mimeData() if event else None
        if event is None or data is None or not self._can_change():
            return
        viewport = self.tree.viewport()
        place = viewport.mapFrom(self, event.position().toPoint()) if viewport else QPoint()
        paths = [Path(url.toLocalFile()) for url in data.urls() if url.isLocalFile()]
        self.offer_put(paths, self._folder_of(self.tree.indexAt(place)))
        event.acceptProposedAction()

    def _let_go(self) -> None:
        """Of the tree that is shown: a large one takes memory."""
        if self._model is not None:
            self.tree.setModel(None)
            self._model.deleteLater()
            self._model = None

    def _folder_of(self, index: QModelIndex) -> str:
        entry = self._model.entry(index) if self._model else None
        if entry is None:
            return ""
        return entry.path if entry.kind == Kind.FOLDER else entry.path.rpartition("/")[0]

    def _chosen(self) -> Entry | None:
        return self._model.entry(self.tree.currentIndex()) if self._model and self.tree.isVisible() else None

    def _can_change(self) -> bool:
        volume = self._look.volume if self._look else None
        return self._is_free and self._model is not None and volume is not None and is_changed_here(volume.kind)

    def _enable(self) -> None:
        has_entry = self._chosen() is not None
        self.take_button.setEnabled(has_entry)
        self.image_button.setVisible(self._look is not None and self._look.index > 0)
        for part in (self.put_button, self.folder_button):
            part.setEnabled(self._can_change())
        volume = self._look.volume if self._look else None
        for part in (self.comment_button, self.protect_button):
            part.setVisible(volume is not None and volume.facts is not None and volume.facts.has_comments)
        for part in (self.rename_button, self.remove_button, self.comment_button, self.protect_button):
            part.setEnabled(self._can_change() and has_entry)

    def _take_out(self) -> None:
        entry = self._chosen()
        if entry is not None:
            self.take_out_wanted.emit(entry)

    def _as_image(self) -> None:
        if self._look is not None:
            self.image_wanted.emit(self._look.index)

    def _ask_for_files(self) -> None:
        names, _ = QFileDialog.getOpenFileNames(self, "Put which files?", str(Path.home()))
        self.offer_put([Path(n) for n in names], self._folder_of(self.tree.currentIndex()))

    def _ask_for_folder(self) -> None:
        look, folder = self._look, self._folder_of(self.tree.currentIndex())
        if look is not None:
            self._open(f"Make a folder in {folder or look.name}",
                       lambda: MakeFolder(look.index, f"{folder}/{self.strip.text()}".strip("/")), text="new folder")

    def _ask_for_name(self) -> None:
        look, entry = self._look, self._chosen()
        if look is not None and entry is not None:
            self._open(f"Call “{entry.name}”", lambda: RenameFile(look.index, entry.path, _beside(
                entry.path, self.strip.text())), text=entry.name)

    def _ask_for_comment(self) -> None:
        look, entry = self._look, self._chosen()
        if look is not None and entry is not None:
            self._open(f"Comment of “{entry.name}”",
                       lambda: SetTraits(look.index, entry.path, comment=self.strip.text()), text=entry.comment)

    def _ask_for_protection(self) -> None:
        look, entry = self._look, self._chosen()
        if look is not None and entry is not None:
            self._open(f"Protection of “{entry.name}”: letters of hsparwed that are set",
                       lambda: SetTraits(look.index, entry.path, protection=self.strip.text()),
                       text=protection_text(entry.protection or 0))

    def _ask_to_remove(self) -> None:
        look, entry = self._look, self._chosen()
        if look is not None and entry is not None:
            inside = " with all that is in it" if entry.kind == Kind.FOLDER else ""
            self._open(f"Remove “{entry.path}”{inside}", lambda: RemoveFiles(look.index, (entry.path,)))

    def _open(self, sentence: str, build: Callable[[], AnyStep], *, text: str | None = None,
              choice: bool = False) -> None:
        self._build = build
        if self._medium is not None:
            self.strip.ask(sentence, self._medium.tag, text=text, choice=choice)

    def _confirmed(self, tag: str) -> None:
        if self._build is not None:
            self.strip.show_working()
            self.change_wanted.emit(self._build(), tag)


class _AskStrip(QWidget):
    """One question at the foot of the panel, answered by typing the card's tag; then what came of it."""

    confirmed = pyqtSignal(str)
    undo_wanted = pyqtSignal(str)

    def __init__(self) -> None:
        super().__init__()
        self.sentence = label(wraps=True)
        self.field = QLineEdit()
        self.field.setAccessibleName("Name")
        self.box = QComboBox()
        self.box.addItems(list(_EXISTING))
        self.box.setAccessibleName("What happens to a file that is there already")
        self.entry = TagEntry("Do it")
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
        for part in (self.field, self.box, self.entry, self.undo):
            column.addWidget(part)
        self.close_up()

    def ask(self, sentence: str, tag: str, *, text: str | None, choice: bool) -> None:
        """Ask for one change."""
        self._show(sentence, "", field=text is not None, box=choice, entry=True)
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

    def _show(self, sentence: str, style: str, *, field: bool = False, box: bool = False, entry: bool = False,
              undo: bool = False) -> None:
        self.sentence.setText(sentence)
        restyle(self.sentence, style)
        for part, is_shown in ((self.field, field), (self.box, box), (self.entry, entry), (self.undo, undo)):
            part.setVisible(is_shown)
        self.show()


def _beside(path: str, name: str) -> str:
    """A new name beside the old one, or another place where it has slashes."""
    folder = path.rpartition("/")[0]
    return name.strip("/") if "/" in name else f"{folder}/{name}".lstrip("/")
