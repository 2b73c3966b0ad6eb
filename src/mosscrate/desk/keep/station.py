"""Keep: the crate along time, and the chosen backup with what can be done with it."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from PyQt6.QtCore import QTimer, pyqtSignal
from PyQt6.QtWidgets import QComboBox, QFileDialog, QLineEdit, QScrollArea, QVBoxLayout, QWidget

from mosscrate.core.blocks import Extent
from mosscrate.core.contents.extract import take_out
from mosscrate.core.contents.survey import open_partition
from mosscrate.core.crate import Backup
from mosscrate.core.crate.compare import PartitionChange, compare, places
from mosscrate.core.crate.library import KeptFile, Version, find, life_of
from mosscrate.core.crate.mending import mend
from mosscrate.core.crate.notes import Note, notes_in, put_note
from mosscrate.core.devices import KnownDevices
from mosscrate.core.errors import MediumError
from mosscrate.core.findings import Finding, Severity
from mosscrate.core.sheet.planning.bringing_back import bringing_back
from mosscrate.core.sheet.running.forgetting import forget_on, what_is_only_in
from mosscrate.core.sheet.running.run import run
from mosscrate.core.slots import Medium
from mosscrate.core.watch import Watch
from mosscrate.desk.bench_model import BenchModel
from mosscrate.desk.keep.backup_panel import FORGET, FORGET_IT, BackupPanel
from mosscrate.desk.keep.bringing import BringingBack
from mosscrate.desk.keep.compared import Compared
from mosscrate.desk.keep.find_panel import FindPanel
from mosscrate.desk.keep.lanes_view import LanesView
from mosscrate.desk.keep.parting import Parting
from mosscrate.desk.keep.thinning_row import ThinningRow
from mosscrate.desk.keep.timeline import summary
from mosscrate.desk.shared.head import Head
from mosscrate.desk.shared.panel import FindingRow, Rows, button, clear, label
from mosscrate.desk.shared.saving import ask_where, saving
from mosscrate.desk.shared.words import choice

DEVICE = "device "                       # before the address of one, among the cards
PAUSE_MS = 250                           # after the last key before it is looked for


class KeepStation(QWidget):
    """Shows the lanes, keeps a card, checks a backup, starts putting back."""

    elsewhere = pyqtSignal(str, object)           # see StationWidget

    def __init__(self, model: BenchModel, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.model = model
        self.title = label("The crate", scale=1.5, bold=True)
        self.subtitle = label(style="muted", scale=0.95, elides=True)
        self.cards = QComboBox()
        self.cards.setAccessibleName("Card to keep")
        self.cards.setMinimumWidth(190)
        self.cards.activated.connect(self._choose_card)
        self.keep_button = button("Keep this card", self._keep, style="primary")
        self.part_button = button("A part…", self._keep_part, tip="Keep only saves, settings, or some folders of it")
        self.parting = Parting(model)
        self.parting.closed.connect(self._show_cards)
        self.parting.closed.connect(self._show_crate)
        self.field = QLineEdit()
        self.field.setPlaceholderText("Find a file in any backup…")
        self.field.setAccessibleName("Find a file in any backup")
        self.field.setClearButtonEnabled(True)
        self.field.setMinimumWidth(220)
        self.field.textChanged.connect(lambda _text: self._typing.start(PAUSE_MS))
        self._typing = QTimer(self)
        self._typing.setSingleShot(True)
        self._typing.timeout.connect(self._find)
        self.find_panel = FindPanel()
        self.find_panel.chosen.connect(self._show_found)
        self.find_panel.out_wanted.connect(self._take_out)
        self.find_panel.back_wanted.connect(self._bring_back)
        self.find_panel.hide()
        self.lanes = LanesView()
        self.lanes.chosen.connect(self._choose_backup)
        self.detail = BackupPanel()
        self.detail.check.clicked.connect(self._check)
        self.detail.mend.clicked.connect(self._mend)
        self.detail.put_back.clicked.connect(self._put_back)
        self.detail.forget.clicked.connect(self._forget)
        self.detail.save.clicked.connect(self._save)
        self.detail.look.clicked.connect(self._look)
        self.detail.named.connect(self._name)
        self.detail.noted.connect(self._note)
        self.detail.compared.connect(self._compare)
        self.thinning = ThinningRow(model)
        self.bringing = BringingBack(model)
        self.detail.column.addWidget(self.bringing)
        self._asked: Backup | None = None
        self._number = 0                          # of what is shown of a backup
        self._followed: tuple[str, str] = ("", "")    # the card in hand and its newest backup, as last shown
        self._against: Backup | None = None       # with which the chosen one is compared, instead of the one before
        self._lay_out()
        self.setFocusProxy(self.cards)
        self.sections = (self.cards, self.lanes, self.detail.check)
        model.crate_changed.connect(self._show_crate)
        model.media_changed.connect(self._show_cards)
        model.selected_changed.connect(self._follow)
        model.jobs_changed.connect(self._show_cards)
        model.seen_changed.connect(self._show_core)
        model.unkept_changed.connect(self._show_since)
        self._show_crate()
        self._show_cards()

    def take(self, medium: Medium | None, errand: str) -> None:
        """See StationWidget: what is kept shows all cards at once."""

    def _lay_out(self) -> None:
        top = Head(self.title, self.subtitle, self.field, self.cards, self.part_button, self.keep_button)
        self.empty = label("Nothing is kept yet. Choose a card on the right and keep it: only what is in use "
                           "takes room, and every backup is read back before it counts.", style="muted", wraps=True)
        area = QScrollArea()
        area.setWidgetResizable(True)
        area.setAccessibleName("Backups along time")
        area.setWidget(self.lanes)
        if viewport := area.viewport():
            viewport.setAutoFillBackground(False)
        self.lanes.setAutoFillBackground(False)
        self.area = area
        self.troubles = Rows("Troubles of the crate", spacing=0)
        self.troubles.setMaximumHeight(84)
        whole = QVBoxLayout(self)
        whole.setContentsMargins(20, 16, 20, 12)
        whole.setSpacing(12)
        whole.addWidget(top)
        whole.addWidget(self.troubles)
        whole.addWidget(self.thinning)
        whole.addWidget(self.empty)
        whole.addWidget(area, 5)
        whole.addWidget(self.find_panel, 5)
        whole.addWidget(self.detail, 4)
        whole.addWidget(self.parting, 4)

    def _show_crate(self) -> None:
        lanes = self.model.lanes
        clear(self.troubles.column)
        for trouble in self.model.troubles:
            self.troubles.column.addWidget(FindingRow(Finding(Severity.PROBLEM, trouble.sentence)))
        self.troubles.column.addStretch(1)
        self.troubles.setVisible(bool(self.model.troubles))
        self.subtitle.setText(summary(lanes, self.model.crate_room))
        self.empty.setVisible(not lanes)
        self.area.setVisible(bool(lanes) and not self._is_finding())
        self.detail.setVisible(bool(lanes) and self.parting.isHidden())
        self.lanes.show_lanes(lanes, self.model.bench.crate.now())
        self._follow()
        self.thinning.show_lanes(lanes)
        chosen = self.lanes.selected
        if chosen and chosen != self._asked:
            self._show_backup(chosen)

    def _follow(self) -> None:
        """The card in hand is the one that is kept; its newest backup is shown once there is a newer one."""
        self._show_cards()
        newest = self.model.last_kept(self.model.selected) if self.model.selected else None
        if newest is not None and (newest.record.card.key, newest.id) != self._followed:
            self._followed = newest.record.card.key, newest.id
            self.lanes.selected = newest
            self.lanes.update()
            self._show_backup(newest)

    def _choose_backup(self, backup: Backup) -> None:
        """Its card is in hand then, where it is there."""
        card = self._card_of(backup)
        newest = self.model.last_kept(card) if card is not None else None
        if newest is not None:
            self._followed = newest.record.card.key, newest.id
            self.model.select(card)
        self._show_backup(backup)

    def _show_since(self, _key: str) -> None:
        self.lanes.since = {key: unkept.short for key, unkept in self.model.unkept.items()}
        self.lanes.update()

    def _show_cards(self) -> None:
        current = self.cards.currentData()
        if str(current or "").startswith(DEVICE) and self.parting.isHidden():
            current = None                                    # a device is only chosen while it is asked
        self.cards.clear()
        for medium in self.model.media:
            self.cards.addItem(choice(medium.name), medium.key)
        for address in self._devices():
            self.cards.addItem(choice(address), f"{DEVICE}{address}")
        self.cards.addItem("A device on the network…", DEVICE)
        is_of_device = str(current or "").startswith(DEVICE)
        wanted = current if is_of_device or self.model.selected is None else self.model.selected.key
        self.cards.setCurrentIndex(max(0, self.cards.findData(wanted)))
        self._enable()

    def _enable(self) -> None:
        medium = self._card_to_keep()
        self.keep_button.setEnabled(medium is not None)
        self.part_button.setEnabled(medium is not None or str(self.cards.currentData() or "").startswith(DEVICE))

    def _devices(self) -> list[str]:
        try:
            return KnownDevices.of(self.model.bench.state).addresses()
        except MediumError:
            return []                                         # it is said where one is chosen

    def _card_to_keep(self) -> Medium | None:
        return next((m for m in self.model.media if m.key == self.cards.currentData()), None)

    def _choose_card(self, _row: int) -> None:
        """A card waits for a button; a device is asked at once."""
        self._enable()
        if (card := self._card_to_keep()) is not None:
            self.model.select(card)                           # on every station
        if str(self.cards.currentData() or "").startswith(DEVICE):
            self._keep_part()

    def _keep(self) -> None:
        if medium := self._card_to_keep():
            self.model.keep(medium)

    def _keep_part(self) -> None:
        medium, chosen = self._card_to_keep(), str(self.cards.currentData() or "")
        if medium is not None:
            self.parting.open_for(medium)
        elif chosen.startswith(DEVICE):
            self.parting.open_for_device(chosen.removeprefix(DEVICE))
        self.detail.hide()

    def _is_finding(self) -> bool:
        return bool(self.field.text().strip())

    def _find(self) -> None:
        """Look for what was typed, beside the window."""
        text, crate = self.field.text().strip(), self.model.bench.crate
        self.find_panel.setVisible(bool(text))
        self.area.setVisible(not text and bool(self.model.lanes))
        if not text:
            return
        self.find_panel.show_nothing(f"Looking for “{text}”…")

        def take(found: list[KeptFile]) -> None:
            if text == self.field.text().strip():
                if found:
                    self.find_panel.show_files(found)
                else:
                    self.find_panel.show_nothing(f"No file called “{text}” is in any backup.")

        self.model.asker.ask(lambda: find(crate, text), take, lambda error: self.find_panel.show_nothing(str(error)))

    def _show_found(self, file: KeptFile) -> None:
        """Its backup below, and what became of it beside it."""
        crate = self.model.bench.crate
        self.lanes.selected = file.backup
        self._show_backup(file.backup)

        def take(versions: list[Version]) -> None:
            self.find_panel.show_versions(file, versions, self._card_of(file.backup))

        self.model.asker.ask(lambda: life_of(crate, file.name, file.kind), take,
                             lambda error: self.detail.say(Finding(Severity.PROBLEM, str(error))))

    def _take_out(self, file: KeptFile) -> None:
        folder = QFileDialog.getExistingDirectory(self, f"Where {file.name} goes")
        if folder and (medium := self.model.backup_at_hand(file.backup)):
            job = self.model.run(f"Copy {file.name} to this computer", lambda watch: _taken_out(
                medium, file.partition, file.path, Path(folder), watch), {medium.key})
            if job:
                job.done.connect(lambda sentence: self.detail.say(Finding(Severity.GOOD, str(sentence))))
                job.failed.connect(lambda error: self.detail.say(Finding(Severity.PROBLEM, str(error))))

    def _bring_back(self, file: KeptFile, tag: str) -> None:
        card, bench = self.find_panel.card, self.model.bench
        if card is None:
            return
        job = self.model.run(f"Bring {file.name} back onto {card.name}", lambda watch: run(
            bringing_back(file, card, bench), bench, watch, typed_tag=tag), {card.key})
        if job:
            told = f"{file.path} of {file.backup.kept_at:%d %B %Y} is on {card.name} again."
            job.done.connect(lambda _result: self.model.said.emit(told))
            job.done.connect(lambda _result: self.find_panel.words.setText(told))
            job.failed.connect(lambda error: self.find_panel.words.setText(str(error)))

    def _compare(self, other: Backup) -> None:
        """The chosen backup with any other one of its lane."""
        if self.lanes.selected is not None:
            self._show(self.lanes.selected, other)

    def _show_backup(self, backup: Backup) -> None:
        self._show(backup, None)

    def _show(self, backup: Backup, against: Backup | None) -> None:
        self._against = against
        compared = Compared(self.model.lanes, against)
        before = compared.with_(backup)
        self.bringing.hide()
        self.detail.show_backup(backup, before, compared.others(backup))
        self._asked = backup
        self._number += 1
        number = self._number
        self._show_core()
        if before is not None:
            self.model.asker.ask(lambda: (compare(before, backup), places(before, backup)),
                                 lambda found: self._show_changes(number, *found),
                                 lambda error: self.detail.say(Finding(Severity.PROBLEM, str(error))))

    def _show_core(self, key: str | None = None) -> None:
        """The chosen backup as a core; with a key, only when that medium is the one shown."""
        backup = self.lanes.selected
        if backup is None or not backup.path.exists():
            self.detail.core.show_layout(None, "a backup whose image is gone")
            return
        shown = [(self.detail.core, backup)]
        if before := Compared(self.model.lanes, self._against).with_(backup):
            shown.append((self.detail.core_before, before))
        for core, state in shown:
            try:
                medium = self.model.backup_medium(state)
            except MediumError:                     # it may be forgotten while this is drawn
                core.show_layout(None, "a backup whose image is gone")
                continue
            if key in (None, medium.key):
                core.show_layout(self.model.layout_of(medium), f"{state.record.card.name}, {state.kept_at:%d %B %Y}")

    def _show_changes(self, number: int, found: list[PartitionChange], changed: list[Extent]) -> None:
        if self._number == number:                            # else it was shown anew meanwhile
            self.detail.show_changes(found, changed)

    def _check(self) -> None:
        backup, crate = self.lanes.selected, self.model.bench.crate
        if backup is None:
            return

        def work(watch: Watch) -> Backup:
            crate.check(backup, watch)
            return backup

        job = self.model.run(f"Check {backup.path.name}", work, {str(backup.path)})
        if job:
            job.done.connect(lambda _: self.detail.say(
                Finding(Severity.GOOD, "Read again just now: it is exactly what was kept.")))
            job.failed.connect(lambda error: self._tell_damage(backup, str(error)))

    def _tell_damage(self, backup: Backup, sentence: str) -> None:
        """What a check has found; the card may hold what is missing."""
        card = self._card_of(backup)
        self.detail.mend.setVisible(card is not None and backup.is_in_chunks)
        self.detail.say(Finding(Severity.PROBLEM, sentence, remedy="“Mend from the card” fetches what it still holds."
                                if card and backup.is_in_chunks else ""))

    def _mend(self) -> None:
        backup = self.lanes.selected
        card = self._card_of(backup) if backup is not None else None
        if backup is None or card is None:
            return

        def work(watch: Watch) -> str:
            with card.open() as blocks:
                return mend(backup.path, blocks, watch).sentence(card.name)

        job = self.model.run(f"Mend the backup of {card.name}", work, {card.key, str(backup.path)})
        if job:
            job.done.connect(lambda sentence: self.detail.say(Finding(Severity.NOTE, str(sentence))))
            job.failed.connect(lambda error: self.detail.say(Finding(Severity.PROBLEM, str(error))))

    def _forget(self) -> None:
        """First what would be lost, then, on the same button, it is done."""
        backup, bench = self.lanes.selected, self.model.bench
        if backup is None:
            return
        if self.detail.forget.text() == FORGET:
            self.model.asker.ask(lambda: what_is_only_in(backup, bench), self._ask_to_forget,
                                 lambda error: self._ask_to_forget(f"It cannot be told what is only in it: {error}"))
            return
        job = self.model.run(f"Forget a backup of {backup.record.card.name}",
                             lambda watch: forget_on(backup, bench, watch), {str(backup.path)})
        if job:
            job.done.connect(self.model.said.emit)
            job.failed.connect(lambda error: self.detail.say(Finding(Severity.PROBLEM, str(error))))

    def _ask_to_forget(self, sentence: str) -> None:
        self.detail.forget.setText(FORGET_IT)
        self.detail.say(Finding(Severity.WARNING, sentence, remedy=f"“{FORGET_IT}” does it; nothing else is touched."))

    def _name(self, name: str) -> None:
        if backup := self.lanes.selected:
            card, root = backup.record.card, self.model.bench.crate.root
            about = notes_in(root).get(card.key, Note(card.key, ""))
            self._put(lambda: put_note(root, card.key, name=name, text=about.text))

    def _note(self, text: str) -> None:
        if backup := self.lanes.selected:
            root, id_ = self.model.bench.crate.root, backup.id
            self._put(lambda: put_note(root, id_, text=text))

    def _put(self, note: Callable[[], Note]) -> None:
        self.model.asker.ask(note, lambda _note: self.model.refresh_crate(),
                             lambda error: self.detail.say(Finding(Severity.PROBLEM, str(error))))

    def _card_of(self, backup: Backup) -> Medium | None:
        """The card of a backup, if it is at hand."""
        return next((m for m in self.model.media if m.key == backup.record.card.key), None)

    def _put_back(self) -> None:
        """A whole card is planned on Move; of a part its files come back."""
        if self.lanes.selected and self.lanes.selected.chosen:
            self.bringing.offer(self.lanes.selected)
        elif self.lanes.selected and (medium := self.model.backup_at_hand(self.lanes.selected)):
            self.elsewhere.emit("move", medium)

    def _save(self) -> None:
        backup = self.lanes.selected
        if backup is None:
            return
        name = backup.record.card.name
        wanted = ask_where(self, f"the backup of {name}", f"{name} {backup.kept_at:%Y-%m-%d}")
        if wanted is None:
            return
        medium = self.model.backup_at_hand(backup)
        if medium is None:
            return
        job = self.model.run(f"Save the backup of {name}", saving(medium, None, wanted), {str(backup.path)})
        if job:
            job.done.connect(lambda sentence: self.detail.say(Finding(Severity.GOOD, str(sentence))))
            job.failed.connect(lambda error: self.detail.say(Finding(Severity.PROBLEM, str(error))))

    def _look(self) -> None:
        if self.lanes.selected and (medium := self.model.backup_at_hand(self.lanes.selected)):
            self.elsewhere.emit("look", medium)


def _taken_out(medium: Medium, partition: int, path: str, folder: Path, watch: Watch) -> str:
    with medium.open() as blocks:
        outcome = take_out(open_partition(blocks, partition), path, folder, watch)
    if outcome.shortfall:
        raise MediumError(outcome.shortfall)
    return f"{path} is in {folder} now."
