"""Fill: folders of this computer sorted onto a card, shown before anything is written."""

from __future__ import annotations

from contextlib import suppress
from pathlib import Path

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtGui import QDragEnterEvent, QDropEvent
from PyQt6.QtWidgets import QComboBox, QFileDialog, QHBoxLayout, QScrollArea, QVBoxLayout, QWidget

from mosscrate.core.devices.filled import UNKNOWN, DeviceHome
from mosscrate.core.errors import PlanError
from mosscrate.core.fill.overlay import AS_IT_IS
from mosscrate.core.fill.own_plans import FOLDER as FOLDER_OF_PLANS
from mosscrate.core.fill.plans import FolderPlan
from mosscrate.core.fill.said import plan_of, remember_plan
from mosscrate.core.fill.tree_home import FolderHome, TreeHome
from mosscrate.core.sheet.planning.choosing import plans_at, wrong_plans
from mosscrate.core.sheet.planning.filling import ASK_SERVER, Filling, Regrouping, Sources, TreeFilling
from mosscrate.core.sheet.running import run as running
from mosscrate.core.sheet.sheet import JobSheet
from mosscrate.core.sizes import listed
from mosscrate.core.slots import Medium
from mosscrate.desk.bench_model import BenchModel
from mosscrate.desk.fill.drop_zone import DropZone
from mosscrate.desk.fill.errand import Errand, TreeErrand, Wish, names_that_change, what_happens, what_moves
from mosscrate.desk.fill.flow_view import FlowView
from mosscrate.desk.fill.picturing import Picturing
from mosscrate.desk.fill.plans_panel import PlansPanel
from mosscrate.desk.fill.room_view import RoomView
from mosscrate.desk.fill.source_menu import SourceMenu
from mosscrate.desk.fill.words_panel import WordsPanel
from mosscrate.desk.shared.device_line import DeviceLine
from mosscrate.desk.shared.head import Head
from mosscrate.desk.shared.panel import button, label, row
from mosscrate.desk.shared.tag_entry import TagEntry
from mosscrate.desk.shared.words import choice

COPY, MOVE = "Fill the card", "Move them"
FOLDER, A_FOLDER = "folder", "A folder of this computer…"
DEVICE, A_DEVICE = "device", "A device on the network…"
TREE = "tree"                            # the folder or device that was chosen
RENAMED = "under another name, each with the place where it goes"
OWN, OVER = "as this card has it", "laid over as it is"


