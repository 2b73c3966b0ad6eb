"""Folder plans: the folders that each makes, and a person's own copied, learnt from a card, changed and checked."""

from __future__ import annotations

from collections.abc import Callable

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtGui import QFontDatabase
from PyQt6.QtWidgets import (
    QAbstractItemView,
    QHBoxLayout,
    QHeaderView,
    QListWidget,
    QPlainTextEdit,
    QStackedWidget,
    QTableView,
    QVBoxLayout,
)

from mosscrate.core.errors import MossError, PlanError
from mosscrate.core.fill.own_plans import (
    FOLDER,
    Makes,
    PlanFile,
    add_learnt,
    change_plan,
    copy_plan,
    made_by,
    plan_files,
    remove_plan,
)
from mosscrate.core.fill.plans import FolderPlan, parse_plan
from mosscrate.core.fill.said import said_of
from mosscrate.core.sheet.planning.choosing import home_of, learn_from
from mosscrate.core.sizes import counted
from mosscrate.core.slots import Medium
from mosscrate.desk.bench_model import BenchModel
from mosscrate.desk.shared.panel import Panel, button, label, restyle, row
from mosscrate.desk.shared.rows_model import Column, RowsModel
from mosscrate.desk.shared.words import item_of

_COLUMNS = (Column[Makes]("Folder", lambda m: m.folder or "–"),
            Column[Makes]("System", lambda m: m.code, lambda _m: "muted"),
            Column[Makes]("Opens", lambda m: " ".join(m.opens)),
            Column[Makes]("Save of GAME", lambda m: m.saves or "–"),
            Column[Makes]("Picture of GAME", lambda m: m.pictures or "–"))
LIST = 210                               # points of the list's width
CAN, FOLDERS, TEXT = "It can be used.", "The folders it makes", "As it is written"


