"""Look: the shelf, the chosen medium as a large core, its files, and what was found."""

from __future__ import annotations

from pathlib import Path

from PyQt6.QtCore import QModelIndex, Qt, pyqtSignal
from PyQt6.QtWidgets import (
    QFileDialog,
    QHBoxLayout,
    QHeaderView,
    QScrollArea,
    QSplitter,
    QTreeView,
    QVBoxLayout,
    QWidget,
)

from mosscrate.core.contents import Layout, PartitionLook, survey
from mosscrate.core.contents.extract import take_out
from mosscrate.core.contents.survey import WORTH_OFFERING, open_partition
from mosscrate.core.findings import Finding, Severity
from mosscrate.core.maps import MapKind
from mosscrate.core.sizes import binary, counted, exact
from mosscrate.core.slots import Medium
from mosscrate.core.volumes import Entry, Kind, Tree
from mosscrate.core.watch import Watch
from mosscrate.desk.bench_model import BenchModel
from mosscrate.desk.look.shelf_view import ShelfView
from mosscrate.desk.look.tree_model import TreeModel
from mosscrate.desk.shared.core_view import CoreView
from mosscrate.desk.shared.panel import FindingRow, Panel, button, clear, label, restyle, row


class LookStation(QWidget):
    """What is at hand and what is on it."""

    move_wanted = pyqtSignal(object)              # Medium
    grow_wanted = pyqtSignal(object)              # Medium

    def __init__(self, model: BenchModel, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.model = model
        self._shown: tuple[str, int] | None = None
        self.title = label("Nothing in hand", scale=1.5, bold=True, elides=True)
        self.subtitle = label(style="muted", scale=0.95, elides=True)
        self.open_button = button("Open image…", self.ask_for_image, tip="Or drop a file anywhere (Ctrl+O)")
        self.check_button = button("Check structure", self._check)
        self.keep_button = button("Keep", self._keep)
        self.grow_button = button("Use the free room…", lambda: self.grow_wanted.emit(self.model.selected),
                                  tip="Grow the last partition into the unused room behind it")
        self.move_button = button("Move onto another card…", self._move, style="primary")
        self.shelf = ShelfView(model)
        self.shelf.picked.connect(model.select)
        self.core = CoreView("left")
        self.core.chosen.connect(lambda _index: self._show_partition())
        self.files = _FilesPanel(self._take_out)
        self.findings = _FindingsPanel()
        self._lay_out()
        model.selected_changed.connect(self._show_medium)
        model.seen_changed.connect(self._on_seen)
        model.jobs_changed.connect(self._enable)
        model.crate_changed.connect(self._show_words)
        self._show_medium()

    def _lay_out(self) -> None:
        words = QVBoxLayout()
        words.setSpacing(2)
        words.addWidget(self.title)
        words.addWidget(self.subtitle)
        head = QHBoxLayout()
        head.addLayout(words, 1)
        head.addLayout(row(self.grow_button, self.check_button, self.keep_button, self.move_button))
        shelf = QVBoxLayout()
        shelf.addLayout(row(label("On the shelf", bold=True), None, self.open_button))
        shelf.addWidget(self.shelf, 1)
        left = QWidget()
        left.setLayout(shelf)
        shelf.setContentsMargins(0, 0, 6, 0)
        right = QSplitter(Qt.Orientation.Vertical)
        right.addWidget(self.files)
        right.addWidget(self.findings)
        right.setStretchFactor(0, 3)
        right.setStretchFactor(1, 1)
        right.setChildrenCollapsible(False)
        right.setSizes([560, 150])
        parts = QSplitter(Qt.Orientation.Horizontal)
        for part, stretch in ((left, 0), (self.core, 3), (right, 4)):
            parts.addWidget(part)
            parts.setStretchFactor(parts.count() - 1, stretch)
        parts.setChildrenCollapsible(False)
        parts.setSizes([250, 380, 520])
        parts.setHandleWidth(10)
        whole = QVBoxLayout(self)
        whole.setContentsMargins(20, 16, 20, 12)
        whole.setSpacing(12)
        whole.addLayout(head)
        whole.addWidget(parts, 1)

    def _show_medium(self) -> None:
        medium = self.model.selected
        layout = self.model.layout_of(medium)
        self.core.show_layout(layout, medium.name if medium else "nothing")
        self._show_words()
        self.findings.show_layout(layout, self.model.seen[medium.key].error
                                  if medium and medium.key in self.model.seen else "")
        self._shown = None
        self._show_partition()
        self._enable()

    def _show_words(self) -> None:
        medium = self.model.selected
        layout = self.model.layout_of(medium)
        self.title.setText(medium.name if medium else "Nothing in hand")
        self.title.setToolTip(medium.name if medium else "")
        if medium is None:
            self.subtitle.setText("Put a card into a reader, open an image, or drop one on the window.")
            return
        kept = self.model.last_kept(medium)
        about = [medium.subtitle, f"tag {medium.tag}", f"kept {kept.kept_at:%d %b %Y}" if kept else "in no backup"]
        if layout and layout.map_kind == MapKind.MBR:
            about.append(f"disk id {layout.map_id}")
        self.subtitle.setText("  ·  ".join(about))
        self.subtitle.setToolTip(f"{exact(medium.size)}\n{medium.path}\n{medium.model} {medium.serial}")

    def _on_seen(self, key: str) -> None:
        if self.model.selected and self.model.selected.key == key:
            self._show_medium()

    def _enable(self) -> None:
        medium = self.model.selected
        layout = self.model.layout_of(medium)
        is_free = medium is not None and medium.key not in self.model.busy
        self.keep_button.setEnabled(is_free and layout is not None)
        self.move_button.setEnabled(is_free and layout is not None)
        self.grow_button.setVisible(layout is not None and _has_room_to_use(layout))
        self.grow_button.setEnabled(is_free)
        self.check_button.setEnabled(is_free and layout is not None and bool(layout.partitions))

    def _show_partition(self) -> None:
        medium, layout = self.model.selected, self.model.layout_of(self.model.selected)
        look = None
        if layout is not None and self.core.selected is not None:
            look = next((p for p in layout.partitions if p.index == self.core.selected), None)
        if medium is None or layout is None or look is None:
            self._shown = None
            self.files.show_nothing(layout)
            return
        wanted = (medium.key, look.index)
        if wanted == self._shown:
            return
        self._shown = wanted
        self.files.show_head(look)
        if look.volume and look.volume.used is not None:
            self.model.asker.ask(lambda: _read_tree(medium, look.index),
                                 lambda tree: self._show_tree(wanted, tree),
                                 lambda error: self.files.show_text(str(error)))

    def _show_tree(self, wanted: tuple[str, int], tree: Tree) -> None:
        if wanted == self._shown:
            self.files.show_tree(tree)

    def _keep(self) -> None:
        if self.model.selected:
            self.model.keep(self.model.selected)

    def _move(self) -> None:
        self.move_wanted.emit(self.model.selected)

    def _check(self) -> None:
        medium = self.model.selected
        if medium is None:
            return
        self.findings.show_text("Checking the structure of every volume…")

        def ask() -> Layout:
            with medium.open() as blocks:
                return survey(blocks, thorough=True)

        self.model.asker.ask(ask, self.findings.show_checked, lambda error: self.findings.show_text(str(error)))

    def ask_for_image(self) -> None:
        """Let the person choose a file."""
        name, _ = QFileDialog.getOpenFileName(self, "Open a card image", str(Path.home()))
        if name:
            self.model.open_image(Path(name))

    def _take_out(self, entry: Entry) -> None:
        medium, shown = self.model.selected, self._shown
        folder = QFileDialog.getExistingDirectory(self, f"Where should {entry.name} go?", str(Path.home()))
        if not folder or medium is None or shown is None:
            return
        job = self.model.run(f"Take out {entry.name}",
                             lambda watch: _take_out(medium, shown[1], entry, Path(folder), watch), {medium.key})
        if job:
            job.done.connect(self.model.said)


class _FilesPanel(Panel):
    def __init__(self, take_out: object) -> None:
        super().__init__()
        self._take_out = take_out
        self.head = label(bold=True, scale=1.1, elides=True)
        self.facts = label(style="muted", scale=0.9, wraps=True)
        self.button = button("Take out…", self._ask, tip="Copy the chosen file or folder to this computer")
        self.tree = QTreeView()
        self.tree.setUniformRowHeights(True)
        self.tree.setAccessibleName("Files of the chosen partition")
        self.tree.setAllColumnsShowFocus(True)
        self.empty = label(style="muted", wraps=True)
        self.empty.setAlignment(Qt.AlignmentFlag.AlignTop)
        head = row(self.head, self.button)
        head.setStretch(0, 1)
        self.column.addLayout(head)
        self.column.addWidget(self.facts)
        self.column.addWidget(self.tree, 1)
        self.column.addWidget(self.empty, 1)
        self._model: TreeModel | None = None

    def show_nothing(self, layout: Layout | None) -> None:
        """No partition is chosen."""
        self.head.setText("Files")
        self.facts.setText("")
        self.show_text("" if layout is None else "There is no partition whose files could be listed."
                       if not layout.is_blank else "This card is blank. Moving another card onto it is one step away.")

    def show_head(self, look: PartitionLook) -> None:
        """The chosen partition in words."""
        volume, p = look.volume, look.partition
        self.head.setText(look.name)
        facts = [f"{look.role}, because {look.role_reason}"]
        if volume and volume.used is not None:
            facts.append(f"{volume.kind.upper()}, clusters of {binary(volume.block)}, serial {volume.id}, "
                         f"{binary(volume.used)} used, {binary(volume.free or 0)} free")
        where = f"from {binary(p.start)} to {binary(p.end)}"
        facts.append(f"{where}, type {p.type} ({p.type_name})" if p.type else where)
        if p.flags:
            facts.append(", ".join(p.flags))
        self.facts.setText("\n".join(facts))
        readable = volume is not None and volume.used is not None
        self.show_text("Being read…" if readable else
                       "Its files cannot be listed here yet. That does not mean that anything is wrong with it.")

    def show_tree(self, tree: Tree) -> None:
        """The files themselves."""
        self._model = TreeModel(tree, self)
        self.tree.setModel(self._model)
        if header := self.tree.header():
            header.setSectionResizeMode(0, QHeaderView.ResizeMode.Stretch)
            header.setStretchLastSection(False)
            for column in (1, 2):
                header.setSectionResizeMode(column, QHeaderView.ResizeMode.ResizeToContents)
        if selection := self.tree.selectionModel():
            selection.currentChanged.connect(self._enable)
        if not tree.entries:
            self.show_text("No files yet.")
            return
        self.tree.show()
        self.empty.hide()
        self._enable(QModelIndex())

    def show_text(self, text: str) -> None:
        """A sentence where the files would be."""
        self.tree.hide()
        self.empty.setText(text)
        self.empty.show()
        self.button.setEnabled(False)

    def _enable(self, current: QModelIndex) -> None:
        self.button.setEnabled(current.isValid())

    def _ask(self) -> None:
        entry = self._model.entry(self.tree.currentIndex()) if self._model else None
        if entry is not None and callable(self._take_out):
            self._take_out(entry)


class _FindingsPanel(Panel):
    def __init__(self) -> None:
        super().__init__()
        self.head = label("What was noticed", bold=True)
        self.column.addWidget(self.head)
        inner = QWidget()
        self.rows = QVBoxLayout(inner)
        self.rows.setContentsMargins(0, 0, 8, 0)
        self.rows.setSpacing(4)
        area = QScrollArea()
        area.setWidgetResizable(True)
        area.setWidget(inner)
        inner.setAutoFillBackground(False)
        if viewport := area.viewport():
            viewport.setAutoFillBackground(False)
        self.column.addWidget(area, 1)
        self.setMinimumHeight(110)

    def show_layout(self, layout: Layout | None, error: str) -> None:
        """What the survey noticed, or why there was none."""
        if error:
            self._show([Finding(Severity.PROBLEM, error)])
        elif layout is None:
            self.show_text("")
        else:
            self._show(list(layout.findings) or [Finding(Severity.GOOD, "Nothing that needs a word.")])

    def show_checked(self, layout: Layout) -> None:
        """What a thorough check has found."""
        volumes = sum(p.volume is not None and p.volume.used is not None for p in layout.partitions)
        good = Finding(Severity.GOOD, f"The structure of {counted(volumes, 'volume')} was checked: "
                       "nothing is wrong.")
        bad = [f for f in layout.findings if f.severity in (Severity.WARNING, Severity.PROBLEM)]
        self._show([*([] if bad or not volumes else [good]), *layout.findings])

    def show_text(self, text: str) -> None:
        """One quiet sentence."""
        clear(self.rows)
        words = label(text, wraps=True)
        restyle(words, "muted")
        self.rows.addWidget(words)
        self.rows.addStretch(1)

    def _show(self, findings: list[Finding]) -> None:
        clear(self.rows)
        for finding in findings:
            self.rows.addWidget(FindingRow(finding))
        self.rows.addStretch(1)


def _has_room_to_use(layout: Layout) -> bool:
    last = layout.last()
    return (layout.map_kind == MapKind.MBR and layout.tail >= WORTH_OFFERING and last is not None
            and last.volume is not None and last.volume.largest > last.partition.length)


def _read_tree(medium: Medium, index: int) -> Tree:
    with medium.open() as blocks:
        return open_partition(blocks, index).tree()


def _take_out(medium: Medium, index: int, entry: Entry, folder: Path, watch: Watch) -> str:
    with medium.open() as blocks:
        taken = take_out(open_partition(blocks, index), entry.path, folder, watch)
    files = [t.entry for t in taken if t.entry.kind == Kind.FILE]
    return f"{counted(len(files), 'file')}, {binary(sum(e.size for e in files))}, copied to {folder}."
