"""Which files belong together: by names of every script, and by what sheets name."""

from __future__ import annotations

from pathlib import PurePosixPath

import pytest

from mosscrate.core.fill.bringing import Brought, Role
from mosscrate.core.fill.households import gather
from mosscrate.core.fill.saves import words_of
from mosscrate.core.fill.sets import sets_of


class Text:
    """An origin of a few bytes."""

    def __init__(self, data: bytes) -> None:
        self.data = data

    def read(self):
        yield self.data


def brought(path: str, data: bytes = b"x", *, role: Role = Role.GAME, system: str = "dc") -> Brought:
    return Brought(PurePosixPath(path), Text(data), "", len(data), 0, role, "" if role == Role.SAVE else system, "", 1)


@pytest.mark.parametrize(("one", "other", "are_same"), [
    ("クマ", "キツネ", False), ("ガラ", "カラ", False), ("Лес", "Лис", False), ("ثعلب", "أرنب", False),
    ("खरगोश", "खरगेश", False), ("곰", "굼", False), ("Größe", "Grosse", True), ("Café (North)", "cafe", True),
    ("The Tide", "Tide", True), ("クマ (North)", "クマ", True), ("!!!", "???", False)])
def test_words_are_letters_of_every_script(one, other, are_same):
    assert (words_of(one) == words_of(other)) is are_same
    assert words_of(one) != ""


def test_a_save_is_not_that_of_another_game_whose_letters_are_not_latin():
    games = [brought(name, system="gb") for name in ("クマ.gb", "キツネ.gb")]
    saves = [brought(name, role=Role.SAVE) for name in ("クマ (rev 1).sav", "ウサギ.sav")]
    found = gather([*games, *saves])
    assert {each.lead.name: [other.name for other in each.others] for each in found.households} == {
        "クマ.gb": ["クマ (rev 1).sav"], "キツネ.gb": []}
    assert [each.name for each in found.loose] == ["ウサギ.sav"]


@pytest.mark.parametrize("ends", ["\n", "\r\n"])
def test_every_track_that_a_list_or_sheet_names_is_a_part_of_it(ends):
    gdi = ends.join(("3", "1 0 4 2352 track01.bin 0", '2 600 0 2352 "track 02.raw" 0', "3 45000 4 2352 track03.bin 0"))
    cue = ends.join(('FILE "tide.bin" BINARY', "  TRACK 01 MODE1/2352", "    INDEX 01 00:00:00", "FILE two.bin BINARY"))
    names = ("dc/q.gdi", "dc/track01.bin", "dc/track 02.raw", "dc/track03.bin", "ps/t.cue", "ps/tide.bin", "ps/two.bin")
    texts = {"dc/q.gdi": gdi.encode(), "ps/t.cue": cue.encode()}
    found, lacking = sets_of([brought(name, texts.get(name, b"x")) for name in names])
    assert lacking == []
    assert {str(each.path): each.lead for each in found} == {
        "dc/q.gdi": "", "ps/t.cue": "", **dict.fromkeys(names[1:4], "dc/q.gdi"), **dict.fromkeys(names[5:], "ps/t.cue")}
