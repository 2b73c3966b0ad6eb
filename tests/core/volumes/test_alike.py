"""Folders with names that differ for the system that made them and not for the volume: none of them is ever lost."""

from __future__ import annotations

import pytest

from mosscrate.core.errors import FitError
from mosscrate.core.volumes import Kind, check, edit, open_volume
from mosscrate.core.volumes.exfat.editing import ExfatEditor
from mosscrate.core.volumes.fat.editing import FatEditor
from tests.volumes import fresh

ALIKE = {"roms/CAFÉ x": b"capitals" * 99, "roms/Café x": b"small" * 300, "roms/other": b"other"}


def contents(blocks):
    volume = open_volume(blocks)
    return {e.path: b"".join(volume.read_file(e)) for e in volume.tree().entries if e.kind == Kind.FILE}


@pytest.fixture(params=["fat12", "fat16", "fat32", "exfat"])
def volume(request, monkeypatch):
    """A volume as a kernel that tells É from é leaves it."""
    blocks = fresh(request.param)
    with monkeypatch.context() as patched:
        for editor in (FatEditor, ExfatEditor):
            patched.setattr(editor, "_must_be_new", lambda self, folder, path, name: None)
        editor = edit(blocks)
        editor.add_folder("roms")
        for path, data in ALIKE.items():
            editor.add_file(path, data)
        editor.commit()
    assert contents(blocks) == ALIKE
    return blocks


@pytest.mark.parametrize("act", ["put", "rename", "remove"])
def test_a_change_in_their_folder_leaves_both(volume, act):
    editor, wanted = edit(volume), dict(ALIKE)
    if act == "put":
        editor.add_file("roms/new", b"new")
        wanted["roms/new"] = b"new"
    elif act == "rename":
        editor.rename("roms/other", "roms/another")
        wanted["roms/another"] = wanted.pop("roms/other")
    else:
        editor.remove("roms/other")
        del wanted["roms/other"]
    editor.commit()
    assert contents(volume) == wanted


def test_one_is_meant_by_just_its_letters_and_no_third_one_comes(volume):
    editor = edit(volume)
    for act in (lambda: editor.remove("roms/cafÉ x"), lambda: editor.add_file("roms/cafÉ X", b""),
                lambda: editor.rename("roms/other", "roms/CAFÉ X")):
        with pytest.raises(FitError):
            act()
    editor.remove("roms/Café x")
    editor.commit()
    assert contents(volume) == {path: data for path, data in ALIKE.items() if path != "roms/Café x"}


def test_a_check_tells_of_them(volume):
    assert any("are one name" in finding.sentence and "CAFÉ x" in finding.sentence
               for finding in check(open_volume(volume)))
