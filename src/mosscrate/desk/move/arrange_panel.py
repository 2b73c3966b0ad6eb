"""Changing partitions: what can be done to the chosen one and to the card, asked for on the page itself."""

from __future__ import annotations

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QComboBox, QLineEdit, QVBoxLayout, QWidget

from mosscrate.core.contents.layout import Layout, PartitionLook
from mosscrate.core.errors import FitError
from mosscrate.core.findings import Finding
from mosscrate.core.machines import Machine
from mosscrate.core.maps import map_format
from mosscrate.core.sizes import binary
from mosscrate.desk.move.actions import Action, Values, actions_for
from mosscrate.desk.shared.panel import Facts, Panel, Rows, button, clear, label, restyle, row

WAY = "What can be done stands at the partition itself: at its dots, under the right button and the menu key."
SHORTEST = 8                           # letters of a choice that stand in its box, where the panel is narrow
CAPTION, SLACK = 78, 4                 # pixels: names of fields; room below the last one


class ArrangePanel(Panel):
    """Offers actions; `steps_wanted` carries the steps of one that was filled in."""

    steps_wanted = pyqtSignal(object)           # tuple of steps
    names_wanted = pyqtSignal()

    def __init__(self) -> None:
        super().__init__()
        self.name = label("Change it", bold=True, scale=1.1, elides=True)
        self.about = label(style="muted", scale=0.88, elides=True)
        self.facts = Facts()
        self.way = label(WAY, style="muted", scale=0.86, wraps=True)
        self.partition_button = button("Change it…", tip="Also on the partition itself: at its dots, with the right "
                                                         "button, with the menu key")
        self.card_button = button("Change the card…", tip="Also at the head of the core")
        self.choices = QWidget()
        inner = QVBoxLayout(self.choices)
        inner.setContentsMargins(0, 4, 0, 4)
        told = Rows("Facts of the partition", spacing=0)                        # scrolls where the window is low
        told.column.addWidget(self.facts)
        told.column.addWidget(self.way)
        told.column.addStretch(1)
        offered: tuple[QWidget, ...] = (told, self.partition_button, self.card_button)
        for each in offered:
            inner.addWidget(each, 1 if each is told else 0)
        self.form = QWidget()
        self.fields = Rows("What is asked for", spacing=4)      # scrolls where the window is low; buttons stay seen
        self.lines = self.fields.column
        self.buttons = QVBoxLayout()
        form = QVBoxLayout(self.form)
        form.setContentsMargins(0, 4, 0, 0)
        form.setSpacing(4)
        self.hint = label(style="muted", scale=0.86, wraps=True)
        form.addWidget(self.fields, 100)
        form.addWidget(self.hint)
        form.addLayout(self.buttons)
        form.addStretch(1)
        self.error = label(style="problem", scale=0.88, wraps=True)
        self.names_button = button("All names…", self.names_wanted.emit)
        for part in (self.name, self.about, self.choices, self.form, self.error, self.names_button):
            self.column.addWidget(part, 100 if part in (self.form, self.choices) else 0)
        self.column.addStretch(1)
        self.setMinimumWidth(200)
        self.setMaximumWidth(280)
        self._inputs: dict[str, QLineEdit | QComboBox] = {}
        self._action: Action | None = None
        self._actions: dict[str, Action] = {}
        self._head = ("Change it", "")              # name and kind of what is chosen
        self.acts: tuple[Action, ...] = ()          # what can be done, of the partition and of the card
        self._key: object = None
        self.form.hide()
        self.error.hide()
        self.names_button.hide()

    def show_partition(self, layout: Layout | None, index: int | None, more: tuple[Action, ...] = (), *,
                       is_locked: bool, machine: Machine | None = None) -> None:
        """What can be done to a partition of the layout as it will be, and `more` for the whole plan."""
        key = (layout, index, tuple(a.title for a in more), is_locked, machine)
        if key == self._key:
            return
        self._key = key
        look = next((p for p in layout.partitions if p.index == index), None) if layout else None
        volume = look.volume if look else None
        kind = volume.kind_name if volume else "no file system"
        self._head = (look.name, f"{kind}, {binary(look.partition.length)}") if look else (
            "The card", "choose a partition, or add one")
        self._close_form()
        self.acts = (*actions_for(layout, index, machine), *more) if not is_locked else ()
        self._actions = {action.title: action for action in self.acts}
        self.facts.show_facts(_facts(layout, look) if layout and look else [])
        self.partition_button.setVisible(look is not None and any(not a.is_of_card for a in self.acts))
        self.card_button.setVisible(any(a.is_of_card for a in self.acts))
        self.way.setVisible(bool(self.acts))

    def take(self, title: str, values: Values) -> None:
        """Fill in an action that is offered, and add it; what stands against it is said in its form."""
        if title in self._actions:
            self.open_form(self._actions[title])
            for name, value in values.items():
                self.fill_in(name, value)
            self.add()

    def open_form(self, action: Action) -> None:
        """Ask for what an action needs; one that needs nothing is still confirmed by its own button."""
        self._action = action
        clear(self.lines)
        clear(self.buttons)
        self._inputs.clear()
        if action.is_of_card:
            self.name.setText("The card")
            self.about.setText("")
        self.lines.addWidget(label(action.title.rstrip("…"), bold=True))
        for field in action.fields:
            if field.choices:
                entry: QLineEdit | QComboBox = QComboBox()
                assert isinstance(entry, QComboBox), "a choice is a box"
                entry.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
                entry.setMinimumContentsLength(SHORTEST)
                entry.addItems(field.choices)
                entry.setCurrentText(field.value)
                entry.activated.connect(lambda _number: self.error.hide())
            else:
                entry = QLineEdit(field.value)
                entry.returnPressed.connect(self.add)
                entry.textEdited.connect(lambda _text: self.error.hide())      # it was said of what was typed before
            entry.setAccessibleName(field.name)
            self._inputs[field.name] = entry
            caption = label(field.name, style="muted", scale=0.9)
            caption.setFixedWidth(CAPTION)
            line = row(caption)
            line.addWidget(entry, 1)
            holder = QWidget()
            line.setContentsMargins(0, 0, 0, 0)
            holder.setLayout(line)
            self.lines.addWidget(holder)
        self.hint.setText(action.hint)
        self.hint.setVisible(bool(action.hint))
        self.lines.addStretch(1)
        self.add_button = button("Add to the sheet", self.add, style="primary")
        holder = QWidget()
        buttons = row(button("Back", self._close_form), None, self.add_button)
        buttons.setContentsMargins(0, 2, 0, 0)
        holder.setLayout(buttons)
        self.buttons.addWidget(holder)
        if inner := self.fields.widget():
            self.fields.setMaximumHeight(inner.sizeHint().height() + SLACK)
        self.choices.hide()
        self.form.show()
        self.error.hide()
        if first := next(iter(self._inputs.values()), None):
            first.setFocus()

    def fill_in(self, name: str, value: str) -> None:
        """Put a value into the open form."""
        entry = self._inputs[name]
        entry.setCurrentText(value) if isinstance(entry, QComboBox) else entry.setText(value)

    def add(self) -> None:
        """Take the form's values; what cannot be read is said where it was typed."""
        if self._action is None:
            return
        values = {name: e.currentText() if isinstance(e, QComboBox) else e.text().strip()
                  for name, e in self._inputs.items()}
        try:
            steps = self._action.steps(values)
        except (ValueError, FitError) as error:
            self.complain(str(error))
            return
        self.steps_wanted.emit(steps)

    def tell(self, findings: tuple[Finding, ...], *, names: int) -> None:
        """Say what a step that was taken will lose, and offer the table of so many names."""
        self.error.setText(" ".join(f.sentence for f in findings))
        self.error.setVisible(bool(findings))
        restyle(self.error, "warning")
        self.names_button.setText(f"All {names} names…")
        self.names_button.setVisible(names > 1)

    def complain(self, sentence: str) -> None:
        """Say why a step was not taken."""
        restyle(self.error, "problem")
        self.error.setText(sentence)
        self.error.show()

    def _close_form(self) -> None:
        self._action = None
        self.name.setText(self._head[0])
        self.about.setText(self._head[1])
        self.form.hide()
        self.error.hide()
        self.names_button.hide()
        self.choices.show()


def _facts(layout: Layout, look: PartitionLook) -> list[tuple[str, str]]:
    """What the map and the volume say of a partition."""
    p, volume, format = look.partition, look.volume, map_format(layout.map_kind)
    unit = volume.facts.unit if volume and volume.facts else "blocks"
    return [(what, value) for what, value in (
        ("from", binary(p.start)), ("to", binary(p.end)), ("type", p.type_name or p.type),
        ("flags", ", ".join(map(format.flag_word, p.flags))), ("for drivers", ", ".join(format.facts_of(p))),
        (unit, binary(volume.block) if volume and volume.block else ""),
        ("free", binary(volume.free) if volume and volume.free is not None else ""),
        ("smallest", binary(volume.smallest) if volume and volume.smallest else ""),
        ("largest", binary(volume.largest) if volume and volume.largest else "")) if value]
