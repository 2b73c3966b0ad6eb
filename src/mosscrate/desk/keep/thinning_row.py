"""Keep: backups that are beyond what is kept by age, proposed, shown, and only then forgotten."""

from __future__ import annotations

from collections.abc import Sequence

from PyQt6.QtWidgets import QHBoxLayout, QWidget

from mosscrate.core.crate import Lane
from mosscrate.core.crate.ageing import Ages, too_many
from mosscrate.core.sheet.running.forgetting import Thinning, thin_out, thinning
from mosscrate.core.sizes import counted, some_of
from mosscrate.desk.bench_model import BenchModel
from mosscrate.desk.shared.panel import button, label

SHOW = "Show what would go…"
NAMED = 4                                # backups that the line names


class ThinningRow(QWidget):
    """Hidden while nothing is beyond what is kept, or the person wants to leave it."""

    def __init__(self, model: BenchModel) -> None:
        super().__init__()
        self.model = model
        self.words = label(style="muted", scale=0.94, wraps=True)
        self.act = button(SHOW, self._act)
        self.leave = button("Leave them", self._leave, style="quiet")
        self._shown: Thinning | None = None
        self._is_left = False
        line = QHBoxLayout(self)
        line.setContentsMargins(0, 0, 0, 0)
        line.addWidget(self.words, 1)
        line.addWidget(self.act)
        line.addWidget(self.leave)
        self.hide()

    def show_lanes(self, lanes: Sequence[Lane]) -> None:
        """Propose what may go of these."""
        now = self.model.bench.crate.now()
        number = sum(len(too_many(lane.backups, Ages(), now)) for lane in lanes)
        self._shown = None
        self.act.setText(SHOW)
        self.words.setText(f"{counted(number, 'backup')} {'is' if number == 1 else 'are'} beyond {Ages()}.")
        self.setVisible(bool(number) and not self._is_left)

    def _leave(self) -> None:
        self._is_left = True
        self.hide()

    def _act(self) -> None:
        """First what would go, then, on the same button, it goes."""
        shown, bench = self._shown, self.model.bench
        if shown is None:
            self.model.asker.ask(lambda: thinning(bench, Ages()), self._take,
                                 lambda error: self.words.setText(str(error)))
            return
        job = self.model.run("Thin out the crate", lambda watch: thin_out(shown, bench, watch),
                             {str(backup.path) for backup in shown.backups})
        if job:
            job.done.connect(self.model.said.emit)
            job.failed.connect(lambda error: self.words.setText(str(error)))

    def _take(self, found: Thinning) -> None:
        self._shown = found if found.backups else None
        days = [f"{b.record.card.name} {b.kept_at:%d %b %Y}" for b in found.backups]
        self.words.setText(f"{found.sentence} They are: {some_of(days, NAMED)}." if days else found.sentence)
        self.words.setToolTip("\n".join(days))
        self.act.setText(f"Forget {'this' if len(days) == 1 else f'these {len(days)}'}")
        self.act.setEnabled(bool(days))
