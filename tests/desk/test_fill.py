"""Fill at the window: a card filled in six acts, questions answered, and what does not fit left out."""

from __future__ import annotations

import io
import random
import zlib
from itertools import pairwise
from pathlib import Path

import pytest
from PIL import Image
from PyQt6.QtCore import QMimeData, QPointF, Qt, QUrl
from PyQt6.QtGui import QDropEvent
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QFileDialog, QPushButton

from mosscrate.core.contents.survey import open_partition
from mosscrate.core.fill.placed import Act, Flow
from mosscrate.core.fill.plans import shipped
from mosscrate.core.fill.said import remember_plan
from mosscrate.core.fill.tree_home import FolderHome
from mosscrate.core.sheet.planning.filling import Sources, fill, lay_over
from mosscrate.core.sheet.running.run import run
from mosscrate.core.sheet.sheet import JobSheet, reference
from mosscrate.core.sheet.steps import KeepCard
from mosscrate.core.watch import Watch
from mosscrate.demo.device import PASSWORD, StandIn
from mosscrate.demo.pictures import PictureStand
from mosscrate.desk.fill.room_view import LABEL, apart
from mosscrate.desk.fill.source_menu import SourceMenu
from mosscrate.desk.fill.streams import lay_out
from mosscrate.desk.window import FILL
from tests.cards import MIB, handheld, put_card
from tests.desk.person import words_of
from tests.fill.samples import SAMPLES


@pytest.fixture
def station(person, bench):
    put_card(bench, "one", 100 * MIB, handheld(100 * MIB, seed=1).data, name="Pipkin")
    person.window.model.refresh()
    model = person.window.model
    person.wait(lambda: any(m.name == "Pipkin" for m in model.media) and model.asker.is_idle)
    person.window.go_to(FILL)
    return person.window.fill


@pytest.fixture
def library(tmp_path):
    top, rnd = tmp_path / "library", random.Random(3)
    for folder, code in (("GB", "gb"), ("Advance", "gba"), ("open", "uzebox")):
        (top / folder).mkdir(parents=True)
        (top / folder / f"Hill Run.{SAMPLES[code][0]}").write_bytes(SAMPLES[code][1](rnd))
    (top / "GB" / "Hill Run.sav").write_bytes(rnd.randbytes(8192))
    return top


def drop(person, station, folder: Path) -> None:
    person.acts += 1
    data = QMimeData()
    data.setUrls([QUrl.fromLocalFile(str(folder))])
    station.dropEvent(QDropEvent(QPointF(5, 5), Qt.DropAction.CopyAction, data, Qt.MouseButton.LeftButton,
                                 Qt.KeyboardModifier.NoModifier))


def confirm(person, station, name: str, bench, words: str) -> None:
    """The tag and the button: two acts; then the wait for what is said."""
    person.type_tag(station.entry, bench.shelf.find(name).tag)
    person.click(station.entry.buttons[0])
    person.wait(lambda: not person.window.model.busy and words in station.said.text())


def choose(person, box, text: str) -> None:
    person.acts += 1
    box.setCurrentIndex(box.findText(text))
    box.activated.emit(box.currentIndex())
    person.wait(lambda: person.window.model.asker.is_idle)


def test_a_card_is_filled_in_six_acts(person, station, library, bench):
    person.acts = 0
    choose(person, station.cards, "Pipkin")
    choose(person, station.plans, "long lower-case names, saves apart")
    drop(person, station, library)
    person.wait(lambda: station.filling is not None and person.window.model.asker.is_idle)
    assert "uzebox has no folder on this card" in words_of(station.words)
    person.click(next(b for b in station.words.findChildren(QPushButton) if b.text() == "make one"))
    person.wait(lambda: len(station.filling.sorted.coming) == 4)
    confirm(person, station, "Pipkin", bench, "put onto")
    assert person.acts <= 6
    with bench.shelf.find("Pipkin").open() as card:
        there = {e.path for e in open_partition(card, 2).tree().entries}
    assert {"roms/gameboy/Hill Run.gb", "roms/gameboyadvance/Hill Run.gba", "roms/uzebox/Hill Run.uze",
            "saves/gameboy/Hill Run.srm"} <= there


