"""Names on their way into another file system: those that are announced are those that will stand there."""

from __future__ import annotations

import pytest

from mosscrate.core.contents.transfer import copy_tree, plan_passage
from mosscrate.core.volumes import Entry, Kind, edit, facts_for, open_volume
from mosscrate.core.watch import Watch
from tests.volumes import ROOM, fresh

NAMES = ("maß.txt", "MASS.TXT", "Mass.txt", "two words.txt", "a name that is too long.txt", "plain.txt", "é.txt",
         "É.TXT", "straße", "STRASSE", "dots.in.it", "ﬁ.txt", "FI.TXT")


@pytest.mark.parametrize("kind", ["gemdos", "fat16", "exfat", "ffs-intl", "ofs", "ext4"])
def test_announced_names_are_those_that_stand_there(kind):
    entries = [Entry(name, Kind.FILE, 1, None, 0) for name in NAMES]
    passage, volume = plan_passage(entries, facts_for(kind)), fresh(kind, ROOM.get(kind, 9 << 20))
    editor = edit(volume)
    copy_tree(lambda entry: iter([b"x"]), entries, editor, passage, Watch())
    editor.commit()
    stand = sorted(e.path for e in open_volume(volume).tree().entries if e.kind == Kind.FILE)
    told = {entry.path: passage.path(entry) for entry in entries}
    as_they_stand = facts_for(kind).stands_as
    assert stand == sorted(as_they_stand(path) for path in told.values())
    assert all(as_they_stand(new) == new for new in passage.changed_names.values())
    if kind == "ext4":
        assert passage.changed_names == {}


@pytest.mark.parametrize("present", [(), ("SS1",), ("ss1",)])
def test_a_letter_with_two_capitals_is_another_name_and_meets_nobody(present):
    entries = [Entry(name, Kind.FILE, 1, None, 0) for name in ("ß1", "plain")]
    passage = plan_passage(entries, facts_for("gemdos"), present)
    new = passage.path(entries[0])
    assert new not in ("ß1", *(name.upper() for name in present))
    assert facts_for("gemdos").stands_as(new) == new
    assert [f.where for f in passage.findings] == ["ß1"]
    assert passage.path(entries[1]) == "plain"
