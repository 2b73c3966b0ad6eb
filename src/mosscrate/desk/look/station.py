"""Look: the shelf, the chosen medium as a large core, its files, and what was found."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from functools import partial
from pathlib import Path

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtGui import QResizeEvent
from PyQt6.QtWidgets import QBoxLayout, QFileDialog, QHBoxLayout, QSplitter, QStackedWidget, QVBoxLayout, QWidget

from mosscrate.core.contents import Layout, describe, survey
from mosscrate.core.contents.extract import take_out
from mosscrate.core.contents.fresh_images import DRIVES, FLOPPIES, make_drive, make_floppy
from mosscrate.core.contents.inspecting import Structure, inspect
from mosscrate.core.contents.survey import WORTH_OFFERING, open_partition, whole_partition
from mosscrate.core.errors import MediumError, MossError
from mosscrate.core.machines import check
from mosscrate.core.sheet.bench import Bench, card_of
from mosscrate.core.sheet.running import recovering
from mosscrate.core.sheet.running import run as running
from mosscrate.core.sheet.running.job import Job
from mosscrate.core.sheet.sheet import JobSheet, reference
from mosscrate.core.sheet.steps import AnyStep
from mosscrate.core.sizes import binary, counted, exact
from mosscrate.core.slots import Medium, Source
from mosscrate.core.volumes import Entry, Kind
from mosscrate.core.watch import Watch
from mosscrate.desk.bench_model import BenchModel
from mosscrate.desk.look.files_panel import FilesPanel
from mosscrate.desk.look.findings_panel import FindingsPanel
from mosscrate.desk.look.shelf_view import ShelfView
from mosscrate.desk.look.structure_panel import StructurePanel
from mosscrate.desk.look.tree_model import Node, nodes_of
from mosscrate.desk.shared.core_view import CoreView
from mosscrate.desk.shared.panel import button, label, row

NARROW = 1040
LEAST_CORE, LEAST_SHELF = 214, 182   # pixels in which names of partitions and cards can be read


class LookStation(QWidget):
    """What is at hand and what is on it."""

    elsewhere = pyqtSignal(str, object)           # see StationWidget

    def __init__(self, model: BenchModel, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.model = model
        self._shown: tuple[str, int] | None = None
        self._last_job: Job | None = None
        self.title = label("Nothing in hand", scale=1.5, bold=True, elides=True)
        self.subtitle = label(style="muted", scale=0.95, elides=True)
        self.open_button = button("Open…", self.ask_for_image, tip="A card image; or drop one anywhere (Ctrl+O)")
        self.new_button = button("New image…", self._ask_for_new, tip="Make an empty floppy or a blank drive")
        self.check_button = button("Check structure", self._check)
        self.keep_button = button("Keep", self._keep)
        self.grow_button = button("Use the free room…", lambda: self.elsewhere.emit("move.grow", self.model.selected),
                                  tip="Grow the last partition into the unused room behind it")
        self.arrange_button = button("Change partitions…",
                                     lambda: self.elsewhere.emit("move.arrange", self.model.selected),
                                     tip="Add, remove, size, move, label, make anew: planned first, then run")
        self.prepare_button = button("Prepare…", lambda: self.elsewhere.emit("move.prepare", self.model.selected),
                                     tip="Lay it out anew for a purpose, with a label and files")
        self.move_button = button("Move onto another card…", self._move, style="primary")
        self.shelf = ShelfView(model)
        self.shelf.picked.connect(model.select)
        self.core = CoreView("left")
        self.core.setMinimumWidth(LEAST_CORE)
        self.core.chosen.connect(self._on_chosen)
        self.files = FilesPanel()
        self.files.take_out_wanted.connect(self._take_out)
        self.files.image_wanted.connect(self._save_image)
        self.files.change_wanted.connect(self._change_files)
        self.files.undo_wanted.connect(self._take_back)
        self.structure = StructurePanel()
        self.files_button = button("Files", lambda: self._turn(self.files))
        self.structure_button = button("Structure", lambda: self._turn(self.structure),
                                       tip="Map and volumes field by field: name, value, bytes")
        self.pages = QStackedWidget()
        self.pages.addWidget(self.files)
        self.pages.addWidget(self.structure)
        for part in (self.files_button, self.structure_button):
            part.setCheckable(True)
        for part in (self.files_button, self.structure_button, self.new_button, self.open_button):
            part.setProperty("compact", True)
        self._inspected: tuple[str, tuple[Structure, ...]] | None = None
        self.findings = FindingsPanel(model)
        self.findings.back_wanted.connect(self._undo_interrupted)
        self.findings.finish_wanted.connect(self._finish_interrupted)
        self._lay_out()
        self._turn(self.files)
        model.selected_changed.connect(self._show_medium)
        model.seen_changed.connect(self._on_seen)
        model.jobs_changed.connect(self._enable)
        model.machine_changed.connect(self._show_core)
        model.crate_changed.connect(self._show_words)
        self._show_medium()

    def _lay_out(self) -> None:
        words = QVBoxLayout()
        words.setSpacing(2)
        words.addWidget(self.title)
        words.addWidget(self.subtitle)
        self.head = head = QHBoxLayout()
        head.addLayout(words, 1)
        head.addLayout(row(self.grow_button, self.prepare_button, self.arrange_button, self.check_button,
                           self.keep_button, self.move_button))
        shelf = QVBoxLayout()
        shelf.addWidget(label("On the shelf", bold=True))
        shelf.addWidget(self.shelf, 1)
        shelf.addLayout(row(self.open_button, self.new_button, spacing=6))
        left = QWidget()
        left.setLayout(shelf)
        left.setMinimumWidth(LEAST_SHELF)
        shelf.setContentsMargins(0, 0, 6, 0)
        right = QSplitter(Qt.Orientation.Vertical)
        upper = QVBoxLayout()
        upper.setContentsMargins(0, 0, 0, 0)
        upper.addLayout(row(self.files_button, self.structure_button, None, spacing=6))
        upper.addWidget(self.pages, 1)
        contents = QWidget()
        contents.setLayout(upper)
        right.addWidget(contents)
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

    def resizeEvent(self, event: QResizeEvent | None) -> None:
        """Qt: on a small window the buttons stand below the name."""
        narrow = self.width() < NARROW
        self.head.setDirection(QBoxLayout.Direction.TopToBottom if narrow else QBoxLayout.Direction.LeftToRight)
        super().resizeEvent(event)

    def _show_medium(self) -> None:
        medium = self.model.selected
        layout = self.model.layout_of(medium)
        self._show_core()
        self._show_words()
        self.findings.show_layout(layout, self.model.seen[medium.key].error
                                  if medium and medium.key in self.model.seen else "")
        stopped = self.model.interrupted_on(medium)
        self.findings.offer(medium.tag if medium and stopped and medium.key not in self.model.busy else "")
        self._shown, self._inspected = None, None
        self._show_partition()
        self._show_structures()
        self._enable()

    def _on_chosen(self, index: int) -> None:
        self._show_partition()
        if self.pages.currentWidget() is self.structure:
            self.structure.show_partition(index)

    def _turn(self, page: QWidget) -> None:
        """From files to structures and back."""
        self.pages.setCurrentWidget(page)
        self.files_button.setChecked(page is self.files)
        self.structure_button.setChecked(page is self.structure)
        self._show_structures()

    def _show_structures(self) -> None:
        """Read them when they are looked at, once for each state of the medium."""
        medium = self.model.selected
        if self.pages.currentWidget() is not self.structure:
            return
        if medium is None or self.model.layout_of(medium) is None:
            self.structure.show_text("")
        elif self._inspected and self._inspected[0] == medium.key:
            self.structure.show_structures(self._inspected[1], self.core.selected)
        else:
            self.structure.show_text("Being read…")
            self.model.asker.ask(lambda: _inspect(medium), lambda found: self._take_structures(medium.key, found),
                                 lambda error: self.structure.show_text(str(error)))

    def _take_structures(self, key: str, found: tuple[Structure, ...]) -> None:
        if self.model.selected and self.model.selected.key == key:
            self._inspected = (key, found)
            self.structure.show_structures(found, self.core.selected)

    def _show_core(self) -> None:
        medium, machine = self.model.selected, self.model.machine
        layout = self.model.layout_of(medium)
        if layout is not None and machine is not None:
            layout = replace(layout, findings=layout.findings + check(layout, machine))
        self.core.show_layout(layout, medium.name if medium else "nothing")

    def _show_words(self) -> None:
        medium = self.model.selected
        layout = self.model.layout_of(medium)
        self.title.setText(medium.name if medium else "Nothing in hand")
        self.title.setToolTip(medium.name if medium else "")
        if medium is None:
            self.subtitle.setText("Put a card into a reader, open an image, or drop one on the window.")
            return
        kept = self.model.last_kept(medium)
        known = "a kept backup, which is never changed" if medium.source == Source.BACKUP else \
            f"kept {kept.kept_at:%d %b %Y}" if kept else "in no backup"
        about = [medium.subtitle, f"tag {medium.tag}", known]
        if layout and layout.map_id:
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
        may_change = is_free and medium is not None and medium.source != Source.BACKUP \
            and not self.model.interrupted_on(medium)
        is_kept = medium is not None and medium.source == Source.BACKUP
        self.keep_button.setEnabled(is_free and layout is not None and not is_kept)
        self.move_button.setEnabled(is_free and layout is not None)
        self.arrange_button.setEnabled(may_change and layout is not None and not layout.is_closed)
        self.prepare_button.setEnabled(may_change and layout is not None)
        self.files.set_free(is_free=may_change and medium is not None and not medium.is_write_protected)
        self.grow_button.setVisible(layout is not None and _has_room_to_use(layout))
        self.grow_button.setEnabled(may_change)
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
        self.files.show_head(medium, look, layout.map_kind)
        if look.volume and look.volume.used is not None:
            self.model.asker.ask(lambda: _read_tree(medium, look.index),
                                 lambda root: self._show_tree(wanted, root),
                                 lambda error: self.files.show_text(str(error)))

    def _show_tree(self, wanted: tuple[str, int], root: Node) -> None:
        if wanted == self._shown:
            self.files.show_tree(root)

    def _keep(self) -> None:
        if self.model.selected:
            self.model.keep(self.model.selected)

    def _move(self) -> None:
        self.elsewhere.emit("move", self.model.selected)

    def _check(self) -> None:
        medium = self.model.selected
        if medium is None:
            return
        self.findings.show_text("Checking the structure of every volume…")

        def ask() -> Layout:
            with medium.open() as blocks:
                return survey(blocks, thorough=True)

        self.model.asker.ask(ask, self.findings.show_checked, lambda error: self.findings.show_text(str(error)))

    def take(self, medium: Medium | None, errand: str) -> None:
        """See StationWidget: it is shown."""
        self.model.select(medium)

    def ask_for_image(self) -> None:
        """Let the person choose a file."""
        name, _ = QFileDialog.getOpenFileName(self, "Open a card image", str(Path.home()))
        if name:
            self.model.open_image(Path(name))

    def _ask_for_new(self) -> None:
        """Let the person choose a file and, by its kind, the disk or drive."""
        kinds: dict[str, Callable[[Path], str]] = {
            f"Blank drive, {words} (*.img)": partial(make_drive, size=size) for words, size in DRIVES.items()}
        kinds |= {f"Floppy: {disk.name}, {kind} (*.img)": partial(make_floppy, disk=disk, kind=kind)
                  for disk in FLOPPIES for kind in disk.kinds}
        name, chosen = QFileDialog.getSaveFileName(self, "Make a new image", str(Path.home() / "new.img"),
                                                   ";;".join(kinds))
        if not name:
            return
        try:
            sentence = kinds[chosen](Path(name))
        except MossError as error:
            self.model.failed.emit(str(error))
            return
        self.model.open_image(Path(name))
        self.model.said.emit(sentence)

    def _take_out(self, entry: Entry) -> None:
        medium, shown = self.model.selected, self._shown
        folder = QFileDialog.getExistingDirectory(self, f"Where should {entry.name} go?", str(Path.home()))
        if not folder or medium is None or shown is None:
            return
        job = self.model.run(f"Take out {entry.name}",
                             lambda watch: _take_out(medium, shown[1], entry, Path(folder), watch), {medium.key})
        if job:
            job.done.connect(lambda sentence: self.model.said.emit(str(sentence)))

    def _save_image(self, index: int) -> None:
        """A partition as an image file, verified by reading it back."""
        medium, bench = self.model.selected, self.model.bench
        name, _ = QFileDialog.getSaveFileName(self, "Save the partition as an image",
                                              str(Path.home() / f"{self.files.head.text()}.img"))
        if not name or medium is None:
            return
        job = self.model.run(f"Save a partition of {medium.name}",
                             lambda watch: _as_image(medium, index, Path(name), bench, watch), {medium.key})
        if job:
            job.done.connect(lambda sentence: self.model.said.emit(str(sentence)))
            job.failed.connect(lambda error: self.files.show_problem(str(error)))

    def _change_files(self, step: AnyStep, tag: str) -> None:
        """Run one change of the chosen volume's files with the tag that was typed."""
        medium, bench = self.model.selected, self.model.bench
        if medium is None:
            return
        job = self.model.run(f"Change files of {medium.name}",
                             lambda watch: _run(bench, medium, step, tag, watch), {medium.key})
        if job is None:
            return
        self._shown = None
        job.done.connect(self._changed)
        job.failed.connect(lambda error: self.files.show_problem(str(error)))

    def _changed(self, result: object) -> None:
        assert isinstance(result, running.Result)
        self._last_job = result.job
        self.files.show_done(result.done[0].sentence)

    def _undo_interrupted(self, tag: str) -> None:
        medium, bench = self.model.selected, self.model.bench
        logged = self.model.interrupted_on(medium)
        if medium is not None and logged is not None:
            self._recover(f"Take back on {medium.name}", medium,
                          lambda watch: recovering.undo(logged, bench, watch, typed_tag=tag, card=medium))

    def _finish_interrupted(self, tag: str) -> None:
        medium, bench = self.model.selected, self.model.bench
        logged = self.model.interrupted_on(medium)
        if medium is not None and logged is not None:
            self._recover(f"Finish on {medium.name}", medium, lambda watch: _finished(
                recovering.finish(logged, bench, watch, typed_tag=tag, card=medium)))

    def _recover(self, title: str, medium: Medium, work: Callable[[Watch], str]) -> None:
        job = self.model.run(title, work, {medium.key})
        if job:
            self.findings.offer("")
            self.findings.show_text(f"{title}…")
            job.done.connect(lambda sentence: self.model.said.emit(str(sentence)))

    def _take_back(self, tag: str) -> None:
        medium, bench, logged = self.model.selected, self.model.bench, self._last_job
        if medium is None or logged is None:
            return
        job = self.model.run(f"Take back on {medium.name}", lambda watch: recovering.undo(
            logged, bench, watch, typed_tag=tag, card=medium), {medium.key})
        if job:
            self._shown, self._last_job = None, None
            job.done.connect(lambda sentence: self.files.show_done(str(sentence), can_undo=False))