def test_nothing_is_asked_or_chosen_while_the_card_is_at_work(person, station, library, bench):
    choose(person, station.cards, "Pipkin")
    drop(person, station, library)
    person.wait(lambda: station.filling is not None and person.window.model.asker.is_idle)
    key = bench.shelf.find("Pipkin").key
    person.window.model.busy.add(key)
    person.window.model.jobs_changed.emit()
    assert not any(part.isEnabled() for part in (station.words, station.plans, station.bring_button))
    assert not station.entry.isVisible()
    person.window.model.busy.discard(key)
    person.window.model.jobs_changed.emit()
    assert all(part.isEnabled() for part in (station.words, station.plans, station.bring_button))


def test_a_group_shows_its_files_with_reasons_and_nothing_is_asked_twice(person, station, library):
    choose(person, station.cards, "Pipkin")
    choose(person, station.plans, "short codes, saves beside")
    drop(person, station, library)
    person.wait(lambda: station.filling is not None and person.window.model.asker.is_idle)
    box = next(box for box in station.flow.streams().groups if box.name == "GB")
    QTest.mouseClick(station.flow, Qt.MouseButton.LeftButton, pos=station.flow.box_rect(box).center().toPoint())
    listed = [station.words.files.item(k).text() for k in range(station.words.files.count())]
    assert any("Hill Run.gb " in line and "to gb/Hill Run.gb" in line and "its header and the sum of it agree" in line
               for line in listed)
    station.flow.chosen.emit("")
    assert station.words.rows.isVisible()


def test_the_first_card_that_comes_is_the_one_that_is_filled(person):
    """With no card there is a folder only; it is not taken for chosen when a card comes."""
    station, model = person.window.fill, person.window.model
    every, model.media = model.media, []
    model.media_changed.emit()
    assert station._card() is None
    model.media = every
    model.media_changed.emit()
    assert station.cards.currentText() == every[0].name


def test_nothing_brought_in_a_blank_card_and_a_folder_that_is_gone(person, station, library, tmp_path, bench):
    assert station.empty.isVisible()
    assert not station.entry.isVisible()
    choose(person, station.cards, "Pipkin")
    station.bring([tmp_path / "nowhere"])
    person.wait(lambda: "There is no" in station.said.text())
    put_card(bench, "blank", 40 * MIB, bytes(40 * MIB), name="Blank")
    person.window.model.refresh()
    person.wait(lambda: station.cards.findText("Blank") >= 0)
    station.folders = [library]
    choose(person, station.cards, "Blank")
    person.wait(lambda: "has no volume that takes files" in station.said.text())


def test_games_are_moved_between_two_naming_schemes_in_six_acts(person, station, library, bench):
    """Nothing is brought in; another plan, the tag, and every game has its save beside it again."""
    choose(person, station.cards, "Pipkin")
    choose(person, station.plans, "short codes, saves beside")
    drop(person, station, library)
    person.wait(lambda: station.filling is not None and person.window.model.asker.is_idle)
    confirm(person, station, "Pipkin", bench, "put onto")
    person.acts = 0
    choose(person, station.cards, "Pipkin")
    choose(person, station.plans, "long lower-case names, saves apart")
    person.wait(lambda: station.regrouping is not None)
    assert {(s.group, s.folder) for s in station.flow.streams().streams} >= {("gb", "roms/gameboy"), (
        "gb", "saves/gameboy")}
    listed = [station.words.files.item(row).text() for row in range(station.words.files.count())]
    assert "gb/Hill Run.sav   →   saves/gameboy/Hill Run.srm" in listed
    confirm(person, station, "Pipkin", bench, "have other places now")
    assert person.acts <= 6
    with bench.shelf.find("Pipkin").open() as card:
        there = {e.path for e in open_partition(card, 2).tree().entries}
    assert {"roms/gameboy/Hill Run.gb", "saves/gameboy/Hill Run.srm"} <= there


def test_own_plans_are_offered_and_what_is_wrong_with_one_is_told_once(person, station, bench):
    own = bench.state / "plans"
    own.mkdir(parents=True, exist_ok=True)
    (own / "mine.toml").write_text('name = "as I like it"\n[systems]\ngb = {folder = "grey"}\n')
    (own / "wrong.toml").write_text('name = "wrong"\n')
    person.window.model.media_changed.emit()
    person.window.model.media_changed.emit()
    assert station.plans.findText("as I like it") > 0
    assert [said for said in person.told if "wrong.toml: systems: found none" in said] == [person.told[-1]]