class FillStation(QWidget):
    """Shows what goes where; writes it when the card's tag is typed."""

    elsewhere = pyqtSignal(str, object)           # see StationWidget

    def __init__(self, model: BenchModel, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.model = model
        self.folders: list[Path] = []
        self.source: Medium | None = None         # another card or a backup that is brought in
        self.answers: dict[str, str] = {}
        self.home: TreeHome | None = None         # a folder, here or of a device, that is filled instead of a card
        self.filling: Filling | TreeFilling | None = None       # of what is brought in
        self.regrouping: Regrouping | None = None          # of what is on the card, while nothing is
        self._is_pouring = False                  # into a folder
        self._begun_with = ""                     # key of the card for which everything is shown
        self.pictures_from = ""                   # address of a picture server that was asked
        self._asked = 0                           # number of the question that is being worked on
        self._plans: dict[str, FolderPlan] = {}
        self._asked_for: tuple[str, JobSheet | None] = ("-", None)    # a tag, and the sheet for which it is typed
        self._told_last = ""                      # what the last job did, until something else is looked at
        self._told = set[str]()                   # what is wrong with the person's own plans
        self.title = label("Fill", scale=1.5, bold=True, elides=True)
        self.subtitle = label(style="muted", scale=0.95, elides=True)
        self.cards, self.plans = QComboBox(), QComboBox()
        self.cards.setAccessibleName("Card to fill")
        self.plans.setAccessibleName("Folder plan")
        self.cards.setPlaceholderText("What is to be filled")
        self.cards.setMinimumWidth(170)
        self.plans.setMinimumWidth(190)
        self.bring_button = button("Bring in…", self._show_menu, style="primary", tip="Folders and archives of this "
                                   "computer, which can also be dropped here; another card, or a backup")
        self.plans_button = button("Plans…", self._show_plan_files, tip="The folders that each plan makes; copy one, "
                                   "learn one from the card, change your own")
        self.plan_files = PlansPanel(model)
        self.plan_files.changed.connect(self._show_plans)
        self.plan_files.closed.connect(self._plan_looked_at)
        self.empty = DropZone()
        self.empty.prepare.clicked.connect(lambda: self.elsewhere.emit("move.prepare", self._card()))
        self.flow, self.room, self.words = FlowView(), RoomView(), WordsPanel()
        self.entry = TagEntry(COPY)
        self.entry.confirmed.connect(lambda _word: self._run())
        self.line = DeviceLine(model)
        self.line.connected.connect(lambda device: self.fill_tree(DeviceHome(device)))
        self.line.hide()
        self.pour_button = button("Fill the folder", self._pour, style="primary")
        self.said = label(style="muted", scale=0.95, wraps=True)
        self.flow.chosen.connect(self._show_files)
        self.words.answered.connect(self._answer)
        self.words.taken_back.connect(self._take_back)
        self.cards.activated.connect(lambda _row: self._card_chosen())
        self.plans.activated.connect(lambda _row: self._work())
        self.setAcceptDrops(True)
        self.picturing = Picturing(self, model)
        self.picturing.done.connect(self._pictured)
        self._lay_out()
        self.setFocusProxy(self.bring_button)
        self.sections = (self.cards, self.area, self.words, self.entry.field)
        model.media_changed.connect(self._show_cards)
        model.selected_changed.connect(self._follow)
        model.seen_changed.connect(self._seen)
        model.jobs_changed.connect(self._enable)
        self._show_cards()
        self._show()

    def take(self, medium: Medium | None, errand: str) -> None:
        """See StationWidget: the card in hand is the one that is filled."""
        if medium is not None:
            self.home = None
            self.plan_files.hide()
            self.model.select(medium)
            self._follow()

    def fill_tree(self, home: TreeHome) -> None:
        """Fill a folder of this computer or of a device instead of a card."""
        self.let_go()
        self.home = home
        self.line.hide()
        self._show_cards()
        self.cards.setCurrentIndex(self.cards.findData(TREE))
        self.answers = {}
        self.filling = self.regrouping = None
        self._work()

    def let_go(self) -> None:
        """Hang up on a device that was filled; before the window goes too."""
        if isinstance(self.home, DeviceHome):
            self.home.device.close()
        self.home = None

    def bring(self, folders: list[Path]) -> None:
        """Bring in more."""
        self.plan_files.hide()
        self.folders += [folder for folder in folders if folder not in self.folders]
        self._work()

    def bring_card(self, source: Medium) -> None:
        """Bring in the files of another card or of a backup, instead of the one before."""
        self.plan_files.hide()
        self.source = source
        self._work()

    def dragEnterEvent(self, event: QDragEnterEvent | None) -> None:
        """Qt: folders and files of this computer."""
        data = event.mimeData() if event else None
        if event and data and any(url.isLocalFile() for url in data.urls()):
            event.acceptProposedAction()

    def dropEvent(self, event: QDropEvent | None) -> None:
        """Qt."""
        data = event.mimeData() if event else None
        if event and data:
            event.acceptProposedAction()
            self.bring([Path(url.toLocalFile()) for url in data.urls() if url.isLocalFile()])

    def _lay_out(self) -> None:
        top = Head(self.title, self.subtitle, self.cards, self.plans, self.plans_button, self.bring_button)
        self.area = QScrollArea()
        self.area.setWidgetResizable(True)
        self.area.setAccessibleName("What goes where")
        self.area.setWidget(self.flow)
        self.area.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        if viewport := self.area.viewport():
            viewport.setAutoFillBackground(False)
        self.flow.setAutoFillBackground(False)
        self.body = QWidget()
        body = QHBoxLayout(self.body)
        body.setContentsMargins(0, 0, 0, 0)
        body.setSpacing(20)
        body.addWidget(self.area, 1)
        body.addWidget(self.room)
        foot = row(self.said, self.entry, self.pour_button)
        foot.setStretch(0, 1)
        whole = QVBoxLayout(self)
        whole.setContentsMargins(20, 16, 20, 12)
        whole.setSpacing(12)
        whole.addWidget(top)
        whole.addWidget(self.line)
        whole.addWidget(self.plan_files, 16)
        whole.addWidget(self.empty, 8)
        whole.addWidget(self.body, 5)
        whole.addWidget(self.words, 3)
        whole.addLayout(foot)

    def _show_cards(self) -> None:
        current = self.cards.currentData()
        self.cards.clear()
        for medium in self.model.media:
            self.cards.addItem(choice(medium.name), medium.key)
        if self.home is not None:
            self.cards.addItem(choice(self.home.name.rpartition("/")[2] or self.home.name), TREE)
        self.cards.addItem(A_FOLDER, FOLDER)
        self.cards.addItem(A_DEVICE, DEVICE)
        selected = self.model.selected.key if self.model.selected else None
        wanted = current if current == DEVICE or (current == TREE and self.home is not None) else selected
        row_ = self.cards.findData(wanted) if wanted is not None else -1
        self.cards.setCurrentIndex(row_ if row_ >= 0 else 0 if self.model.media else -1)
        self._show_plans()
        if self.filling is None and self.regrouping is None:
            self._show()
        self._enable()

    def _show_plans(self) -> None:
        current = self.plans.currentData()
        own = self.model.bench.state / FOLDER_OF_PLANS
        self._plans = plans_at(own)
        for wrong in wrong_plans(own):
            if wrong not in self._told:
                self._told.add(wrong)
                self.model.failed.emit(wrong)
        self.plans.clear()
        self.plans.addItem(OWN, "")
        self.plans.addItem(OVER, AS_IT_IS.id)
        for plan in self._plans.values():
            self.plans.addItem(plan.name, plan.id)
        self.plans.setCurrentIndex(max(0, self.plans.findData(current)))

    def _show_plan_files(self) -> None:
        self.plan_files.open_with(self._card(), str(self.plans.currentData()))
        self._show()

    def _plan_looked_at(self, plan: str) -> None:
        """It is what is filled by now; "" leaves what was chosen."""
        if plan and plan != self.plans.currentData() and self.plans.findData(plan) >= 0:
            self.plans.setCurrentIndex(self.plans.findData(plan))
            self._work()
        self._show()

    def _seen(self, key: str) -> None:
        """What is on a card is known now."""
        if key == self.cards.currentData() and self.filling is None and self.regrouping is None:
            self._show()

    def _card(self) -> Medium | None:
        return next((m for m in self.model.media if m.key == self.cards.currentData()), None)

    def _follow(self) -> None:
        """The card in hand is the one that is filled, where no folder or device is."""
        chosen, card = self.cards.currentData(), self.model.selected
        is_elsewhere = self._fills_tree or chosen == DEVICE
        if is_elsewhere or card is None or card.key == self._begun_with or self.cards.findData(card.key) < 0:
            return
        self.cards.setCurrentIndex(self.cards.findData(card.key))
        self._begin_with_card()

    def _card_chosen(self) -> None:
        chosen = self.cards.currentData()
        self.line.setVisible(chosen == DEVICE)
        if (card := self._card()) is not None:
            self.model.select(card)                       # on every station
        if chosen == FOLDER and (folder := QFileDialog.getExistingDirectory(self, "A folder to fill")):
            self.fill_tree(FolderHome(Path(folder)))
            return
        if chosen == DEVICE:
            self.line.begin("")
        self._begin_with_card()

    def _begin_with_card(self) -> None:
        self._begun_with = str(self.cards.currentData())
        self._take_its_plan()
        self.answers = {}
        self.filling = self.regrouping = None             # they were of another card
        self._work()

    def _take_its_plan(self) -> None:
        """The plan by which this card was filled the last time."""
        card = self._card()
        known = plan_of(self.model.bench.state, card.key) if card is not None else ""
        if known and self.plans.findData(known) >= 0:
            self.plans.setCurrentIndex(self.plans.findData(known))

    def _show_menu(self) -> None:
        menu = SourceMenu(self, self.model, self._card())
        menu.folders.connect(self.bring)
        menu.card.connect(self.bring_card)
        menu.lists_changed.connect(self._work)
        menu.exec(self.bring_button.mapToGlobal(self.bring_button.rect().bottomLeft()))

    def _answer(self, key: str, word: str) -> None:
        if word == ASK_SERVER and self.filling is not None:
            self.picturing.ask(self.filling)
            return
        self.answers[key] = word
        self._work()

    def _pictured(self, server: str, said: str) -> None:
        """Pictures were scaled or fetched: they take part now."""
        self.pictures_from = server or self.pictures_from
        self.model.said.emit(said)
        if self.filling is not None:
            self._work()

    def _take_back(self) -> None:
        self.answers = {}
        self._work()

    def _work(self) -> None:
        """Sort everything anew, beside the window."""
        self._asked += 1
        self._told_last = ""
        number, errand = self._asked, self._errand()
        sources = Sources(tuple(self.folders), self.source)
        if errand is None:
            self.filling = self.regrouping = None
            self._show()
            return
        self.said.setText(f"Looking through {listed(sources.names)}…" if sources.names else "Looking at the card…")

        def take(found: Filling | TreeFilling | Regrouping) -> None:
            if number == self._asked:
                self.filling = found if isinstance(found, Filling | TreeFilling) else None
                self.regrouping = found if isinstance(found, Regrouping) else None
                self._show()
                self.picturing.scale(self.filling, self.source)

        def fail(error: Exception) -> None:
            if number == self._asked:
                self.filling = self.regrouping = None
                self._told_last = str(error)                  # until something else is looked at
                self._show()

        self.model.asker.ask(errand.sorted, take, fail)

    def _errand(self) -> Errand | TreeErrand | None:
        """What is to be found out; None where nothing is."""
        card, wanted = self._card(), str(self.plans.currentData())
        sources = Sources(tuple(self.folders), self.source, self.pictures_from)
        wish = Wish(sources, wanted, dict(self.answers), self._plans, self.model.bench)
        if self.home is not None and self._fills_tree:
            return TreeErrand(self.home, wish) if sources.names and wanted != AS_IT_IS.id else None
        if card is None or (not sources.names and wanted in ("", AS_IT_IS.id)):
            return None
        return Errand(card, wish)

    @property
    def _fills_tree(self) -> bool:
        return self.home is not None and bool(self.cards.currentData() == TREE)

    def _show(self) -> None:
        card, found = self._card(), self.filling or self.regrouping
        named = card.name if card else self.home.name if self.home is not None and self._fills_tree else ""
        self.title.setText(f"Fill {named}".rstrip())
        is_free = not self.plan_files.isVisibleTo(self)
        is_there = bool(named) and found is not None and is_free
        self.empty.setVisible(not is_there and is_free)
        layout = self.model.layout_of(card) if card else None
        self.empty.show_whether(is_open=layout is None or any(
            look.volume and look.volume.facts and look.volume.facts.is_written for look in layout.partitions))
        self.body.setVisible(is_there)
        self.room.setVisible(is_there and self.filling is not None and self.filling.sorted.free < UNKNOWN)
        is_telling = self.regrouping is not None and bool(self.regrouping.questions or self.regrouping.found.moves)
        self.words.setVisible(is_there and (self.filling is not None or is_telling))
        self.subtitle.setText("")
        self.said.setText("" if found is not None else self._told_last)
        if self.filling is not None:
            self._show_filling(card, self.filling)
        elif self.regrouping is not None:
            self._show_regrouping(self.regrouping)
        self._enable()

    def _show_filling(self, card: Medium | None, found: Filling | TreeFilling) -> None:
        layout, index = self.model.layout_of(card) if card else None, getattr(found, "partition", 0)
        look = next((p for p in layout.partitions if p.index == index), None) if layout else None
        where = look.name if look else f"partition {index}" if self.home is None or card is not None else \
            self.home.name
        names = ", ".join(Sources(self.folders, self.source).names)
        self.subtitle.setText(f"{where}, {found.plan.name}; brought in: {names}")
        self.flow.show_flows(found.sorted.flows())
        self.room.show_room(look.volume.size if look and look.volume else found.sorted.free, found.sorted)
        self.words.show_files("", ())
        self.words.show_questions(found.questions, self.answers)
        self.words.show_moves(names_that_change(found), RENAMED)
        self.said.setText(what_happens(found))

    def _show_regrouping(self, found: Regrouping) -> None:
        """The card's own files under another plan."""
        self.words.show_files("", ())
        self.words.show_questions(found.questions, self.answers)
        self.words.show_moves(found.found.moves)
        self.flow.show_flows(found.flows, ("Where it lies", "Where it goes"))
        self.subtitle.setText("What is on the card already, under another plan; nothing is copied")
        self.said.setText(what_moves(found))

    @property
    def _sheet(self) -> JobSheet | None:
        found = self.filling or self.regrouping
        return found.sheet if found is not None and not isinstance(found, TreeFilling) else None

    def _show_files(self, name: str) -> None:
        if self.filling is None:
            return
        chosen = [each for each in self.filling.sorted.placed
                  if name in (each.file.group, each.to.rpartition("/")[0]) or (name == "left out" and not each.to)]
        self.words.show_files(name, chosen)

    def _enable(self) -> None:
        card = self._card()
        is_free = card is not None and card.key not in self.model.busy
        can_run = is_free and self._sheet is not None
        is_at_work = self._is_pouring or (card is not None and not is_free)
        for part in (self.words, self.plans):
            part.setEnabled(not is_at_work)                   # what is being done was decided
        self.bring_button.setEnabled((card is not None or self._fills_tree) and not is_at_work)
        self.pour_button.setVisible(isinstance(self.filling, TreeFilling) and self.filling.is_something
                                    and self.filling.sorted.fits and not self._is_pouring)
        self.entry.setVisible(can_run)
        has_moves = self.regrouping is not None and bool(self.regrouping.found.moves)
        self.entry.buttons[0].setText(MOVE if has_moves else COPY)
        wanted = (card.tag if card and can_run else "", self._sheet)
        if wanted[0] != self._asked_for[0] or wanted[1] is not self._asked_for[1]:      # else what is typed stays
            self._asked_for = wanted
            self.entry.ask(wanted[0], is_possible=can_run)

    def _run(self) -> None:
        card, sheet, bench, tag = self._card(), self._sheet, self.model.bench, self.entry.typed()
        if card is None or sheet is None:
            return
        job = self.model.run(f"Fill {card.name}", lambda watch: running.run(sheet, bench, watch, typed_tag=tag),
                             {card.key})
        if job:
            plan = str(self.plans.currentData())
            job.done.connect(lambda result: self._done(card, plan if plan != AS_IT_IS.id else "", result))
            job.failed.connect(lambda error: self.said.setText(str(error)))

    def _pour(self) -> None:
        errand, shown = self._errand(), self.filling
        if not isinstance(errand, TreeErrand) or not isinstance(shown, TreeFilling):
            return
        job = self.model.run(f"Fill {errand.home.name}", lambda watch: errand.poured(shown, watch), set())
        if job:
            self._is_pouring = True
            self._enable()
            job.done.connect(self._poured)
            job.failed.connect(lambda error: self._poured(str(error)))

    def _poured(self, told: str) -> None:
        self._is_pouring = False
        self._forget(told)

    def _done(self, card: Medium, plan: str, result: running.Result) -> None:
        with suppress(PlanError):
            remember_plan(self.model.bench.state, card.key, plan)
        if self._begun_with == card.key:                  # else what was brought in may be meant for the next one
            self._forget(result.done[-1].sentence)
        self.model.said.emit(f"{card.name}: {result.done[-1].sentence}")

    def _forget(self, told: str) -> None:
        """What was brought in is there."""
        self.folders, self.source, self.answers, self.filling, self.regrouping = [], None, {}, None, None
        self._told_last = told
        self._show()
