"""What can be done to a card because it is in a reader: asked for, unmounted, ejected."""

from __future__ import annotations

from mosscrate.core.slots import Medium, Source
from mosscrate.desk.bench_model import BenchModel
from mosscrate.desk.shared.letting_go import eject, unmount
from mosscrate.desk.shared.panel import Panel, button, label, row


class ReaderStrip(Panel):
    """Stands above the files of a card in a reader; hidden for everything else."""

    def __init__(self, model: BenchModel) -> None:
        super().__init__()
        self.model = model
        self.medium: Medium | None = None
        self.how = label(scale=0.94, elides=True)
        self.ask_button = button("Ask to read it", self._ask, tip="The system asks you for permission")
        self.unmount_button = button("Unmount", self._unmount,
                                     tip="So that it can be written; files that are open on it are named")
        self.eject_button = button("Eject", self._eject,
                                   tip="Unmount all of it, and say when you can take it out")
        for part in (self.ask_button, self.unmount_button, self.eject_button):
            part.setProperty("compact", True)
        words = row(self.how, self.ask_button, self.unmount_button, self.eject_button)
        words.setStretch(0, 1)
        self.column.addLayout(words)
        self.hide()

    def show_medium(self, medium: Medium | None) -> None:
        """Tell about a medium, or nothing."""
        self.medium = medium
        self.setVisible(medium is not None and medium.source == Source.READER)
        if medium is None:
            return
        seen = self.model.seen.get(medium.key)
        must_ask = seen is not None and seen.must_ask
        is_free = medium.key not in self.model.busy
        self.ask_button.setVisible(must_ask)
        self.unmount_button.setVisible(medium.in_use.startswith("mounted"))
        self.eject_button.setVisible(not must_ask)
        for each in (self.ask_button, self.unmount_button, self.eject_button):
            each.setEnabled(is_free)
        self.how.setText(_words(medium, must_ask=must_ask))
        self.how.setToolTip(self.how.text())

    def _ask(self) -> None:
        if self.medium is not None:
            self.model.look_again(self.medium, may_ask=True)

    def _unmount(self) -> None:
        if self.medium is not None:
            unmount(self.model, self.medium)

    def _eject(self) -> None:
        if self.medium is not None:
            eject(self.model, self.medium)


def _words(medium: Medium, *, must_ask: bool) -> str:
    if must_ask:
        return "This computer opens the card only when you are asked first."
    if medium.in_use:
        return f"{medium.in_use[0].upper()}{medium.in_use[1:]}: it can be read, but is not written."
    return "Nothing of it is mounted."