def test_a_plan_is_copied_changed_checked_and_filled_by_in_the_window(person, station, bench):
    person.click(station.plans_button)
    panel = station.plan_files
    assert panel.isVisible()
    assert not station.body.isVisible()
    panel.list.setCurrentRow([each.name for each in panel._files].index("short codes, saves beside"))
    folders = [panel.table.model().index(n, 0).data() for n in range(panel.table.model().rowCount())]
    assert folders[:3] == ["gb", "gbc", "gba"]
    assert not panel.save.isVisible()                                                 # one that ships stays as it is
    person.click(panel.copy)
    own = panel._each
    text = panel.text.toPlainText()
    panel.text.setPlainText(text.replace('folder = "gb"', 'folder = "../gb"'))
    assert not panel.save.isEnabled()
    assert "systems.gb" in panel.check.text()
    assert own.path.read_text() == text                                               # what cannot be used is not kept
    panel.text.setPlainText(text.replace('folder = "gb"', 'folder = "grey"'))
    person.click(panel.save)
    person.click(panel.turn)
    assert panel.table.model().index(0, 0).data() == "grey"
    person.click(panel.use)
    assert not panel.isVisible()
    assert station.plans.currentText() == "short codes, saves beside, changed"
    person.wait(lambda: station.regrouping is not None)
    person.click(station.plans_button)
    person.click(panel.remove)
    assert not own.path.exists()
    assert station.plans.findText("short codes, saves beside, changed") < 0


def test_a_plan_is_learnt_from_the_card_in_hand(person, station, library, bench):
    choose(person, station.cards, "Pipkin")
    choose(person, station.plans, "long lower-case names, saves apart")
    drop(person, station, library)
    person.wait(lambda: station.filling is not None and person.window.model.asker.is_idle)
    confirm(person, station, "Pipkin", bench, "put onto")
    person.click(station.plans_button)
    person.click(station.plan_files.learn)
    person.wait(lambda: station.plan_files.check.text() == "Learnt from Pipkin.")
    each = station.plan_files._each
    assert (each.name, each.path.name) == ("as Pipkin has it", "as-pipkin-has-it.toml")
    assert {"gb", "gba"} <= set(each.plan.systems)


def test_every_act_can_be_drawn_and_boxes_of_one_name_stand_on_both_sides(person, station):
    flows = [Flow(f"group {number}", "gb", act, 3, 1000) for number, act in enumerate(Act)] + [Flow(
        "same", "same", Act.COPY, 1, 1)]
    station.flow.show_flows(flows)
    station.flow.resize(900, 400)
    assert not station.flow.grab().isNull()
    left, right = ([box for box in boxes if box.name == "same"] for boxes in (
        station.flow.streams().groups, station.flow.streams().folders))
    assert station.flow.box_rect(left[0]).right() < station.flow.box_rect(right[0]).left()


def test_labels_of_the_room_stand_apart_on_every_card():
    rnd = random.Random(3)
    for _ in range(200):
        middles = sorted(rnd.uniform(0, 500) for _ in range(rnd.randrange(1, 5)))
        places = apart(middles, 520)
        assert all(below - above >= LABEL for above, below in pairwise(places))
        assert places[-1] + LABEL <= 520


def test_a_blank_card_is_offered_to_be_prepared(person, station, bench):
    put_card(bench, "blank", 64 << 20, b"", name="Blank")
    person.window.model.refresh()
    person.wait(lambda: station.cards.findText("Blank") >= 0)
    wanted = []
    station.elsewhere.connect(lambda place, medium: wanted.append((place, medium.name)))
    choose(person, station.cards, "Blank")
    person.wait(station.empty.prepare.isVisible)
    person.click(station.empty.prepare)
    assert wanted == [("move.prepare", "Blank")]


