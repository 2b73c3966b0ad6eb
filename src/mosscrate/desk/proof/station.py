"""Proof: which card, what is asked of it, the picture, and the verdict in a sentence."""

from __future__ import annotations

from collections.abc import Callable
from contextlib import suppress
from typing import Any

from PyQt6.QtCore import QTimer, pyqtSignal
from PyQt6.QtWidgets import QComboBox, QHBoxLayout, QVBoxLayout, QWidget

from mosscrate.core.crate import Backup
from mosscrate.core.crate.lacking import kept
from mosscrate.core.errors import CrateError
from mosscrate.core.findings import Finding, Severity
from mosscrate.core.proof.comparing import Likeness
from mosscrate.core.proof.job import (
    compare_with_kept,
    give_up_and_prove,
    history,
    is_out,
    last_log,
    prove,
    prove_every_block,
    pull,
    put_back_on,
    read,
    unfinished_on,
    write,
)
from mosscrate.core.proof.log import DepthLog
from mosscrate.core.proof.reading import Soundness
from mosscrate.core.proof.size import Verdict
from mosscrate.core.proof.writing import Wear
from mosscrate.core.rescue import (
    Rescue,
    Standing,
    Wishes,
    finish,
    how_far,
    rescue_and_finish,
    unfinished_rescue,
)
from mosscrate.core.slots import Medium, Source
from mosscrate.core.watch import Watch
from mosscrate.desk.bench_model import BenchModel
from mosscrate.desk.proof.bore import READING, WRITING, Bore
from mosscrate.desk.proof.known import LOOK, PULL, SIZE, WAYS, WHOLE, WRITE, Known, Way, layout_to_draw, title
from mosscrate.desk.proof.rescue_panel import RescuePanel
from mosscrate.desk.shared.background import BackgroundJob
from mosscrate.desk.shared.head import Head
from mosscrate.desk.shared.panel import FindingRow, Panel, Rows, button, clear, label, row
from mosscrate.desk.shared.tag_entry import TagEntry
from mosscrate.desk.shared.words import choice

SAMPLE_MS = 150
USUAL_LINE = 16                          # points of a line of text, for which the foot is as high as it is
REMEMBERED = 4                           # lines of a card's history that are shown
BACK = "Put back"
OUT = "Marks are on it. Take it out, put it in again, and look at them."
LEFT = "A proof of it was interrupted: what stood where its marks are is kept aside. Put it back."


