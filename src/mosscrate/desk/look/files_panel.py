"""The files of one partition: listed, taken out, put, renamed, removed. Every change asks for the card's tag."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

from PyQt6.QtCore import QModelIndex, QPoint, Qt, pyqtSignal
from PyQt6.QtGui import QDragEnterEvent, QDragMoveEvent, QDropEvent
from PyQt6.QtWidgets import QFileDialog, QHeaderView, QSizePolicy, QTreeView

from mosscrate.core.contents import Layout, PartitionLook
from mosscrate.core.maps import MapKind, map_format
from mosscrate.core.sheet.steps import (
    AnyStep,
    CopyFiles,
    Existing,
    MakeFolder,
    PutFiles,
    RemoveFiles,
    RenameFile,
    SetTraits,
)
from mosscrate.core.sizes import binary, counted
from mosscrate.core.slots import Medium
from mosscrate.core.volumes import Entry, Kind, is_changed_here
from mosscrate.core.volumes.ffs import protection_text
from mosscrate.desk.look.ask_strip import AskStrip
from mosscrate.desk.look.file_acts import FileActs
from mosscrate.desk.look.tree_model import Node, TreeModel
from mosscrate.desk.look.tree_place import TreePlace, go_to, place_in
from mosscrate.desk.shared.files_in_hand import FilesInHand, in_hand
from mosscrate.desk.shared.panel import Panel, Rows, button, label, row

LEAST_TREE = 56                          # points: two rows and their head
FACT_LINES = 6                           # of what is said of a partition, before it scrolls


@dataclass(frozen=True)
class Carried:
    """What goes to another place, and the medium that takes it."""

    hand: FilesInHand
    to: Medium


class FilesPanel(Panel):
    """Shows one tree and asks for its changes on the page."""

    take_out_wanted = pyqtSignal(object)            # list of Entry
    change_wanted = pyqtSignal(object, str)         # tuple of AnyStep, typed tag
    copy_wanted = pyqtSignal(object, object, str)   # Carried, steps, typed tag
    losses_wanted = pyqtSignal(object, object)      # Carried or None, steps: what they lose is to be told
    undo_wanted = pyqtSignal(str)                   # typed tag
    image_wanted = pyqtSignal(int)                  # partition

    def __init__(self) -> None:
        super().__init__()
        self.head = label(bold=True, scale=1.1, elides=True)
        self.image_button = button("Save as…", self._as_image,
                                   tip="Save this partition as an image file without a map, byte for byte")
        self.facts = label(style="muted", scale=0.9, wraps=True)
        self.acts = FileActs()
        for part, act in ((self.acts.take, self._take_out), (self.acts.put, self._ask_for_files),
                          (self.acts.replace, self._ask_for_other), (self.acts.copy, self._ask_where_to),
                          (self.acts.folder, self._ask_for_folder), (self.acts.rename, self._ask_for_name),
                          (self.acts.remove, self._ask_to_remove), (self.acts.comment, self._ask_for_comment),
                          (self.acts.protect, self._ask_for_protection)):
            part.clicked.connect(lambda _checked, act=act: act())
        self.tree = QTreeView()
        self.tree.setUniformRowHeights(True)
        self.tree.setMinimumHeight(LEAST_TREE)
        self.tree.setAccessibleName("Files of the chosen partition")
        self.tree.setAllColumnsShowFocus(True)
        self.tree.setSelectionMode(QTreeView.SelectionMode.ExtendedSelection)
        self.tree.setDragEnabled(True)
        self.tree.setContextMenuPolicy(Qt.ContextMenuPolicy.CustomContextMenu)
        self.tree.customContextMenuRequested.connect(self._show_acts)
        self.empty = label(style="muted", wraps=True)
        self.empty.setAlignment(Qt.AlignmentFlag.AlignTop)
        self.strip = AskStrip()
        self.strip.confirmed.connect(self._confirmed)
        self.strip.undo_wanted.connect(self.undo_wanted)
        head = row(self.head)
        head.setStretch(0, 1)
        head.addWidget(self.image_button)
        self.image_button.setProperty("compact", True)
        self.column.addLayout(head)
        told = Rows("Facts of the partition", spacing=0)               # scrolls where the window is low
        told.column.addWidget(self.facts)
        told.setMinimumHeight(self.facts.fontMetrics().lineSpacing())
        told.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Maximum)
        told.setMaximumHeight(FACT_LINES * self.facts.fontMetrics().lineSpacing())
        self.column.addWidget(told)
        self.column.addWidget(self.acts)
        self.column.addWidget(self.tree, 1)
        self.column.addWidget(self.empty, 1)
        self.column.addWidget(self.strip)
        self.setAcceptDrops(True)
        self._model: TreeModel | None = None
        self._medium: Medium | None = None
        self._look: PartitionLook | None = None
        self._why_not = ""
        self._build: Callable[[], tuple[AnyStep, ...]] | None = None
        self._carried: Carried | None = None
        self._copied: list[Entry] = []                  # of which copies are asked for
        self._was_at: tuple[tuple[str, int], TreePlace] | None = None

    def set_free(self, *, why_not: str) -> None:
        """Why the card cannot be written now; "" where it can."""
        self._why_not = why_not
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
        facts = [look.role_reason if look.is_unread else f"{look.role}, because {look.role_reason}"]
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
        if look.is_unread:
            self.show_text("What is on it has not been unpacked yet. Read it through to see its files.")
        elif volume is None:
            self.show_text(f"There is nothing to list: {look.role_reason}.")
        else:
            self.show_text("Being read…" if readable else
                           "Its files cannot be listed here yet. That does not mean that anything is wrong with it.")

    def show_tree(self, root: Node) -> None:
        """The files themselves."""
        self._let_go()
        here = (self._medium.key, self._look.index) if self._medium and self._look else ("", 0)
        self._model = TreeModel(root, *here, self)
        self.tree.setModel(self._model)
        if self._was_at is not None and self._was_at[0] == here:
            go_to(self.tree, self._model, self._was_at[1])
        if header := self.tree.header():
            header.setSectionResizeMode(0, QHeaderView.ResizeMode.Stretch)
            header.setStretchLastSection(False)
            for column in (1, 2):
                header.setSectionResizeMode(column, QHeaderView.ResizeMode.ResizeToContents)
        if selection := self.tree.selectionModel():
            selection.selectionChanged.connect(lambda _now, _before: self._choose())
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

    def show_done(self, sentence: str, *, tag: str = "") -> None:
        """A change has been made; with the tag of its card it can be taken back."""
        self.strip.show_done(sentence, tag)

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
                   lambda: (PutFiles(look.index, names, folder, self.strip.existing(),
                                     contents=self.strip.wants_contents()),),
                   existing=Existing.KEEP_BOTH, has_folders=any(p.is_dir() for p in paths), is_told=True)

    def offer_copy(self, hand: FilesInHand, medium: Medium, look: PartitionLook, folder: str = "") -> None:
        """Ask whether dragged files should go to a partition: moved within their own, copied to any other."""
        into = f"{look.name}/{folder}" if folder else look.name
        if (medium.key, look.index) == (hand.key, hand.partition):
            inside = any(folder == path or folder.startswith(f"{path}/") for path in hand.paths)
            moved = [p for p in hand.paths if p.rpartition("/")[0] != folder]
            if moved and not inside:
                self._open(f"Move {hand.words} to {into}", lambda: tuple(
                    RenameFile(look.index, p, f"{folder}/{p.rpartition('/')[2]}".strip("/")) for p in moved))
            return
        onto = f" on {medium.name}" if self._medium is None or medium.key != self._medium.key else ""
        self._open(f"Copy {hand.words} to {into}{onto}", lambda: tuple(
            CopyFiles(hand.partition, look.index, folder, path, self.strip.existing(), self.strip.wants_contents())
            for path in hand.paths), existing=Existing.KEEP_BOTH, has_folders=hand.has_folders,
            carried=Carried(hand, medium), is_told=True)

    def dragEnterEvent(self, event: QDragEnterEvent | None) -> None:
        """Qt: files may be put by dropping them."""
        data = event.mimeData() if event else None
        if event and data and (data.hasUrls() or in_hand(data)) and self._model is not None:
            event.acceptProposedAction()                 # where they cannot be taken it is said, once they are dropped

    def dragMoveEvent(self, event: QDragMoveEvent | None) -> None:
        """Qt."""
        if event and self._model is not None:
            event.acceptProposedAction()

    def dropEvent(self, event: QDropEvent | None) -> None:
        """Qt: the folder under the pointer takes them."""
        data = event.mimeData() if event else None
        if event is None or data is None:
            return
        if self._says_why_not:
            event.acceptProposedAction()
            self.show_problem(f"Nothing can be put there. {self._says_why_not}")
            return
        viewport = self.tree.viewport()
        place = viewport.mapFrom(self, event.position().toPoint()) if viewport else QPoint()
        folder, hand = self._folder_of(self.tree.indexAt(place)), in_hand(data)
        if hand is not None and self._medium is not None and self._look is not None:
            self.offer_copy(hand, self._medium, self._look, folder)
        else:
            self.offer_put([Path(url.toLocalFile()) for url in data.urls() if url.isLocalFile()], folder)
        event.acceptProposedAction()

    def _let_go(self) -> None:
        """Of the tree that is shown: a large one takes memory."""
        if self._model is not None:
            self._was_at = ((self._model.key, self._model.partition), place_in(self.tree, self._model))
            self.tree.setModel(None)
            self._model.deleteLater()
            self._model = None

    def _folder_of(self, index: QModelIndex) -> str:
        entry = self._model.entry(index) if self._model else None
        if entry is None:
            return ""
        return entry.path if entry.kind == Kind.FOLDER else entry.path.rpartition("/")[0]

    def _all_chosen(self) -> list[Entry]:
        selection = self.tree.selectionModel()
        if self._model is None or selection is None or not self.tree.isVisible():
            return []
        return self._model.outermost(sorted(selection.selectedRows(), key=lambda i: self.tree.visualRect(i).top()))

    def _chosen(self) -> Entry | None:
        """The one that is chosen; None for none or several."""
        chosen = self._all_chosen()
        return chosen[0] if len(chosen) == 1 else None

    def _can_change(self) -> bool:
        volume = self._look.volume if self._look else None
        return not self._why_not and self._model is not None and volume is not None and is_changed_here(volume.kind)

    @property
    def _says_why_not(self) -> str:
        volume = self._look.volume if self._look else None
        is_open = volume is None or is_changed_here(volume.kind)
        return self._why_not or ("" if is_open or volume is None else f"Files on {volume.kind_name} can only be read.")

    def _enable(self) -> None:
        volume = self._look.volume if self._look else None
        has_comments = volume is not None and volume.facts is not None and volume.facts.has_comments
        self.acts.allow(self._all_chosen(), can_change=self._can_change(), why_not=self._says_why_not,
                        has_comments=has_comments)
        self.image_button.setVisible(self._look is not None and self._look.index > 0)

    def _choose(self) -> None:
        """Something else is chosen: the place for a copy, while that is asked for."""
        self._enable()
        if self._copied and (entry := self._chosen()) is not None and not self.strip.field.isHidden():
            self.strip.field.setText(self._place_in(entry))

    def _show_acts(self, place: QPoint) -> None:
        if viewport := self.tree.viewport():
            self.acts.show_menu(viewport.mapToGlobal(place))

    def _take_out(self) -> None:
        if chosen := self._all_chosen():
            self.take_out_wanted.emit(chosen)

    def _as_image(self) -> None:
        if self._look is not None:
            self.image_wanted.emit(self._look.index)

    def _ask_for_files(self) -> None:
        names, _ = QFileDialog.getOpenFileNames(self, "Put which files?", str(Path.home()))
        self.offer_put([Path(n) for n in names], self._folder_of(self.tree.currentIndex()))

    def _ask_for_other(self) -> None:
        """Another file in the place of the chosen one, under its name; the old one stays under a dated one."""
        look, entry = self._look, self._chosen()
        if look is None or entry is None:
            return
        name, _ = QFileDialog.getOpenFileName(self, f"Which file becomes {entry.name}?", str(Path.home()))
        if name:
            folder = entry.path.rpartition("/")[0]
            self._open(f"Put “{Path(name).name}” in the place of “{entry.name}”", lambda: (
                PutFiles(look.index, (name,), folder, self.strip.existing(), entry.name),), existing=Existing.KEEP_BOTH)

    def _ask_where_to(self) -> None:
        """A place on this volume for copies of what is chosen; whatever is chosen next in the tree is that place."""
        look, chosen = self._look, self._all_chosen()
        if look is None or not chosen:
            return
        what = f"“{chosen[0].name}”" if len(chosen) == 1 else f"{len(chosen)} items"
        self._open(f"Copy {what} to this folder or name; choose it above, or type it",
                   lambda: _copies(look.index, chosen, self.strip.text().strip("/"), self.strip.existing()),
                   text=chosen[0].path if len(chosen) == 1 else chosen[0].path.rpartition("/")[0],
                   existing=Existing.KEEP_BOTH)
        self._copied = chosen

    def _place_in(self, entry: Entry) -> str:
        """Where the copies go that are asked for: into a folder, or a single file in the place of another."""
        if entry.kind != Kind.FOLDER:
            return entry.path if len(self._copied) == 1 else entry.path.rpartition("/")[0]
        return f"{entry.path}/{self._copied[0].name}" if len(self._copied) == 1 else entry.path

    def _ask_for_folder(self) -> None:
        look, folder = self._look, self._folder_of(self.tree.currentIndex())
        if look is not None:
            self._open(f"Make a folder in {folder or look.name}",
                       lambda: (MakeFolder(look.index, f"{folder}/{self.strip.text()}".strip("/")),), text="new folder")

    def _ask_for_name(self) -> None:
        look, entry = self._look, self._chosen()
        if look is not None and entry is not None:
            self._open(f"Rename “{entry.name}”", lambda: (RenameFile(look.index, entry.path, _beside(
                entry.path, self.strip.text())),), text=entry.name)

    def _ask_for_comment(self) -> None:
        look, entry = self._look, self._chosen()
        if look is not None and entry is not None:
            self._open(f"Comment of “{entry.name}”",
                       lambda: (SetTraits(look.index, entry.path, comment=self.strip.text()),), text=entry.comment)

    def _ask_for_protection(self) -> None:
        look, entry = self._look, self._chosen()
        if look is not None and entry is not None:
            self._open(f"Protection of “{entry.name}”: letters of hsparwed that are set",
                       lambda: (SetTraits(look.index, entry.path, protection=self.strip.text()),),
                       text=protection_text(entry.protection or 0))

    def _ask_to_remove(self) -> None:
        look, chosen = self._look, self._all_chosen()
        if look is None or not chosen:
            return
        inside = " with all that is in it" if any(e.kind == Kind.FOLDER for e in chosen) else ""
        what = f"“{chosen[0].path}”" if len(chosen) == 1 else counted(len(chosen), "item")
        self._open(f"Remove {what}{inside}", lambda: (RemoveFiles(look.index, tuple(e.path for e in chosen)),))

    def _open(self, sentence: str, build: Callable[[], tuple[AnyStep, ...]], *, text: str | None = None,
              existing: Existing | None = None, has_folders: bool = False,
              carried: Carried | None = None, is_told: bool = False) -> None:
        self._build, self._carried, self._copied = build, carried, []
        medium = carried.to if carried else self._medium
        if medium is not None:
            self.strip.ask(sentence, medium.tag, text=text, existing=existing, has_folders=has_folders)
            if is_told:
                self.losses_wanted.emit(self._carried, build())

    def _confirmed(self, tag: str) -> None:
        if self._build is None:
            return
        steps = self._build()                          # as it was answered, before the questions go
        self.strip.show_working()
        if self._carried is not None:
            self.copy_wanted.emit(self._carried, steps, tag)
        else:
            self.change_wanted.emit(steps, tag)


def _copies(index: int, chosen: list[Entry], place: str, existing: Existing) -> tuple[AnyStep, ...]:
    """Copies on the same volume: of one file or folder to a place, of several into a folder."""
    if len(chosen) > 1:
        return tuple(CopyFiles(index, index, place, entry.path, existing) for entry in chosen)
    if chosen[0].kind == Kind.FOLDER:
        return (CopyFiles(index, index, place, chosen[0].path, existing, contents=True),)
    return (CopyFiles(index, index, existing=existing, only=(chosen[0].path,), places=(place,)),)


def _beside(path: str, name: str) -> str:
    """A new name beside the old one, or another place where it has slashes."""
    folder = path.rpartition("/")[0]
    return name.strip("/") if "/" in name else f"{folder}/{name}".lstrip("/")