class PlansPanel(Panel):
    """Takes the place of what is filled, until it is closed."""

    closed = pyqtSignal(str)             # id of the plan by which is filled; "" for the one before
    changed = pyqtSignal()               # there are others now

    def __init__(self, model: BenchModel) -> None:
        super().__init__()
        self.model, self.folder = model, model.bench.state / FOLDER
        self._card: Medium | None = None
        self._files: list[PlanFile] = []
        self.list = QListWidget()
        self.list.setAccessibleName("Folder plans")
        self.list.setFixedWidth(LIST)
        self.list.setWordWrap(True)
        self.list.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.list.currentRowChanged.connect(lambda _row: self._show())
        self.name, self.about = label(bold=True, scale=1.1, elides=True), label(style="muted", wraps=True)
        self.where, self.check = label(style="muted", scale=0.9, elides=True), label(style="good", wraps=True)
        self.rows = RowsModel[Makes](_COLUMNS, self)
        self.table = _table(self.rows)
        self.text = QPlainTextEdit()
        self.text.setAccessibleName("The plan as it is written")
        self.text.setFont(QFontDatabase.systemFont(QFontDatabase.SystemFont.FixedFont))
        self.text.textChanged.connect(self._check)
        self.pages = QStackedWidget()
        self.pages.addWidget(self.table)
        self.pages.addWidget(self.text)
        self.turn = button(TEXT, self._turn, tip="The plan's file, to be read or changed")
        self.copy = button("Copy…", self._copy, tip="A plan of your own with the same folders, to be changed")
        self.learn = button("Learn from this card…", self._learn)
        self.save = button("Save", self._save, tip="Write the changed plan; it is checked first")
        self.remove = button("Remove", self._remove, tip="Cards that were filled by it stay as they are")
        self.use = button("Fill by it", self._use, style="primary", tip="The card in hand is filled by this plan")
        self.close_button = button("Back to filling", self._close)
        self._lay_out()
        self.hide()

    def open_with(self, card: Medium | None, chosen: str) -> None:
        """Show the plans; `card` is the one that can teach one, `chosen` the id of the plan to begin with."""
        self._card = card
        self.learn.setToolTip(f"A plan of your own of the folders that {card.name} has now" if card else
                              "Choose a card first")
        self.learn.setEnabled(card is not None)
        self.pages.setCurrentWidget(self.table)
        self._read(chosen)
        self.show()
        self.list.setFocus()

    def _lay_out(self) -> None:
        side = QVBoxLayout()
        side.addWidget(self.list, 1)
        side.addWidget(self.learn)
        main = QVBoxLayout()
        top = row(self.name, self.use, self.close_button)
        top.setStretch(0, 1)
        main.addLayout(top)
        main.addWidget(self.about)
        own = row(self.where, self.turn, self.copy, self.remove, self.save)
        own.setStretch(0, 1)
        main.addLayout(own)
        main.addWidget(self.pages, 1)
        main.addWidget(self.check)
        whole = QHBoxLayout()
        whole.setSpacing(16)
        whole.addLayout(side)
        whole.addLayout(main, 1)
        self.column.addLayout(whole, 1)

    def _read(self, chosen: str) -> None:
        """All plans anew, with one of them in view."""
        try:
            self._files = plan_files(self.folder)
        except PlanError as error:
            self.model.failed.emit(str(error))
        self.list.blockSignals(True)
        self.list.clear()
        for each in self._files:
            marks = ("yours" if each.path else "", "cannot be used" if each.wrong else "")
            self.list.addItem(item_of(" · ".join(filter(None, (each.name, *marks))), each.name))
        self.list.blockSignals(False)
        self.list.setCurrentRow(next((n for n, each in enumerate(self._files) if each.id == chosen), 0))
        self._show()

    @property
    def _each(self) -> PlanFile | None:
        number = self.list.currentRow()
        return self._files[number] if 0 <= number < len(self._files) else None

    def _show(self) -> None:
        each = self._each
        if each is None:
            return
        self.name.setText(each.name)
        self.about.setText(each.plan.about if each.plan else "")
        self.about.setVisible(bool(each.plan and each.plan.about))
        self.where.setToolTip(str(each.path or ""))
        self.where.setText(f"Your own: {each.path}" if each.path else
                           "It ships with the program; copy it to change it.")
        self.text.blockSignals(True)
        self.text.setPlainText(each.text)
        self.text.setReadOnly(each.path is None)
        self.text.blockSignals(False)
        self.remove.setVisible(each.path is not None)
        if each.wrong:
            self.pages.setCurrentWidget(self.text)
        self._show_folders(each.plan)
        self._say(each.wrong, "problem") if each.wrong else self._say(self._count(each.plan), "muted")
        self._enable()

    def _show_folders(self, plan: FolderPlan | None) -> None:
        self.rows.show(made_by(plan) if plan else ())

    def _count(self, plan: FolderPlan | None) -> str:
        return f"{counted(len(plan.systems), 'system')}; only folders that are needed are made." if plan else ""

    def _enable(self) -> None:
        each, is_text = self._each, self.pages.currentWidget() is self.text
        self.turn.setText(FOLDERS if is_text else TEXT)
        self.use.setEnabled(bool(each and each.plan))
        self.save.setVisible(bool(each and each.path))
        self.save.setEnabled(bool(each and self.text.toPlainText() != each.text and not self._wrong()))

    def _wrong(self) -> str:
        """What is wrong with the text as it stands; "" where it can be used."""
        each = self._each
        try:
            parse_plan(self.text.toPlainText(), each.path.name if each and each.path else "plan.toml")
        except PlanError as error:
            return str(error)
        return ""

    def _check(self) -> None:
        wrong = self._wrong()
        self._say(wrong or CAN, "problem" if wrong else "good")
        self._enable()

    def _say(self, sentence: str, style: str) -> None:
        self.check.setText(sentence)
        restyle(self.check, style)

    def _turn(self) -> None:
        is_text = self.pages.currentWidget() is self.text
        if is_text and not self._wrong():
            self._show_folders(parse_plan(self.text.toPlainText(), "plan.toml"))
        self.pages.setCurrentWidget(self.table if is_text else self.text)
        self._enable()

    def _copy(self) -> None:
        if (each := self._each) is not None:
            self._done(lambda: copy_plan(each, self.folder), "Copied. Change it, and save.", shows_text=True)

    def _save(self) -> None:
        if (each := self._each) is not None:
            text = self.text.toPlainText()
            self._done(lambda: change_plan(each, text), "Saved.")

    def _remove(self) -> None:
        each = self._each
        if each is not None and each.path is not None:
            self._done(lambda: remove_plan(each), f"“{each.name}” is removed.")

    def _learn(self) -> None:
        card, state = self._card, self.model.bench.state
        if card is None:
            return
        self.learn.setEnabled(False)

        def take(plan: FolderPlan) -> None:
            self.learn.setEnabled(True)
            self._done(lambda: add_learnt(plan, card.name, self.folder), f"Learnt from {card.name}.")

        def fail(error: Exception) -> None:
            self.learn.setEnabled(True)
            self._say(str(error), "problem")

        self.model.asker.ask(lambda: learn_from(card, home_of(card), said_of(state, card.key)).plan, take, fail)

    def _done(self, act: Callable[[], PlanFile | None], said: str, *, shows_text: bool = False) -> None:
        try:
            made = act()
        except MossError as error:
            self._say(str(error), "problem")
            return
        self.changed.emit()
        self._read(made.id if made else "")
        if shows_text:
            self.pages.setCurrentWidget(self.text)
            self._enable()
        self._say(said, "good")

    def _close(self) -> None:
        self.hide()
        self.closed.emit("")

    def _use(self) -> None:
        self.hide()
        self.closed.emit(self._each.id if self._each else "")


def _table(rows: RowsModel[Makes]) -> QTableView:
    made = QTableView()
    made.setModel(rows)
    made.setAccessibleName("Folders that the plan makes")
    made.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
    made.setEditTriggers(QAbstractItemView.EditTrigger.NoEditTriggers)
    made.setShowGrid(False)
    made.setWordWrap(False)
    if vertical := made.verticalHeader():
        vertical.hide()
        vertical.setDefaultSectionSize(26)
    if header := made.horizontalHeader():
        header.setSectionResizeMode(QHeaderView.ResizeMode.Stretch)
        for column in (0, 1):
            header.setSectionResizeMode(column, QHeaderView.ResizeMode.ResizeToContents)
        header.setDefaultAlignment(Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter)
    return made
