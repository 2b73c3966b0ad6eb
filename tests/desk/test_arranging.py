"""Changes of one card on the page of Move: partitions, maps, names, copies."""

from __future__ import annotations

from mosscrate.core.blocks import Window, open_blocks
from mosscrate.core.contents import survey
from mosscrate.core.contents.straight import straight
from mosscrate.core.maps import read_map
from mosscrate.core.sheet import steps as s
from mosscrate.core.sheet.running.performing import perform
from mosscrate.core.volumes import edit
from mosscrate.core.watch import Watch
from tests.cards import MIB, contents, handheld, put_card
from tests.desk.person import arrange, files_of, medium, sizes_on


def test_partitions_are_sized_rebuilt_and_added_on_the_page(person):
    w = person.window
    put_card(w.model.bench, "wide", 120 * MIB, handheld(60 * MIB).data, name="Wide card", order=4)
    w.model.refresh()
    person.wait(lambda: any(m.name == "Wide card" for m in w.model.media) and w.model.asker.is_idle)
    person.pick_card("Wide card")
    files = files_of(person, "Wide card")
    person.click(w.look.arrange_button)
    person.wait(lambda: w.move_.plan is not None)
    assert not w.move_.rehearse_button.isEnabled()
    arrange(person, 1, "Size…", size="20 MiB")
    arrange(person, 2, "Rebuild with its files…", **{"file_system": "ext4"})
    arrange(person, 2, "Label…", label="MOSS")
    arrange(person, 2, "Add partition…", label="EXTRA", **{"file_system": "exfat"})
    assert [type(s).__name__ for s in w.move_.plan.sheet.steps] == [
        "KeepCard", "MovePartition", "GrowPartition", "RebuildPartition", "LabelPartition", "AddPartition", "Eject"]
    arrange(person, 1, "Size…", size="9 TiB")
    assert "gives way" in w.move_.arrange_panel.error.text()
    w.move_.arrange_panel.fill_in("size", "large")
    person.click(w.move_.arrange_panel.add_button)
    assert "is not a size" in w.move_.arrange_panel.error.text()
    seen = w.move_.plan.forecast.layout
    person.click(w.move_.rehearse_button)
    person.wait_for_job()
    assert w.move_.run_panel.head.text() == "Rehearsed: it works", w.move_.run_panel.words.text()
    person.click(w.move_.run_panel.close_button)
    person.wait(lambda: w.move_.plan is not None)
    assert len(w.move_.plan.sheet.steps) == 7                # a rehearsal does not throw the plan away
    person.type_tag(w.move_.guard_panel.entry, medium(person, "Wide card").tag)
    person.click(w.move_.guard_panel.entry.buttons[0])
    person.wait_for_job()
    assert w.move_.run_panel.head.text().startswith("Done"), w.move_.run_panel.words.text()
    with medium(person, "Wide card").open() as blocks:
        layout = survey(blocks, thorough=True)
    assert [(p.index, p.partition.start, p.partition.length) for p in layout.partitions] == \
        [(p.index, p.partition.start, p.partition.length) for p in seen.partitions]
    assert [(p.name, p.volume.kind) for p in layout.partitions] == [("PEAT", "fat16"), ("MOSS", "ext4"),
                                                                    ("EXTRA", "exfat")]
    now = files_of(person, "Wide card")
    assert now[0] == files[0]
    assert {p: d for p, (d, _) in now[1].items() if p != "lost+found"} == {p: d for p, (d, _) in files[1].items()}
    assert [f for f in layout.findings if f.severity in ("problem", "warning")] == []


def test_the_bytes_of_a_card_are_swapped_for_its_machine(person):
    w = person.window
    before = files_of(person, "Worn card")
    person.pick_card("Worn card")
    person.click(w.look.arrange_button)
    person.wait(lambda: w.move_.plan is not None)
    arrange(person, 2, "Swap bytes")
    assert {r.word for r in w.move_.plan.ribbons()} == {"swapped"}
    assert w.move_.right.layout_shown.container == "swapped"
    person.type_tag(w.move_.guard_panel.entry, medium(person, "Worn card").tag)
    person.click(w.move_.guard_panel.entry.buttons[0])
    person.wait_for_job()
    assert w.move_.run_panel.head.text().startswith("Done"), w.move_.run_panel.words.text()
    with medium(person, "Worn card").open() as blocks:
        assert survey(blocks).container == "swapped"
        held = [contents(Window(straight(blocks), p.start, p.length)) for p in read_map(straight(blocks)).partitions]
    assert held == before