def _run(bench: Bench, medium: Medium, step: AnyStep, tag: str, watch: Watch) -> running.Result:
    """One change of files as a job of its own: guarded, noted, to be taken back."""
    sheet = JobSheet((step,), None, reference(medium))
    return running.run(sheet, bench, watch, typed_tag=tag)


def _finished(result: running.Result) -> str:
    return " ".join(done.sentence for done in result.done[-2:])


def _has_room_to_use(layout: Layout) -> bool:
    last = layout.last()
    return (layout.can_be_arranged and layout.tail >= WORTH_OFFERING and last is not None
            and last.volume is not None and last.volume.largest > last.partition.length)


def _read_tree(medium: Medium, index: int) -> Node:
    with medium.open() as blocks:
        return nodes_of(open_partition(blocks, index).tree())


def _as_image(medium: Medium, index: int, to: Path, bench: Bench, watch: Watch) -> str:
    with medium.open() as card:
        blocks = whole_partition(card, index)
        bench.crate.keep(card_of(medium), blocks, watch, layout=describe(survey(blocks)), path=to)
    return f"{binary(blocks.size)} saved as {to}, read back and equal."


def _inspect(medium: Medium) -> tuple[Structure, ...]:
    with medium.open() as blocks:
        return inspect(blocks)


def _take_out(medium: Medium, index: int, entry: Entry, folder: Path, watch: Watch) -> str:
    with medium.open() as blocks:
        outcome = take_out(open_partition(blocks, index), entry.path, folder, watch)
    files = [t.entry for t in outcome.taken if t.entry.kind == Kind.FILE]
    said = f"{counted(len(files), 'file')}, {binary(sum(e.size for e in files))}, copied to {folder}."
    if outcome.left_out:
        raise MediumError(f"{said} {outcome.shortfall}")
    return said