class ProofStation(QWidget):
    """Asks, shows what grows, and tells."""

    elsewhere = pyqtSignal(str, object)           # see StationWidget

    def __init__(self, model: BenchModel, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.model = model
        self.medium: Medium | None = None
        self.known: dict[str, Known] = {}
        self.job: BackgroundJob | None = None
        self._last_of = ""                       # whose last log is drawn
        self._asked: tuple[str, bool, bool, Way] | None = None
        self.title = label("Can this card be trusted?", scale=1.5, bold=True, wraps=True)
        self.subtitle = label(style="muted", scale=0.95, wraps=True)
        self.cards = QComboBox()
        self.cards.setAccessibleName("Card to prove")
        self.cards.setFixedWidth(220)            # a long name does not push the verdict aside
        self.cards.activated.connect(self._choose)
        self.read_button = button("Read all of it", self.read, style="primary",
                                  tip="Can every byte be read, and how fast? Nothing is written")
        self.compare_button = button("Compare with its backup", self.compare,
                                     tip="Is it still what was kept? Nothing is written")
        self.bore = Bore()
        self.ways = QComboBox()
        self.ways.setAccessibleName("How it is proved by writing")
        self.ways.addItems([way.name for way in WAYS])
        self.ways.activated.connect(self._enable)
        self.entry = TagEntry(SIZE.button)
        self.entry.confirmed.connect(lambda _word: self.prove())
        self.about = label(SIZE.about, style="muted", scale=0.9, wraps=True)
        self.instead = button("It is failing: rescue it", self._want_rescue, tip="Read what can still be read, saves "
                              "first; nothing is written")
        self.instead.setProperty("compact", True)
        self.size_panel, self.rescue_panel = Panel(), RescuePanel(self.rescue, self.keep_rescued)
        self.rows = Rows("What was proved before", spacing=0)
        self._timer = QTimer(self)
        self._timer.timeout.connect(self._grow)
        self._lay_out()
        self.setFocusProxy(self.cards)
        self.sections = (self.cards, self.ways, self.rescue_panel.go_button)
        model.media_changed.connect(self._show_cards)
        model.selected_changed.connect(self._follow)
        model.seen_changed.connect(self._on_seen)
        model.jobs_changed.connect(self._enable)
        model.crate_changed.connect(self._enable)
        self._show_cards()
        self._follow()

    def take(self, medium: Medium | None, errand: str) -> None:
        """See StationWidget: it is what is asked about."""
        self._show(medium)

    def read(self) -> None:
        """Read every byte, beside everything else; the log grows meanwhile."""
        medium = self.medium
        if medium is None:
            return
        known, layout, bench = self._of(medium), self.model.layout_of(medium), self.model.bench
        log = known.log = DepthLog(medium.size)
        known.is_written = False
        self.bore.show_last(last_log(medium, bench))
        self._start(f"Read all of {medium.name}", medium, lambda watch: read(medium, bench, layout, watch, log),
                    lambda sound: self._take_sound(medium, sound))

    def compare(self) -> None:
        """Compare it with its newest backup."""
        medium = self.medium
        if medium is not None:
            layout, bench = self.model.layout_of(medium), self.model.bench
            self._start(f"Compare {medium.name} with its backup", medium,
                        lambda watch: compare_with_kept(medium, bench, layout, watch),
                        lambda found: self._take_likeness(*found))

    def prove(self) -> None:
        """Prove it in the chosen way, or put back what an earlier proof has left."""
        medium, tag = self.medium, self.entry.typed()
        if medium is None:
            return
        bench, way, layout = self.model.bench, self.way, self.model.layout_of(medium)
        if way is PULL or is_out(medium, bench):
            self._start(f"Marks on {medium.name}", medium, lambda watch: pull(medium, bench, watch, typed_tag=tag),
                        lambda told: self._take_pulled(medium, told))
        elif unfinished_on(medium, bench) is not None:
            self._start(f"Put back on {medium.name}", medium,
                        lambda watch: put_back_on(medium, bench, watch, typed_tag=tag), self.model.said.emit)
        elif way is SIZE:
            self._start(f"Prove the size of {medium.name}", medium,
                        lambda watch: prove(medium, bench, watch, typed_tag=tag),
                        lambda verdict: self._take_verdict(medium, verdict))
        else:
            log = self._of(medium).log = DepthLog(medium.size)
            self._of(medium).is_written = True
            if way is WRITE:
                self._start(f"Write all of {medium.name}", medium,
                            lambda watch: write(medium, bench, layout, watch, typed_tag=tag, log=log),
                            lambda wear: self._take_wear(medium, wear))
                return
            judge = prove_every_block if way is WHOLE else give_up_and_prove
            self._start(f"Prove every block of {medium.name}", medium,
                        lambda watch: judge(medium, bench, watch, typed_tag=tag, log=log),
                        lambda verdict: self._take_verdict(medium, verdict))

    @property
    def way(self) -> Way:
        """In which it is proved by writing."""
        return WAYS[max(0, self.ways.currentIndex())]

    def rescue(self, wishes: Wishes) -> None:
        """One sitting of a rescue; it becomes a backup by itself where nothing is missing."""
        medium = self.medium
        if medium is None:
            return
        known, bench = self._of(medium), self.model.bench
        log = known.log = known.log if known.standing and known.log else DepthLog(medium.size)
        known.kept, known.is_written = "", False

        def tell(standing: Standing) -> None:
            known.standing = standing

        self._start(f"Rescue {medium.name}", medium,
                    lambda watch: rescue_and_finish(medium, bench, wishes, watch, is_last=False, log=log, tell=tell),
                    lambda found: self._take_rescued(medium, *found))

    def keep_rescued(self) -> None:
        """Make a backup of what there is."""
        medium, bench = self.medium, self.model.bench
        if medium is not None:
            self._start(f"Keep what is rescued of {medium.name}", medium, lambda watch: finish(medium, bench, watch),
                        lambda backup: self._take_rescued(medium, self._of(medium).standing, backup))

    def _start(self, title: str, medium: Medium, work: Callable[[Watch], Any], done: Callable[[Any], object]) -> None:
        job = self.model.run(title, work, {medium.key})
        if job is None:
            return
        self.job = job
        job.done.connect(done)
        job.failed.connect(self._fail)
        job.ended.connect(self._end)
        self.subtitle.setText(f"{title}…")
        self._timer.start(SAMPLE_MS)
        self._show_log()
        self._enable()

    def _take_sound(self, medium: Medium, sound: Soundness) -> None:
        self._of(medium).sound = sound
        self._show(self.medium)
        self._tell(medium)

    def _take_pulled(self, medium: Medium, told: Verdict | str) -> None:
        if isinstance(told, str):
            self.subtitle.setText(told)
            self.model.said.emit(told)
        else:
            self._take_verdict(medium, told)

    def _take_wear(self, medium: Medium, wear: Wear) -> None:
        self._of(medium).wear = wear
        self._show(self.medium)
        self._tell(medium)

    def _tell(self, medium: Medium) -> None:
        """At the bottom in a few words, for whoever is on another station; the page has the rest."""
        known = self._of(medium)
        words = title(medium, known)
        (self.model.said if known.is_good else self.model.failed).emit(
            words if medium.name in words else f"{medium.name}: {words[:1].lower()}{words[1:]}")

    def _take_rescued(self, medium: Medium, standing: Standing | None, backup: Backup | None) -> None:
        known = self._of(medium)
        known.standing, known.wants_rescue = standing, backup is None
        known.kept = kept(backup.record) if backup else ""
        told = f"{medium.name} is kept. {known.kept}" if backup else standing.sentence(medium.name) if standing else ""
        is_good = standing is not None and standing.is_whole
        self._show(self.medium)
        (self.model.said if is_good else self.model.failed).emit(told)

    def _want_rescue(self) -> None:
        if self.medium is not None:
            self._of(self.medium).wants_rescue = True
            self._show_rescue()

    def _grow(self) -> None:
        self.bore.grow()
        if self.medium is not None and self._of(self.medium).standing is not None:
            self.title.setText(title(self.medium, self._of(self.medium)))
        self._show_rescue()

    def _show_rescue(self) -> None:
        """Its panel instead of the proof's, where the card is failing or its rescue was begun."""
        medium = self.medium
        known = self._of(medium) if medium else Known()
        begun = self._begun(medium) if medium and self.job is None else None
        if begun is not None and known.standing is None and not known.is_asked and medium is not None:
            self._ask_how_far(medium, begun)
        is_failing = known.wants_rescue or begun is not None or (known.standing is not None and not known.kept) or (
            known.sound is not None and not known.sound.is_sound and not known.kept)
        self.rescue_panel.setVisible(is_failing)
        self.size_panel.setVisible(not is_failing)
        self.rescue_panel.show_standing(known.standing, is_begun=begun is not None, is_free=self._is_free())

    def _ask_how_far(self, medium: Medium, begun: Rescue) -> None:
        known, bench = self._of(medium), self.model.bench
        known.is_asked = True

        def take(standing: Standing) -> None:
            known.standing = known.standing or standing
            self._show_rescue()

        self.model.asker.ask(lambda: how_far(medium, bench, begun), take, self._fail)

    def _begun(self, medium: Medium) -> Rescue | None:
        """A rescue of it; one whose file is damaged is told when it is gone on with."""
        with suppress(CrateError):
            return unfinished_rescue(medium, self.model.bench)
        return None

    def _is_free(self) -> bool:
        return self.medium is not None and self.medium.key not in self.model.busy and self.job is None

    def _take_likeness(self, likeness: Likeness, sentence: str) -> None:
        self.title.setText("It is still what was kept" if likeness.is_same else "It is not what was kept")
        self.subtitle.setText(sentence)
        self.bore.show_differing((*likeness.differing, *likeness.unreadable), likeness.files)
        (self.model.said if likeness.is_same else self.model.failed).emit(sentence)

    def _take_verdict(self, medium: Medium, verdict: Verdict) -> None:
        self._of(medium).verdict = verdict
        self._show(self.medium)
        self._tell(medium)

    def _fail(self, error: Exception) -> None:
        self.subtitle.setText(str(error))

    def _end(self) -> None:
        self.job = None
        self._timer.stop()
        self.bore.grow()
        self._show_history()
        self._enable()

    def _of(self, medium: Medium) -> Known:
        return self.known.setdefault(medium.key, Known())

    def _lay_out(self) -> None:
        top = Head(self.title, self.subtitle, self.cards, self.compare_button, self.read_button)
        foot = QHBoxLayout()
        foot.setSpacing(12)
        head_of_size = row(self.ways, self.instead)
        head_of_size.insertStretch(1, 1)
        self.size_panel.column.addLayout(head_of_size)
        told_of_way = Rows("What this way does", spacing=0)                     # scrolls where the window is low
        told_of_way.column.addWidget(self.about)
        told_of_way.column.addStretch(1)
        self.size_panel.column.addWidget(told_of_way, 1)
        self.size_panel.column.addWidget(self.entry)
        foot.addWidget(self.size_panel, 1)
        foot.addWidget(self.rescue_panel, 1)
        told = Panel()
        told.column.addWidget(self.rows)
        foot.addWidget(told, 1)
        for panel in (self.size_panel, self.rescue_panel, told):
            panel.setMaximumHeight(round(134 * max(1.0, self.fontMetrics().height() / USUAL_LINE)))
        whole = QVBoxLayout(self)
        whole.setContentsMargins(20, 16, 20, 12)
        whole.setSpacing(12)
        whole.addWidget(top)
        whole.addWidget(self.bore, 1)
        whole.addLayout(foot)

    def _show_cards(self) -> None:
        self.cards.clear()
        for medium in self.model.media:
            if medium.source != Source.BACKUP:
                self.cards.addItem(choice(medium.name), medium.key)
        self.cards.setCurrentIndex(self.cards.findData(self.medium.key if self.medium else None))

    def _choose(self, index: int) -> None:
        key = self.cards.itemData(index)
        self.model.select(next((m for m in self.model.media if m.key == key), None))

    def _follow(self) -> None:
        if self.job is None:
            self._show(self.model.selected)

    def _on_seen(self, key: str) -> None:
        if self.medium is not None and self.medium.key == key:
            self.bore.show_card(layout_to_draw(self.model, self.medium), self.medium.name)
            self._enable()

    def _show(self, medium: Medium | None) -> None:
        """Another card, with what is known of it."""
        self.medium = medium
        self.cards.setCurrentIndex(self.cards.findData(medium.key if medium else None))
        self.bore.show_card(layout_to_draw(self.model, medium), medium.name if medium else "")
        if medium is None or medium.key != self._last_of:
            self._last_of = medium.key if medium else ""
            self.bore.show_last(last_log(medium, self.model.bench) if medium else None)
        self._show_words()
        self._show_log()
        self._show_history()
        self._enable()

    def _show_words(self) -> None:
        medium = self.medium
        known = self._of(medium) if medium else Known()
        if medium is None:
            self.title.setText("Can this card be trusted?")
            self.subtitle.setText("Choose a card on Look, or at the right.")
            return
        self.title.setText(title(medium, known))
        self.subtitle.setText(" ".join(known.told(medium.name)) or f"{medium.subtitle}  ·  tag {medium.tag}")

    def _show_log(self) -> None:
        known = self._of(self.medium) if self.medium else Known()
        real = known.verdict.real if known.verdict is not None and known.verdict.is_false else None
        hits = next((each.hits for each in (known.standing, known.wear, known.sound) if each), ())
        self.bore.show_log(known.log, hits, real, caption=WRITING if known.is_written else READING)

    def _show_history(self) -> None:
        """What was found of it before; what the head says is not said again."""
        clear(self.rows.column)
        medium = self.medium
        told = self._of(medium).told(medium.name) if medium else []
        lines = [line for line in history(medium, self.model.bench) if line.sentence not in told] if medium else []
        for line in reversed(lines[-REMEMBERED:]):
            severity = Severity.GOOD if line.is_good else Severity.PROBLEM
            self.rows.column.addWidget(FindingRow(Finding(severity, f"{line.when[:10]}: {line.sentence}")))
        if not lines:
            self.rows.column.addWidget(label("Nothing was proved of it before.", style="muted", scale=0.9))
        self.rows.column.addStretch(1)

    def _enable(self) -> None:
        medium = self.medium
        is_free = self._is_free()
        self.instead.setEnabled(is_free)
        self._show_rescue()
        may_write = is_free and medium is not None and medium.source in (Source.READER, Source.SIMULATED) \
            and not medium.is_write_protected and not medium.in_use
        left = is_free and medium is not None and unfinished_on(medium, self.model.bench) is not None
        self.read_button.setEnabled(is_free)
        self.compare_button.setEnabled(is_free and medium is not None and self.model.last_kept(medium) is not None)
        self.ways.setEnabled(may_write and not left)
        out = left and medium is not None and is_out(medium, self.model.bench)
        asked = (medium.tag if medium else "", may_write, left, self.way)
        if asked != self._asked:                 # what is being typed is not taken away by a look around
            self._asked = asked
            self.entry.buttons[0].setText(LOOK if out else BACK if left else self.way.button)
            self.entry.ask(asked[0], is_possible=may_write)
        held = f"It is in use: {medium.in_use}. Unmount it on Look before its size is proved." \
            if medium is not None and medium.in_use else ""
        self.about.setText(held or (OUT if out else LEFT if left else self.way.about))
