"""A part of a card and of a running device, chosen and kept at the window."""

from __future__ import annotations

import pytest
from PyQt6.QtCore import QPoint, Qt
from PyQt6.QtTest import QTest

from mosscrate.core.blocks import Window, open_blocks
from mosscrate.core.contents.files import FileKind
from mosscrate.core.contents.survey import open_partition
from mosscrate.core.crate.library import files_in
from mosscrate.core.crate.parts import Choice
from mosscrate.core.devices import Device, KnownDevices
from mosscrate.core.devices.keeping import keep_device
from mosscrate.core.maps import read_map
from mosscrate.core.sheet.running.run import run
from mosscrate.core.sheet.sheet import JobSheet, reference
from mosscrate.core.sheet.steps import WriteImage
from mosscrate.core.volumes import edit
from mosscrate.core.watch import Watch
from mosscrate.demo.device import PASSWORD, StandIn, fill
from mosscrate.desk.keep.station import DEVICE
from mosscrate.desk.window import KEEP
from tests.cards import MIB, handheld, put_card


@pytest.fixture
def keep(person, bench):
    put_card(bench, "one", 40 * MIB, handheld(seed=1).data, name="Pipkin")
    person.window.model.refresh()
    person.wait(lambda: any(m.name == "Pipkin" for m in person.window.model.media))
    person.window.go_to(KEEP)
    return person.window.keep


@pytest.fixture
def stand_in(tmp_path):
    fill(tmp_path / "device")
    with StandIn(tmp_path / "device") as running:
        yield running


def settled(person) -> bool:
    return person.window.model.asker.is_idle and not person.window.model.busy


def choose(person, keep, data: str) -> None:
    person.acts += 1
    keep.cards.setCurrentIndex(keep.cards.findData(data))
    keep.cards.activated.emit(keep.cards.currentIndex())


def write(person, field, text: str) -> None:
    person.type_text(field, text)
    QTest.keyClick(field, Qt.Key.Key_Return)


