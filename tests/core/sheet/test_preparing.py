"""Cards laid out anew for a purpose: every fresh layout on cards of many sizes goes through and suits its machine."""

from __future__ import annotations

import pytest

from mosscrate.core.blocks import MemoryBlocks, Overlay, create_image
from mosscrate.core.contents import survey
from mosscrate.core.errors import FitError
from mosscrate.core.machines import Machines, check
from mosscrate.core.sheet.planning.forecasting import forecast
from mosscrate.core.sheet.planning.preparing import LAYOUTS, Wish, kinds_for, prepared
from mosscrate.core.sheet.running.performing import perform
from mosscrate.core.sheet.sheet import JobSheet
from mosscrate.core.sheet.steps import AddPartition, FillWithDrives, NewMap
from mosscrate.core.sizes import exact
from mosscrate.core.watch import Watch
from tests.volumes import MIB

SIZES = {"16 MiB": 16 * MIB, "64 MB": 64_000_000, "120 MB": 120_000_000, "500 MB": 500_000_000, "2 GB": 2_000_000_000,
         "8 GB": 8_000_000_000, "64 GB": 64_000_000_000}
GIB = 1 << 30


def laid_out(wish, size, tmp_path, machine=None):
    """The layout of a card after the steps, forecast and done."""
    with create_image(tmp_path / "card.img", size) as blank, Overlay(blank) as card:
        card.name = "Card"
        steps = prepared(wish, survey(card), machine)
        seen = forecast(JobSheet(steps), None, survey(card), target_blocks=card)
        assert [p.sentence for p in seen.problems] == []
        for step in seen.settled:
            perform(step, card, None, Watch())
        layout = survey(card, thorough=True)
    (tmp_path / "card.img").unlink()
    assert [f.sentence for f in layout.findings if f.severity in ("problem", "warning")] == []
    return layout


@pytest.mark.parametrize("size", SIZES.values(), ids=SIZES)
@pytest.mark.parametrize("key", ["one", "firmware", "drives"])
def test_a_fresh_layout_fills_a_card_of_any_size(key, size, tmp_path):
    (tmp_path / "note.txt").write_text("moss")
    layout = laid_out(Wish(key, label="GAMES", files=(str(tmp_path / "note.txt"),)), size, tmp_path)
    labels = [look.volume.label for look in layout.with_contents]
    assert (layout.files, "GAMES" in labels) == (1, True)
    assert layout.tail < 8 * MIB or key == "drives"
    if key == "one" and size >= 64_000_000:
        assert [look.volume.kind for look in layout.partitions] == ["fat32" if size >= 64 * MIB else "fat16"]
    if key == "firmware":
        assert labels == ["FIRMWARE", "GAMES"]
        assert layout.partition(2).volume.size > 2 * layout.partition(1).volume.size
    if key == "drives":
        assert all(look.partition.end <= 8 * 10**9 and look.volume.kind in ("fat16", "fat12")
                   for look in layout.with_contents)
        assert len(layout.with_contents) == {8_000_000_000: 4, 64_000_000_000: 4}.get(size, 1)


@pytest.mark.parametrize("kind", kinds_for("one"))
def test_the_volume_for_the_files_may_have_any_file_system(kind, tmp_path):
    layout = laid_out(Wish(kind=kind, label="GAMES"), 200 * MIB, tmp_path)
    assert [look.volume.kind for look in layout.partitions] == [kind]


@pytest.mark.parametrize("machine", [key for key in Machines().all() if key != "apple-68k"])
@pytest.mark.parametrize("size", SIZES.values(), ids=SIZES)
def test_what_a_machine_wants_is_what_it_takes(machine, size, tmp_path):
    wanted = Machines().find(machine)
    layout = laid_out(Wish("machine", label="WORK"), size, tmp_path, wanted)
    assert layout.with_contents[0].volume.label == "WORK"
    assert [f.sentence for f in check(layout, wanted) if f.severity in ("problem", "warning")] == []


def test_what_cannot_be_wished_is_said():
    layout = survey(MemoryBlocks(bytes(64 * MIB)))
    for wish, why in ((Wish("nothing"), "A layout is one, firmware"), (Wish("machine"), "Choose the machine")):
        with pytest.raises(FitError, match=why):
            prepared(wish, layout)
    with pytest.raises(FitError, match="can be made on this card"):
        prepared(Wish("machine"), layout, Machines().find("apple-68k"))
    assert [each.key for each in LAYOUTS] == ["one", "firmware", "drives", "machine"]


def test_two_gib_of_fat16_are_made_and_told_and_what_has_no_room_names_the_largest(tmp_path):
    with create_image(tmp_path / "card.img", 32_000_000_000) as card:
        perform(NewMap("mbr"), card, None, Watch())
        done = perform(AddPartition("fat16", 2 * GIB, label="C"), card, None, Watch())
        assert done.sentence.endswith(f"Its volume ends at {exact(2_147_369_472)}, the most that FAT16 has.")
        with pytest.raises(FitError, match="A FAT16 volume cannot be 3 GiB large"):
            perform(AddPartition("fat16", 3 * GIB), card, None, Watch())
        perform(FillWithDrives(), card, None, Watch())
        layout = survey(card, thorough=True)
        assert [look.volume.kind for look in layout.with_contents] == ["fat16"] * 4
        assert [f.sentence for f in layout.findings if f.severity != "good"] == ["22.4 GiB behind DRIVE3 are unused."]
        assert layout.partition(2).name == "Extended partition 2"
        with pytest.raises(FitError, match="the largest free stretch has"):
            perform(AddPartition("exfat", 60 * GIB), card, None, Watch())