def test_streams_stay_within_their_boxes():
    rnd = random.Random(2)
    for many in (1, 3, 12, 60):
        flows = [Flow(f"group {rnd.randrange(many)}", f"folder {rnd.randrange(many)}", Act.COPY, 3,
                      rnd.randrange(1, 10**9)) for _ in range(many * 2)]
        placed = lay_out(flows, 400)
        tops = {box.name: box.top for box in (*placed.groups, *placed.folders)}
        for stream in placed.streams:
            for edge, name in ((stream.left, stream.group), (stream.right, stream.folder)):
                assert tops[name] <= edge[0] <= edge[1] <= tops[name] + 38


def menu_of(station) -> SourceMenu:
    """The menu of Bring in, as it would be shown."""
    menu = SourceMenu(station, station.model, station._card())
    menu.folders.connect(station.bring)
    menu.card.connect(station.bring_card)
    return menu


def trigger(person, menu, text: str) -> None:
    person.acts += 1
    inner = [each for action in menu.actions() if action.menu() for each in action.menu().actions()]
    next(action for action in [*menu.actions(), *inner] if text in action.text()).trigger()


def test_a_typed_tag_survives_another_card_and_not_another_plan(person, station, library, bench):
    choose(person, station.cards, "Pipkin")
    choose(person, station.plans, "short codes, saves beside")
    drop(person, station, library)
    person.wait(lambda: station.filling is not None and person.window.model.asker.is_idle)
    person.type_tag(station.entry, bench.shelf.find("Pipkin").tag)
    put_card(bench, "two", 100 * MIB, handheld(100 * MIB, seed=2).data, name="Quillon")
    person.window.model.refresh()
    person.wait(lambda: station.cards.findText("Quillon") >= 0)
    assert station.entry.typed() == bench.shelf.find("Pipkin").tag
    assert station.entry.buttons[0].isEnabled()
    before = station.filling
    choose(person, station.plans, "long lower-case names, saves apart")
    person.wait(lambda: station.filling is not None and station.filling is not before)
    assert station.entry.typed() == ""


def test_a_list_of_checksums_is_added_where_one_fills_and_removed(person, station, bench, tmp_path, monkeypatch):
    file = tmp_path / "mine.toml"
    file.write_text('system = "gb"\n[[files]]\nname = "Tide.gb"\nsize = 3\ncrc32 = "00000001"\n')
    monkeypatch.setattr(QFileDialog, "getOpenFileName", lambda *_words: (str(file), ""))
    trigger(person, menu_of(station), "Add a list…")
    listed = next(action.menu() for action in menu_of(station).actions() if action.text() == "Lists of checksums")
    own = next(action.menu() for action in listed.actions() if action.text() == "mine.toml")
    assert own.actions()[0].text() == "1 game of gb"
    trigger(person, own, "Remove it")
    assert list((bench.state / "lists").glob("*")) == []
    file.write_text("no list")
    trigger(person, menu_of(station), "Add a list…")
    assert "mine.toml: this is no TOML" in person.told[-1]


def test_another_card_is_brought_in_from_and_a_backup_of_it(person, station, library, bench):
    """A second card for the games: the plan of the first one, its skeleton, its games and saves."""
    put_card(bench, "two", 100 * MIB, handheld(100 * MIB, seed=2).data, name="Quillon")
    first = bench.shelf.find("Pipkin")
    found = fill(first, Sources([library]), shipped()["short-codes-saves-beside"], Watch(), partition=2)
    run(found.sheet, bench, Watch(), typed_tag=first.tag)
    run(JobSheet((KeepCard(),), reference(first)), bench, Watch())
    person.window.model.refresh()
    person.wait(lambda: station.cards.findText("Quillon") >= 0 and person.window.model.asker.is_idle)
    person.acts = 0
    choose(person, station.cards, "Quillon")
    choose(person, station.plans, "long lower-case names, saves apart")
    trigger(person, menu_of(station), "Pipkin")
    person.wait(lambda: station.filling is not None and station.filling.sheet is not None)
    confirm(person, station, "Quillon", bench, "copied to")
    assert person.acts <= 6
    with bench.shelf.find("Quillon").open() as card:
        there = {e.path for e in open_partition(card, 2).tree().entries}
    assert {"roms/gameboy/Hill Run.gb", "saves/gameboy/Hill Run.srm"} <= there
    choose(person, station.cards, "Quillon")
    trigger(person, menu_of(station), "Pipkin, 20")
    person.wait(lambda: "Nothing is to be written" in station.said.text())


