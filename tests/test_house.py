"""The house itself: no circles, and a new step, file system or map is one module and one line in a registry."""

from __future__ import annotations

import ast
from pathlib import Path

import mosscrate
from mosscrate.core import maps, volumes
from mosscrate.core.blocks import MemoryBlocks, Window
from mosscrate.core.contents import survey
from mosscrate.core.contents.survey import open_partition
from mosscrate.core.errors import FitError
from mosscrate.core.maps import MapFormat, MapKind, Partition, PartitionMap, formats
from mosscrate.core.sheet.asking import questions
from mosscrate.core.sheet.decision import Decision, Done
from mosscrate.core.sheet.planning.forecasting import forecast
from mosscrate.core.sheet.running.performing import perform
from mosscrate.core.sheet.sheet import JobSheet
from mosscrate.core.sheet.step import Step
from mosscrate.core.volumes import Entry, Facts, Kind, Making, Tree
from mosscrate.core.volumes.soundness import Soundness
from mosscrate.core.watch import Watch
from tests.cards import MIB

SOURCE = Path(mosscrate.__file__).parent


def imports() -> dict[str, set[str]]:
    """{module: modules that it imports}, those within functions too."""
    files = {".".join(p.relative_to(SOURCE.parent).with_suffix("").parts).removesuffix(".__init__"): p
             for p in SOURCE.rglob("*.py")}
    found = {}
    for name, path in files.items():
        used = set()
        for node in ast.walk(ast.parse(path.read_text())):
            if isinstance(node, ast.ImportFrom) and node.module:
                used |= {f"{node.module}.{a.name}" if f"{node.module}.{a.name}" in files else node.module
                         for a in node.names}
            elif isinstance(node, ast.Import):
                used |= {a.name for a in node.names}
        found[name] = (used & files.keys()) - {name}
    return found


def test_no_module_comes_back_to_itself_through_those_that_it_imports():
    left = imports()
    while True:
        leaves = {name for name, used in left.items() if not used & left.keys()}
        if not leaves:
            break
        left = {name: used for name, used in left.items() if name not in leaves}
    circles = {name for name in left if any(name in left.get(used, ()) for used in left[name])}
    assert circles == set()


# --- one of each, made up --------------------------------------------------------------------------------------------


class Ring(Step, tag="ring", frozen=True):
    """Write a word into the last sector of a card."""

    word: str

    def decide(self, card, source=None):
        if len(self.word) > 9:
            raise FitError("It is too long for a ring.")
        return Decision(f"Engrave {card.name} with “{self.word}”", 0, 512, looks=())

    def act(self, card, decided, watch, source=None):
        card.blocks.write(card.size - 512, self.word.encode().ljust(512, b"\0"))
        return Done(f"{card.name} is engraved.")


def test_a_made_up_step_is_forecast_and_done_by_one_file():
    card = MemoryBlocks(bytes(MIB), name="Card")
    seen = forecast(JobSheet((Ring("moss"), Ring("much too long"))), None, survey(card))
    assert [line.sentence for line in seen.lines] == ["Engrave the card with “moss”", "This step does not fit."]
    assert [p.sentence for p in seen.problems] == ["It is too long for a ring."]
    assert perform(Ring("moss"), card, None, Watch()).sentence == "Card is engraved."
    assert card.read(MIB - 512, 4) == b"moss"
    assert [q.name for q in questions(Ring)] == ["word"]


class Slate(MapFormat):
    """One partition behind the first sector."""

    kind = MapKind("slate")

    def probe(self, first):
        return first.startswith(b"SLATE")

    def read(self, blocks):
        return PartitionMap(self.kind, "1", (Partition(1, 512, blocks.size - 512, "s", "slate"),))


class Note:
    """A volume with one file, in a module of its own as packages are."""

    FACTS = (Facts("note", "Note", "note", lambda name: "", lambda label: label),)

    def __init__(self, blocks=None):
        self.blocks = blocks
        self.kind = self.variant = "note"
        self.label, self.id, self.block, self.free, self.is_clean = "NOTE", "", 512, 0, True
        self.size = blocks.size if blocks else 0

    def probe(self, first):
        return first.startswith(b"NOTE")

    def kind_of(self, first):
        return "note"

    def open_volume(self, blocks):
        return Note(blocks)

    def make(self, blocks, making: Making):
        blocks.write(0, b"NOTE" + making.label.encode().ljust(508, b"\0"))

    def tree(self):
        return Tree((Entry("note.txt", Kind.FILE, 4, None, 0),))

    def largest(self, volume):
        return 0, "a note does not grow"

    largest_in_place = smallest = largest

    def soundness(self, volume, tree):
        return Soundness()

    def check(self, volume):
        return ()


def test_a_made_up_map_and_file_system_are_seen_everywhere_by_one_line_each(monkeypatch):
    note = Note()
    monkeypatch.setattr(formats, "FORMATS", (Slate(), *formats.FORMATS))
    monkeypatch.setattr(volumes, "FORMATS", (note, *volumes.FORMATS))
    monkeypatch.setattr(volumes, "_BY_KIND", volumes._BY_KIND | {"note": note.FACTS[0]})
    card = MemoryBlocks(b"SLATE".ljust(512) + bytes(MIB), name="Card")
    assert maps.read_map(card).kind == "slate"
    volumes.format_for("note").make(Window(card, 512, MIB), Making("note"))
    layout = survey(card, thorough=True)
    assert (layout.map_kind, layout.partitions[0].volume.kind_name, layout.files) == ("slate", "Note", 1)
    assert open_partition(card, 1).tree().entries[0].path == "note.txt"
    assert not layout.can_be_arranged
