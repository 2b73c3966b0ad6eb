"""Folder plans: what ships can be used, errors name file and key, and nothing leaves the card."""

from __future__ import annotations

import pytest

from mosscrate.core.errors import PlanError
from mosscrate.core.fill.plans import own_plans, parse_plan, read_plan, save_plan, shipped

HEAD = 'name = "mine"\n'
GB = '[systems]\ngb = {folder = "gb", opens = ["gb"]}\n'


def test_what_ships_can_be_used_and_written_again(tmp_path):
    plans = shipped()
    assert len(plans) == 6
    for plan in plans.values():
        save_plan(plan, tmp_path / f"{plan.id}.toml")
        assert read_plan(tmp_path / f"{plan.id}.toml") == plan
        for code in plan.systems:
            assert plan.folder_of(code)
            assert plan.saves is None or "{" not in plan.fill_in(plan.saves.place, code, "x/Hill Run.gb")


@pytest.mark.parametrize(("text", "said"), [
    ("name = ", "this is no TOML"),
    (HEAD, "systems: found none"),
    (HEAD + '[systems]\ngb = {folder = "gb", open = ["gb"]}', "systems.gb: Object contains unknown field `open`"),
    (HEAD + '[systems]\ngb = {folder = "gb", packed = [1]}', "systems.gb.packed"),
    (HEAD + '[systems]\nnone = {folder = "x"}', "none is no code of a system"),
    (HEAD + '[systems]\ngb = {folder = "../gb"}', "systems.gb.folder: '../gb' leaves the card"),
    (HEAD + 'saves = {place = "saves/{stam}.sav"}\n' + GB, "saves.place holds {stam}, expected one of root, folder"),
    (HEAD + 'saves = {place = "saves/all.sav"}\n' + GB, "names no file"),
    (HEAD + 'saves = {place = "/saves/{stem}.sav"}\n' + GB, "leaves the card"),
    (HEAD + 'saves = {place = "saves/{stem.__class__}.sav"}\n' + GB, "saves.place"),
    (HEAD + 'fresh = "{number:09999999}"\n' + GB, "fresh holds"),
    (HEAD + 'saves = {place = "{folder}/{file}"}\n' + GB, "'{folder}/{file}' is the place of the game itself"),
    (HEAD + 'saves = {place = "s/{stem}.sav", card = "../{slot}.mcr"}\n' + GB, "saves.card: '../{slot}.mcr' leaves"),
    (HEAD + 'pictures = {place = "p/{stem}.gif", kind = "gif"}\n' + GB, "pictures.kind: found 'gif', expected one of"),
    (HEAD + 'pictures = {place = "p/{stem}.png", width = -1}\n' + GB, "pictures.width: found -1"),
    (HEAD + '[systems]\npsx = {folder = "psx", sets = "own"}', "systems.psx.sets: found 'own', expected folder"),
    (HEAD + GB + '[names]\nmost = -8', "names.most: found -8"),
    (HEAD + GB + '[[wants]]\nfile = "a.bin"\nsystems = ["gb"]\nplaces = ["bios/a.bin"]', "names the file, expected"),
    ("about = 3\n" + GB, "about: Expected `str`"), (GB, "the top: Object missing required field `name`"),
    (HEAD + GB + '[[wants]]\nfile = "../x"\nsystems = ["gb"]', "wants.file"),
])
def test_errors_name_file_key_and_what_was_expected(text, said):
    with pytest.raises(PlanError) as told:
        parse_plan(text, "mine.toml")
    assert str(told.value).startswith("mine.toml: ")
    assert said in str(told.value)


def test_a_damaged_one_does_not_keep_the_others_from_being_used(tmp_path):
    (tmp_path / "a.toml").write_text(HEAD + GB)
    (tmp_path / "b.toml").write_bytes(b"\xff\xfe")
    (tmp_path / "c.toml").write_text("[")
    found = list(own_plans(tmp_path))
    assert [type(each).__name__ for each in found] == ["FolderPlan", "PlanError", "PlanError"]