def test_an_overlay_is_laid_over_in_four_acts(person, station, tmp_path, bench):
    (tmp_path / "overlay" / "system").mkdir(parents=True)
    (tmp_path / "overlay" / "system" / "menu.cfg").write_bytes(b"one")
    station.take(bench.shelf.find("Pipkin"), "")
    person.acts = 0
    choose(person, station.plans, "laid over as it is")
    drop(person, station, tmp_path / "overlay")
    person.wait(lambda: station.filling is not None and person.window.model.asker.is_idle)
    confirm(person, station, "Pipkin", bench, "put onto")
    assert person.acts <= 4
    with bench.shelf.find("Pipkin").open() as card:
        assert "system/menu.cfg" in {e.path for e in open_partition(card, 2).tree().entries}


def test_a_stick_gets_its_skeleton_and_games_in_five_acts(person, station, library, bench):
    station.take(bench.shelf.find("Pipkin"), "")
    person.acts = 0
    choose(person, station.plans, "short codes, saves beside")
    drop(person, station, library)
    person.wait(lambda: station.filling is not None and person.window.model.asker.is_idle)
    person.click(next(b for b in station.words.findChildren(QPushButton) if b.text() == "make them"))
    person.wait(lambda: "made" in station.said.text())
    confirm(person, station, "Pipkin", bench, "put onto")
    assert person.acts <= 5
    with bench.shelf.find("Pipkin").open() as card:
        there = {e.path for e in open_partition(card, 2).tree().entries}
    assert {"gb/Hill Run.gb", "snes", "psx"} <= there


def test_a_folder_that_nobody_knows_is_asked_and_answered_in_the_window(person, station, library, bench, tmp_path):
    for name in ("gb/a.gb", "gba/a.gba", "nes/a.nes", "sms/a.sms", "ps/x.bin"):
        path = tmp_path / "old" / name
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_bytes(SAMPLES[name.partition("/")[0]][1](random.Random(1)) if "ps" not in name else b"x")
    card = bench.shelf.find("Pipkin")
    run(lay_over(card, Sources([tmp_path / "old"]), Watch(), partition=2).sheet, bench, Watch(), typed_tag=card.tag)
    choose(person, station.cards, "Pipkin")
    choose(person, station.plans, "as this card has it")
    drop(person, station, library)
    person.wait(lambda: "Which system is the folder “ps” for?" in words_of(station.words))
    person.click(next(b for b in station.words.findChildren(QPushButton) if b.text() == "psx"))
    person.wait(lambda: "folder “ps”" not in words_of(station.words) and person.window.model.asker.is_idle)
    assert station.filling.plan.folder_of("psx") == "ps"


def test_pictures_are_scaled_and_fetched_beside_the_rest(person, station, library, bench):
    """Contents, pictures scaled, and a server for those that are missing: nothing waits for them."""
    Image.new("RGB", (900, 600)).save(library / "GB" / "Hill Run.png")
    (library / "GB" / "pictures").mkdir()
    (library / "GB" / "Hill Run.png").rename(library / "GB" / "pictures" / "Hill Run.png")
    choose(person, station.cards, "Pipkin")
    choose(person, station.plans, "long lower-case names, saves apart")
    drop(person, station, library)
    person.wait(lambda: station.filling is not None and any(
        each.to == "pictures/gameboy/Hill Run.png" for each in station.filling.sorted.coming))
    assert "1 game has no picture" in words_of(station.words)
    with PictureStand() as stand:
        station.picturing.fetch(station.filling, stand.address)
        person.wait(lambda: "has no picture" not in words_of(station.words) and person.window.model.asker.is_idle
                    and not person.window.model.busy)
        person.wait(lambda: sum(each.to.endswith(".png") for each in station.filling.sorted.coming) == 2)
    confirm(person, station, "Pipkin", bench, "put onto")
    with bench.shelf.find("Pipkin").open() as card:
        there = {e.path for e in open_partition(card, 2).tree().entries}
    assert {"pictures/gameboy/Hill Run.png", "pictures/gameboyadvance/Hill Run.png"} <= there