def test_a_drive_goes_under_another_map_with_the_names_that_change_in_a_table(person):
    w = person.window
    with medium(person, "Worn card").open() as blocks:
        kinds = [p.volume.kind for p in survey(blocks).partitions]
    person.plan("Worn card", "New card")
    person.click(w.move_.arrange_button)
    panel = w.move_.arrange_panel
    person.wait(lambda: True)                                # what was there before is really gone
    person.pick_act("All partitions under…")
    panel.fill_in("map", "an RDB")
    person.click(panel.add_button)
    person.wait(lambda: w.model.asker.is_idle)
    layout = w.move_.right.layout_shown
    assert (layout.map_kind, [p.volume.kind for p in layout.partitions]) == ("rdb", ["ffs"] * len(kinds))
    assert {r.word for r in w.move_.plan.ribbons()} == {"anew, FFS international"}
    person.type_tag(w.move_.guard_panel.entry, medium(person, "New card").tag)
    person.click(w.move_.guard_panel.entry.buttons[0])
    person.wait_for_job()
    assert w.move_.run_panel.head.text().startswith("Done"), w.move_.run_panel.words.text()
    person.click(w.move_.run_panel.close_button)
    with medium(person, "New card").open() as blocks:
        now = survey(blocks, thorough=True)
        files = [sizes_on(blocks, p.index) for p in now.partitions]
    assert [f.sentence for f in now.findings if f.severity in ("problem", "warning")] == []
    with medium(person, "Worn card").open() as blocks:
        assert files == [sizes_on(blocks, p.index) for p in survey(blocks).partitions]


def test_a_folder_is_copied_to_another_partition_of_the_same_card(person):
    w = person.window
    person.pick_card("Worn card")
    person.click(w.look.arrange_button)
    person.wait(lambda: w.move_.plan is not None)
    for what, ending in (("not there", "There is no “not there”"), ("roms/gb", "Done")):
        arrange(person, 1, "Copy files…", **{"from": "2 GAMES", "what": what, "into": "1 PEAT", "folder": "kept"})
        person.type_tag(w.move_.guard_panel.entry, medium(person, "Worn card").tag)
        person.click(w.move_.guard_panel.entry.buttons[0])
        person.wait_for_job()
        assert w.move_.run_panel.head.text().startswith(ending), w.move_.run_panel.words.text()
        person.click(w.move_.run_panel.close_button)                   # nothing was touched: nothing to finish first
        person.wait(lambda: w.move_.plan is not None)
    peat, games = files_of(person, "Worn card")
    wanted = {f"kept/{p.removeprefix('roms/')}": v[0] for p, v in games.items() if p.startswith("roms/gb")}
    assert {p: v[0] for p, v in peat.items() if p.startswith("kept/")} == wanted
    assert len(wanted) > 2


def test_names_that_change_are_listed_beside_the_sheet(person):
    w = person.window
    with open_blocks(medium(person, "New card").path, writable=True) as blocks:
        perform(s.NewMap("mbr"), blocks, None, Watch())
        perform(s.AddPartition("fat16", 20 * MIB, label="LONG"), blocks, None, Watch())
        part = read_map(blocks).partition(1)
        editor = edit(Window(blocks, part.start, part.length))
        for number in range(9):
            editor.add_file(f"a name that is too long {number}.txt", b"x")
        editor.commit()
    w.model.look_again(medium(person, "New card"))
    person.wait(lambda: w.model.asker.is_idle)
    person.pick_card("New card")
    person.click(w.look.arrange_button)
    person.wait(lambda: w.move_.plan is not None)
    arrange(person, 1, "Rebuild with its files…", **{"file system": "gemdos"})
    panel = w.move_.arrange_panel
    person.wait(lambda: panel.names_button.isVisible())
    assert "7 more names" in panel.error.text()
    person.click(panel.names_button)
    names = w.move_.names_panel.table.model()
    rows = {names.index(k, 0).data(): names.index(k, 1).data() for k in range(names.rowCount())}
    assert len(rows) == 9
    assert rows["a name that is too long 3.txt"] == "ANAMET~4.TXT"