def test_a_card_is_kept_whole_and_a_device_in_part_in_six_acts(person, keep, bench, stand_in):
    """The card with one act; of a device that was used before its saves: pick, password, untick, keep."""
    known = KnownDevices.of(bench.state)
    known.trust(stand_in.address.server, " ".join(stand_in.key.export_public_key().decode().split()[:2]))
    known.used(str(stand_in.address))
    keep._show_cards()
    person.acts = 0
    person.click(keep.keep_button)
    person.wait(lambda: settled(person))
    choose(person, keep, f"{DEVICE}{stand_in.address}")
    person.wait(lambda: keep.parting.line.password.isVisible())
    write(person, keep.parting.line.password, PASSWORD)
    person.wait(lambda: keep.parting.part.isVisible() and keep.parting.part.boxes)
    box = keep.parting.part.boxes[FileKind.SETTING]
    person.click(box, QPoint(8, box.height() // 2))
    assert "3 files, 48 KiB" in keep.parting.part.words.text()
    person.click(keep.parting.part.act)
    person.wait(lambda: settled(person) and len(bench.crate.lanes()) == 2)
    assert person.acts <= 6
    lane = next(lane for lane in bench.crate.lanes() if lane.card.name == "127.0.0.1")
    assert {f.path.partition("/")[0] for f in files_in(lane.backups[0])} == {"saves"}
    assert keep.parting.isHidden()
    assert keep.detail.isVisible()


def test_a_new_device_shows_its_key_and_asks_for_the_password(person, keep, bench, stand_in):
    choose(person, keep, DEVICE)
    line = keep.parting.line
    write(person, line.field, "no address")
    assert "is no address of a device" in line.words.text()
    write(person, line.field, str(stand_in.address))
    person.wait(lambda: line.trust.isVisible())
    assert stand_in.fingerprint in line.words.text()
    person.click(line.trust)
    person.wait(lambda: line.password.isVisible())
    write(person, line.password, "wrong")
    person.wait(lambda: "with that password" in line.words.text())
    write(person, line.password, PASSWORD)
    person.wait(lambda: keep.parting.part.isVisible() and settled(person))
    assert line.password.text() == ""
    assert keep.cards.findData(f"{DEVICE}{stand_in.address}") < 0
    keep.parting.close_up()
    assert keep.cards.findData(f"{DEVICE}{stand_in.address}") >= 0
    stand_in.exchange_key()
    choose(person, keep, f"{DEVICE}{stand_in.address}")
    person.wait(lambda: "shows another key than it did" in line.words.text())
    assert not line.trust.isVisible()


def test_a_part_of_a_card_is_chosen_by_kind_and_folder(person, keep, bench):
    choose(person, keep, bench.shelf.find("Pipkin").key)
    person.click(keep.part_button)
    part = keep.parting.part
    person.wait(lambda: part.isVisible() and settled(person))
    for box in part.boxes.values():
        box.setChecked(False)
    assert (part.act.isEnabled(), part.words.text()) == (False, "Tick what is to be kept.")
    part.folders.item(0).setCheckState(Qt.CheckState.Checked)
    assert part.act.isEnabled()
    person.click(part.act)
    person.wait(lambda: settled(person) and bench.crate.lanes())
    assert bench.crate.lanes()[0].card.name == "Pipkin, in part"
    assert keep.detail.head.text().startswith("Pipkin, in part")


def test_what_differs_from_the_image_that_a_card_was_written_from_is_proposed(person, keep, bench, tmp_path):
    stock = tmp_path / "Release 2.img"
    stock.write_bytes(handheld(40 * MIB, seed=9).data)
    card = bench.shelf.find("Pipkin")
    run(JobSheet((WriteImage(),), reference(bench.shelf.find(str(stock))), reference(card)), bench, Watch(),
        typed_tag=card.tag)
    with open_blocks(card.path, writable=True) as blocks:
        seat = read_map(blocks).partition(2)
        editor = edit(Window(blocks, seat.start, seat.length))
        editor.add_file("roms/mine.sav", b"s" * 8192)
        editor.commit()
    person.window.model.refresh()
    choose(person, keep, card.key)
    person.acts = 0
    person.click(keep.part_button)
    part = keep.parting.part
    person.wait(lambda: part.isVisible() and settled(person) and "8 KiB" in part.words.text())
    assert (part.against.currentText(), part.words.text()[:13]) == ("only what differs from Release 2", "1 file, 8 KiB")
    person.click(part.act)
    person.wait(lambda: settled(person) and bench.crate.lanes())
    assert person.acts == 2
    assert [f.path for f in files_in(bench.crate.find("Pipkin, in part"))] == ["roms/mine.sav"]
    person.click(keep.part_button)
    person.wait(lambda: part.isVisible() and settled(person) and part.boxes)
    part.against.setCurrentIndex(0)
    part.against.activated.emit(0)
    assert len(part.boxes) > 1


def test_a_part_comes_back_onto_its_card_at_the_window(person, keep, bench):
    """Not as a disk over the card: its files, where they differ."""
    choose(person, keep, bench.shelf.find("Pipkin").key)
    person.click(keep.part_button)
    part = keep.parting.part
    person.wait(lambda: part.isVisible() and settled(person))
    person.click(part.act)
    person.wait(lambda: settled(person) and bench.crate.lanes() and keep.detail.isVisible())
    person.wait(lambda: keep.detail.head.text().startswith("Pipkin, in part"))
    save = next(f for f in files_in(bench.crate.find("Pipkin, in part")) if f.kind == "save")
    with open_blocks(bench.shelf.find("Pipkin").path, writable=True) as card:
        seat = read_map(card).partition(save.partition)
        editor = edit(Window(card, seat.start, seat.length))
        editor.remove(save.path)
        editor.commit()
    assert keep.detail.put_back.text() == "Bring back…"
    person.click(keep.detail.put_back)
    person.type_tag(keep.bringing.entry, bench.shelf.find("Pipkin").tag)
    person.click(keep.bringing.entry.buttons[0])
    person.wait(lambda: settled(person) and "copied to" in keep.bringing.words.text())
    with bench.shelf.find("Pipkin").open() as card:
        assert open_partition(card, save.partition).tree().find(save.path) is not None


def test_what_was_kept_of_a_device_comes_back_onto_it_at_the_window(person, keep, bench, stand_in, tmp_path):
    known = KnownDevices.of(bench.state)
    known.trust(stand_in.address.server, " ".join(stand_in.key.export_public_key().decode().split()[:2]))
    known.used(str(stand_in.address))
    with Device(stand_in.address, known, password=PASSWORD) as device:
        device.connect()
        keep_device(bench.crate, device, Choice((FileKind.SAVE,)), Watch())
    save = next((tmp_path / "device" / "saves").rglob("*.s*"))
    kept_bytes = save.read_bytes()
    save.write_bytes(b"another state")
    person.window.model.refresh_crate()
    person.wait(lambda: settled(person) and keep.detail.isVisible())
    person.acts = 0
    person.click(keep.detail.put_back)
    person.wait(lambda: keep.bringing.line.password.isVisible())
    write(person, keep.bringing.line.password, PASSWORD)
    person.wait(lambda: keep.bringing.act.isVisible())
    assert save.read_bytes() == b"another state"
    person.click(keep.bringing.act)
    person.wait(lambda: settled(person) and "brought back" in keep.bringing.words.text())
    assert person.acts <= 4
    assert save.read_bytes() == kept_bytes
    assert b"another state" in [path.read_bytes() for path in save.parent.iterdir()]