def test_a_folder_of_this_computer_is_filled_at_the_window(person, station, library, tmp_path):
    (tmp_path / "stick").mkdir()
    station.fill_tree(FolderHome(tmp_path / "stick"))
    choose(person, station.plans, "long lower-case names, saves apart")
    drop(person, station, library)
    person.wait(lambda: station.filling is not None and person.window.model.asker.is_idle)
    assert not station.entry.isVisible()
    person.click(station.pour_button)
    person.wait(lambda: "put into" in station.said.text())
    assert (tmp_path / "stick" / "roms" / "gameboy" / "Hill Run.gb").is_file()
    station.bring([library])
    person.wait(lambda: "Nothing is to be written" in station.said.text())
    assert not station.pour_button.isVisible()


def test_a_card_is_grown_and_filled_in_six_acts(person, station, library, bench):
    put_card(bench, "three", 400 * MIB, handheld(100 * MIB, seed=4).data, name="Dabchick")
    person.window.model.refresh()
    person.wait(lambda: station.cards.findText("Dabchick") >= 0 and person.window.model.asker.is_idle)
    person.acts = 0
    choose(person, station.cards, "Dabchick")
    drop(person, station, library)
    person.wait(lambda: station.filling is not None and "behind GAMES are not used" in words_of(station.words))
    person.click(next(b for b in station.words.findChildren(QPushButton) if b.text() == "grow it first"))
    person.wait(lambda: station.filling is not None and station.answers and person.window.model.asker.is_idle)
    confirm(person, station, "Dabchick", bench, "put onto")
    assert person.acts <= 6
    with bench.shelf.find("Dabchick").open() as card:
        volume = open_partition(card, 2)
        assert volume.size > 380 * MIB
        assert any(e.path.endswith("Hill Run.gb") for e in volume.tree().entries)


def by_return(person, station, name: str, bench) -> None:
    person.type_tag(station.entry, bench.shelf.find(name).tag)
    QTest.keyClick(station.entry.field, Qt.Key.Key_Return)
    person.wait(lambda: not person.window.model.busy and "Type" not in station.said.text() and station.filling is None)


def test_two_cards_one_for_the_games_and_a_hidden_boot_file_replaced_in_six_acts(person, station, library, bench,
                                                                                 tmp_path):
    put_card(bench, "two", 100 * MIB, handheld(100 * MIB, seed=2).data, name="Quillon")
    first = bench.shelf.find("Pipkin")
    run(fill(first, Sources([library]), shipped()["short-codes-saves-beside"], Watch(), partition=2).sheet, bench,
        Watch(), typed_tag=first.tag)
    person.window.model.refresh()
    person.wait(lambda: station.cards.findText("Quillon") >= 0 and person.window.model.asker.is_idle)
    station.take(bench.shelf.find("Quillon"), "")
    (tmp_path / "panel.dtb").write_bytes(b"another panel")
    person.acts = 0
    trigger(person, menu_of(station), "Pipkin")
    person.wait(lambda: station.filling is not None and station.filling.sheet is not None)
    by_return(person, station, "Quillon", bench)
    choose(person, station.cards, "Pipkin")
    drop(person, station, tmp_path / "panel.dtb")
    person.wait(lambda: station.filling is not None and "boot file" in station.said.text())
    by_return(person, station, "Pipkin", bench)
    assert person.acts <= 6
    with bench.shelf.find("Quillon").open() as card:
        assert any(e.path.endswith("Hill Run.gb") for e in open_partition(card, 2).tree().entries)
    with bench.shelf.find("Pipkin").open() as card:
        volume = open_partition(card, 1)
        found = {e.path: b"".join(volume.read_file(e)) for e in volume.tree().entries}
    assert next(data for path, data in found.items() if path.casefold() == "panel.dtb") == b"another panel"
    assert len(found) == 3


