"""Look: the shelf, the chosen medium as a large core, its files, and what was found."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from functools import partial
from pathlib import Path

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtWidgets import (
    QFileDialog,
    QSplitter,
    QStackedWidget,
    QVBoxLayout,
    QWidget,
)

from mosscrate.core.contents import Layout, survey
from mosscrate.core.contents.fresh_images import DRIVES, FLOPPIES, make_drive, make_floppy
from mosscrate.core.contents.inspecting import Structure, inspect
from mosscrate.core.contents.survey import WORTH_OFFERING, open_partition
from mosscrate.core.errors import MossError
from mosscrate.core.machines import check
from mosscrate.core.proof.job import put_back_on
from mosscrate.core.sheet.running import recovering
from mosscrate.core.sheet.running import run as running
from mosscrate.core.sizes import exact
from mosscrate.core.slots import Medium, Source
from mosscrate.core.watch import Watch
from mosscrate.desk.bench_model import BenchModel
from mosscrate.desk.look.files_panel import FilesPanel
from mosscrate.desk.look.filing import Filing
from mosscrate.desk.look.findings_panel import FindingsPanel
from mosscrate.desk.look.packing_strip import PackingStrip
from mosscrate.desk.look.reader_strip import ReaderStrip
from mosscrate.desk.look.shelf_view import ShelfView
from mosscrate.desk.look.structure_panel import StructurePanel
from mosscrate.desk.look.tree_model import Node, nodes_of
from mosscrate.desk.look.why_not import why_not_changed, why_not_read
from mosscrate.desk.shared.button_rows import ButtonRows
from mosscrate.desk.shared.core_view import CoreView
from mosscrate.desk.shared.head import Head
from mosscrate.desk.shared.panel import button, label, permit, row
from mosscrate.desk.shared.saving import ask_where, saving

CLOSED = "Its map is not understood, so nothing in it is changed."
LEAST_CORE, LEAST_SHELF = 214, 182   # pixels in which names of partitions and cards can be read


class LookStation(QWidget):
    """What is at hand and what is on it."""

    elsewhere = pyqtSignal(str, object)           # see StationWidget

    def __init__(self, model: BenchModel, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.model = model
        self._shown: tuple[str, int] | None = None
        self.title = label("Nothing in hand", scale=1.5, bold=True, elides=True)
        self.subtitle = label(style="muted", scale=0.95, elides=True)
        self.open_button = button("Open…", self.ask_for_image, tip="A card image; or drop one anywhere (Ctrl+O)")
        self.new_button = button("New image…", self._ask_for_new, tip="Make an empty floppy or a blank drive")
        self.check_button = button("Check structure", self._check)
        self.keep_button = button("Keep it", self._keep)
        self.save_button = button("Save as…", self._save,
                                  tip="All of it in a file: for an emulator, to put it away, to pass it on")
        self.grow_button = button("Use the free room…", lambda: self.elsewhere.emit("move.grow", self.model.selected),
                                  tip="Grow the last partition into the unused room behind it")
        self.arrange_button = button("Change partitions…",
                                     lambda: self.elsewhere.emit("move.arrange", self.model.selected),
                                     tip="Add, remove, size, move, label, make anew: planned first, then run")
        self.prepare_button = button("Prepare…", lambda: self.elsewhere.emit("move.prepare", self.model.selected),
                                     tip="Lay it out anew for a purpose, with a label and files")
        self.move_button = button("Onto another card…", self._move, style="primary")
        self.shelf = ShelfView(model)
        self.shelf.picked.connect(model.select)
        self.shelf.opened.connect(lambda: self.core.setFocus())
        self.core = CoreView("left")
        self.core.setMinimumWidth(LEAST_CORE)
        self.core.chosen.connect(self._on_chosen)
        self.core.setAcceptDrops(True)
        self.files = FilesPanel()
        self.packing = PackingStrip(model)
        self.packing.opened.connect(model.open_image)
        self.reader = ReaderStrip(model)
        self.filing = Filing(model, self.files, self.core, self.shelf)
        self.filing.changing.connect(self._forget)
        self.structure = StructurePanel()
        self.files_button = button("Files", lambda: self._turn(self.files))
        self.structure_button = button("Structure", lambda: self._turn(self.structure),
                                       tip="Map and volumes field by field: name, value, bytes")
        self.pages = QStackedWidget()
        self.pages.addWidget(self.files)
        self.pages.addWidget(self.structure)
        for part in (self.files_button, self.structure_button):
            part.setCheckable(True)
            part.setAutoExclusive(True)                   # one of both, and told as such
        for part in (self.files_button, self.structure_button, self.new_button, self.open_button):
            part.setProperty("compact", True)
        self._inspected: tuple[str, tuple[Structure, ...]] | None = None
        self.findings = FindingsPanel(model)
        self.findings.back_wanted.connect(self._undo_interrupted)
        self.findings.finish_wanted.connect(self._finish_interrupted)
        self.findings.put_back_wanted.connect(self._put_back_contents)
        self._lay_out()
        self._turn(self.files)
        self.sections = (self.shelf, self.move_button, self.core, self.files.tree, self.structure, self.findings)
        model.reading_moved.connect(lambda _key: self.core.show_unwrapped(model.unwrapped(model.selected)))
        model.selected_changed.connect(self._show_medium)
        model.seen_changed.connect(self._on_seen)
        model.jobs_changed.connect(self._enable)
        model.machine_changed.connect(self._show_core)
        model.crate_changed.connect(self._show_words)
        self._show_medium()

    def acts(self) -> tuple[tuple[str, Callable[[], object]], ...]:
        """What can be done now, in words, for whoever looks for it by typing."""
        name = self.model.selected.name if self.model.selected else ""
        of_card = (
            (self.move_button, f"Move {name} onto another card"), (self.keep_button, f"Keep {name} in the crate"),
            (self.save_button, f"Save {name} as a file"),
            (self.prepare_button, f"Prepare {name} anew"), (self.arrange_button, f"Change partitions of {name}"),
            (self.grow_button, f"Use the free room of {name}"), (self.check_button, f"Check structure of {name}"),
            (self.reader.ask_button, f"Ask to read {name}"), (self.reader.unmount_button, f"Unmount {name}"),
            (self.reader.eject_button, f"Eject {name}"))
        return (*((words, each.click) for each, words in of_card if each.isEnabled() and each.isVisibleTo(self)),
                ("Open an image", self.ask_for_image), ("Make a new image", self._ask_for_new))

    def _lay_out(self) -> None:
        self.head = Head(self.title, self.subtitle, self.grow_button, self.prepare_button, self.arrange_button,
                         self.check_button, self.save_button, self.keep_button, self.move_button)
        shelf = QVBoxLayout()
        shelf.addWidget(label("On the shelf", bold=True))
        shelf.addWidget(self.shelf, 1)
        shelf.addWidget(ButtonRows(self.open_button, self.new_button, spacing=6))
        left = QWidget()
        left.setLayout(shelf)
        left.setMinimumWidth(LEAST_SHELF)
        shelf.setContentsMargins(0, 0, 6, 0)
        right = QSplitter(Qt.Orientation.Vertical)
        upper = QVBoxLayout()
        upper.setContentsMargins(0, 0, 0, 0)
        upper.addWidget(self.packing)
        upper.addWidget(self.reader)
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
        whole.addWidget(self.head)
        whole.addWidget(parts, 1)

    def _show_medium(self) -> None:
        medium = self.model.selected
        layout = self.model.layout_of(medium)
        self._show_core()
        self._show_words()
        self.packing.show_medium(medium, layout)
        self.reader.show_medium(medium)
        self.findings.show_layout(layout, self.model.seen[medium.key].error
                                  if medium and medium.key in self.model.seen else "")
        tag = medium.tag if medium and medium.key not in self.model.busy else ""
        proof, job = self.model.proof_on(medium), self.model.interrupted_on(medium)
        self.findings.offer(tag if job and not proof else "", tag if proof else "")
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
        self.core.unwrapped = self.model.unwrapped(medium)
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
        self.reader.show_medium(medium)
        unread, fixed = why_not_read(self.model, medium), why_not_changed(self.model, medium)
        is_kept = medium is not None and medium.source == Source.BACKUP
        is_readable_in_part = self._is_unreadable(medium) and medium is not None and medium.key not in self.model.busy
        permit(self.keep_button, "It is kept." if is_kept else "" if is_readable_in_part else unread)
        for part in (self.move_button, self.save_button):
            permit(part, unread)
        permit(self.arrange_button, fixed or (CLOSED if layout is not None and layout.is_closed else ""))
        for part in (self.prepare_button, self.grow_button):
            permit(part, fixed)
        self.files.set_free(why_not=fixed)
        self.grow_button.setVisible(layout is not None and _has_room_to_use(layout))
        self.head.arrange()
        permit(self.check_button, unread or ("" if layout and layout.partitions else "There is nothing to check."))

    def _is_unreadable(self, medium: Medium | None) -> bool:
        """Whether it was looked at in vain; what can be read of it can still be kept."""
        return medium is not None and medium.key in self.model.seen and bool(self.model.seen[medium.key].error)

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

    def _forget(self) -> None:
        """What is shown of the files is about to change."""
        self._shown = None

    def _show_tree(self, wanted: tuple[str, int], root: Node) -> None:
        if wanted == self._shown:
            self.files.show_tree(root)

    def _keep(self) -> None:
        if self.model.selected:
            self.model.keep(self.model.selected)

    def _save(self) -> None:
        medium = self.model.selected
        wanted = ask_where(self, medium.name, medium.name) if medium is not None else None
        if medium is not None and wanted is not None:
            job = self.model.run(f"Save {medium.name}", saving(medium, None, wanted), {medium.key})
            if job:
                job.done.connect(lambda sentence: self.model.said.emit(str(sentence)))

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

    def _put_back_contents(self, tag: str) -> None:
        medium, bench = self.model.selected, self.model.bench
        if medium is not None:
            self._recover(f"Put back the contents of {medium.name}", medium,
                          lambda watch: put_back_on(medium, bench, watch, typed_tag=tag))

    def _recover(self, title: str, medium: Medium, work: Callable[[Watch], str]) -> None:
        job = self.model.run(title, work, {medium.key})
        if job:
            self.findings.offer("")
            self.findings.show_text(f"{title}…")
            job.done.connect(lambda sentence: self.model.said.emit(str(sentence)))



def _finished(result: running.Result) -> str:
    return " ".join(done.sentence for done in result.done[-2:])


def _has_room_to_use(layout: Layout) -> bool:
    last = layout.last()
    return (layout.can_be_arranged and layout.tail >= WORTH_OFFERING and last is not None
            and last.volume is not None and last.volume.largest > last.partition.length)


def _read_tree(medium: Medium, index: int) -> Node:
    with medium.open_to_look() as blocks:
        return nodes_of(open_partition(blocks, index).tree())


def _inspect(medium: Medium) -> tuple[Structure, ...]:
    with medium.open_to_look() as blocks:
        return inspect(blocks)
