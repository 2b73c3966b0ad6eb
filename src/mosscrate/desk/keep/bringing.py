"""Keep: what was kept of a part of a card comes back onto it, where it differs; asked for by the card's tag."""

from __future__ import annotations

from PyQt6.QtWidgets import QVBoxLayout, QWidget

from mosscrate.core.crate import Backup
from mosscrate.core.crate.parts import part_record
from mosscrate.core.sheet.bench import card_of
from mosscrate.core.sheet.planning.bringing_back import bringing_all_back
from mosscrate.core.sheet.running import run as running
from mosscrate.core.slots import Medium
from mosscrate.core.watch import Watch
from mosscrate.desk.bench_model import BenchModel
from mosscrate.desk.shared.panel import label
from mosscrate.desk.shared.tag_entry import TagEntry

BRING = "Bring it back"


class BringingBack(QWidget):
    """A line below a backup of a part; hidden until it is asked for."""

    def __init__(self, model: BenchModel) -> None:
        super().__init__()
        self.model = model
        self.words = label(style="muted", scale=0.94, wraps=True)
        self.entry = TagEntry(BRING)
        self.entry.confirmed.connect(lambda _word: self._run())
        self._backup: Backup | None = None
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.addWidget(self.words)
        column.addWidget(self.entry)
        self.hide()

    def offer(self, backup: Backup) -> None:
        """Ask for the tag of its card, or say what is missing for it."""
        self._backup, card = backup, self._card(backup)
        self.entry.setVisible(card is not None)
        if card is not None:
            self.words.setText(f"Files that {card.name} does not hold as they were kept ({backup.chosen}) come back; "
                               "what is there under their names stays, under dated ones.")
            self.entry.ask(card.tag, is_possible=card.key not in self.model.busy)
        elif backup.record.card.model == "device on the network":
            self.words.setText(f"This is of a running device. In a shell: crate device bring {backup.path.stem[-8:]} "
                               "ADDRESS brings its files back.")
        else:
            self.words.setText("Its card is not at hand. Put it in, then bring the files back; or copy single ones "
                               "from “Show its contents”.")
        self.show()

    def _card(self, backup: Backup) -> Medium | None:
        return next((m for m in self.model.media if part_record(card_of(m)).key == backup.record.card.key), None)

    def _run(self) -> None:
        backup, bench, tag = self._backup, self.model.bench, self.entry.typed()
        card = self._card(backup) if backup else None
        if backup is None or card is None:
            return

        def work(watch: Watch) -> str:
            result = running.run(bringing_all_back(backup, card, bench), bench, watch, typed_tag=tag)
            return " ".join(done.sentence for done in result.done)

        job = self.model.run(f"Bring files back onto {card.name}", work, {card.key})
        if job:
            self.entry.hide()
            job.done.connect(self.words.setText)
            job.failed.connect(lambda error: self.words.setText(str(error)))