def test_a_running_device_is_filled_at_the_window(person, station, library, tmp_path):
    (tmp_path / "running").mkdir()
    with StandIn(tmp_path / "running") as running:
        station.line.known.trust(running.address.server, " ".join(running.key.export_public_key().decode().split()[:2]))
        choose(person, station.cards, "A device on the network…")
        station.line.field.setText(str(running.address))
        person.click(station.line.act)
        person.wait(lambda: station.line.password.isVisible())
        station.line.password.setText(PASSWORD)
        person.click(station.line.act)
        person.wait(lambda: station.home is not None and not station.line.isVisible())
        choose(person, station.plans, "long lower-case names, saves apart")
        drop(person, station, library)
        person.wait(lambda: station.filling is not None and person.window.model.asker.is_idle)
        assert station.room.isVisible()
        person.click(station.pour_button)
        person.wait(lambda: "put into" in station.said.text())
        station.let_go()
    assert (tmp_path / "running" / "roms" / "gameboy" / "Hill Run.gb").is_file()


def test_an_image_is_written_and_the_contents_of_its_card_come_back_from_the_backup_in_six_acts(person, station, bench,
                                                                                                 tmp_path):
    """The card is kept first; then games under another plan, a system file in two places, pictures scaled."""
    rnd, boot = random.Random(9), random.Random(8).randbytes(5000)
    old = {"games/GB/Hill.gb": SAMPLES["gb"][1](rnd), "games/GB/Hill.sav": rnd.randbytes(32768),
           "games/sms/Tide.sms": SAMPLES["sms"][1](rnd), "games/stuff/boot old.bin": boot}
    for path, data in old.items():
        (tmp_path / "old" / path).parent.mkdir(parents=True, exist_ok=True)
        (tmp_path / "old" / path).write_bytes(data)
    (tmp_path / "old" / "games" / "images").mkdir()
    Image.new("RGB", (800, 600)).save(tmp_path / "old" / "games" / "images" / "Hill.png")
    card = bench.shelf.find("Pipkin")
    run(lay_over(card, Sources([tmp_path / "old"]), Watch(), partition=2).sheet, bench, Watch(), typed_tag=card.tag)
    (bench.state / "plans").mkdir(parents=True)
    (bench.state / "plans" / "mine.toml").write_text(
        'name = "mine"\nsaves = {place = "saves/{stem}.srm"}\n'
        'pictures = {place = "art/{folder}/{stem}.png", width = 200}\n[systems]\ngb = {folder = "boy"}\n'
        'sms = {folder = "master"}\n[[wants]]\nfile = "boot.bin"\nsystems = ["gb"]\n'
        f'places = ["system", "boy"]\nsize = 5000\ndigests = ["crc32:{zlib.crc32(boot):08x}"]\n')
    put_card(bench, "image", 60 * MIB, handheld(60 * MIB, seed=6).data, name="Release 2", write_protected=True)
    person.window.model.refresh()
    person.wait(lambda: any(m.name == "Release 2" for m in person.window.model.media) and
                person.window.model.asker.is_idle)
    remember_plan(bench.state, card.key, "mine")               # it was filled by it before
    person.window.go_to(0)
    person.acts = 0
    person.plan("Release 2", "Pipkin")
    entry = person.window.move_.guard_panel.entry
    person.type_tag(entry, card.tag)
    QTest.keyClick(entry.field, Qt.Key.Key_Return)
    person.wait_for_job()
    person.window.go_to(FILL)
    person.wait(lambda: person.window.model.asker.is_idle and bool(person.window.model.lanes))
    station.take(bench.shelf.find("Pipkin"), "")
    assert station.plans.currentText() == "mine"
    trigger(person, menu_of(station), "Pipkin, 20")
    person.wait(lambda: station.filling is not None and any(
        each.to == "art/boy/Hill.png" for each in station.filling.sorted.coming))
    by_return(person, station, "Pipkin", bench)
    assert person.acts <= 6
    with bench.shelf.find("Pipkin").open() as blocks:
        volume = open_partition(blocks, 2)
        there = {e.path: b"".join(volume.read_file(e)) for e in volume.tree().entries if e.kind == "file"}
    assert (there["boy/Hill.gb"], there["saves/Hill.srm"], there["master/Tide.sms"]) == (
        old["games/GB/Hill.gb"], old["games/GB/Hill.sav"], old["games/sms/Tide.sms"])
    assert there["system/boot.bin"] == there["boy/boot.bin"] == boot
    assert Image.open(io.BytesIO(there["art/boy/Hill.png"])).size == (200, 150)
