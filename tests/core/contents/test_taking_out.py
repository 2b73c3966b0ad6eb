"""Taking out stays below the chosen folder, whatever the card says, and goes on where one entry cannot be taken."""

from __future__ import annotations

import os
from dataclasses import dataclass, field

import pytest

from mosscrate.core.contents.extract import take_out
from mosscrate.core.errors import FormatError, MediumError
from mosscrate.core.volumes import Entry, Kind, Tree, open_volume
from mosscrate.core.watch import Watch
from tests.cards import some_files
from tests.core.sheet.test_steps import put_in
from tests.volumes import fresh


@dataclass
class Hostile:
    """A volume that names whatever it likes."""

    names: dict[str, bytes | str | None]             # None is a folder, a str the target of a link
    damaged: set[str] = field(default_factory=set)

    def tree(self) -> Tree:
        kinds = {bytes: Kind.FILE, str: Kind.LINK, type(None): Kind.FOLDER}
        return Tree(tuple(Entry(p, kinds[type(v)], len(v) if isinstance(v, bytes) else 0, 1_600_000_000, 0,
                                v if isinstance(v, str) else None) for p, v in self.names.items()))

    def extents_of(self, entry):
        return ()

    def read_file(self, entry):
        yield self.names[entry.path][:2]
        if entry.path in self.damaged:
            raise FormatError("FAT", "chain", 0, "a loop", "an end")
        yield self.names[entry.path][2:]


def test_links_and_names_that_came_from_the_card_lead_nowhere_else(tmp_path):
    outside, to = tmp_path / "outside", tmp_path / "taken"
    (outside / "sub").mkdir(parents=True)
    card = Hostile({"saves": str(outside), "saves/one.sav": b"evil", "saves/sub": None, "saves/sub/x": b"evil",
                    "a\0b": b"nul", "../up": b"evil", "x/../../up": b"evil", "good": None, "good/./dot": b"x",
                    "good/fine.sav": b"fine", "file": b"1", "file/in a file": b"2", "n" * 300: b"long",
                    "\udcff": b"surrogate", "good/torn": b"torn", "last": b"last"}, {"good/torn"})
    outcome = take_out(card, "", to, Watch())
    assert os.listdir(outside) == ["sub"]
    assert os.listdir(outside / "sub") == []
    assert {str(p.relative_to(tmp_path)) for p in tmp_path.rglob("*")} == {
        "outside", "outside/sub", "taken", "taken/saves", "taken/good", "taken/good/fine.sav", "taken/file",
        "taken/last", *({"taken/\udcff"} if (to / "\udcff").exists() else ())}
    assert (to / "saves").is_symlink()
    assert (to / "good/fine.sav").read_bytes() == b"fine"
    assert os.stat(to / "good").st_mtime == 1_600_000_000
    left = {x.entry.path: x.reason for x in outcome.left_out}
    assert {"saves/one.sav", "saves/sub", "a\0b", "../up", "x/../../up", "file/in a file", "good/torn"} <= set(left)
    assert "loop" in left["good/torn"]
    assert "too long" in left["n" * 300]
    assert "could not be taken" in outcome.shortfall
    assert "The rest is there" in outcome.shortfall


def test_what_is_there_already_stays_and_a_link_in_the_place_is_not_followed(tmp_path):
    blocks = fresh("fat16")
    files = some_files(4, 20)
    put_in(blocks, files)
    (tmp_path / "elsewhere").mkdir()
    (tmp_path / "to").mkdir()
    (tmp_path / "to/roms").symlink_to(tmp_path / "elsewhere")
    (tmp_path / "to/EMPTY").write_text("mine")
    outcome = take_out(open_volume(blocks), "/", tmp_path / "to", Watch())
    assert os.listdir(tmp_path / "elsewhere") == []
    assert (tmp_path / "to/EMPTY").read_text() == "mine"
    inside = {p for p in files if p == "EMPTY" or p.startswith("roms")}
    assert {x.entry.path for x in outcome.left_out} == inside
    for path in set(files) - inside:
        assert (tmp_path / "to" / path).is_dir() if files[path] is None else \
            (tmp_path / "to" / path).read_bytes() == files[path]


def test_a_place_that_cannot_be_written_is_told(tmp_path):
    (tmp_path / "file").write_text("x")
    with pytest.raises(MediumError, match="cannot be written"):
        take_out(Hostile({"a": b"1"}), "", tmp_path / "file" / "below", Watch())
