"""Media at hand: how they are found, told apart, described, and known again."""

from __future__ import annotations

import os
import resource
import threading
from dataclasses import replace
from pathlib import Path
from types import SimpleNamespace

import pytest
from hypothesis import given
from hypothesis import strategies as st

from mosscrate.core import sizes
from mosscrate.core.contents.fingerprint import fingerprint
from mosscrate.core.contents.survey import open_partition
from mosscrate.core.errors import MediumError
from mosscrate.core.sheet.running.performing import perform
from mosscrate.core.sheet.steps import (
    FlagPartition,
    LabelPartition,
    MakeFolder,
    RemoveFiles,
    RemovePartition,
    RenameFile,
)
from mosscrate.core.slots import Medium, Source
from mosscrate.core.slots.files import ImageFiles
from mosscrate.core.slots.kernel_tree import Tree
from mosscrate.core.slots.watching import Watcher
from mosscrate.core.volumes import open_volume
from mosscrate.core.watch import Watch
from tests.cards import MIB, handheld, put_card
from tests.volumes import KINDS, worked_on


@pytest.fixture
def shelf(bench):
    put_card(bench, "old", 8 * MIB, name="Worn card", order=2)
    put_card(bench, "new", 4 * MIB, name="Blank", order=1, write_protected=True)
    put_card(bench, "twin", 4 * MIB, name="blank", order=3)
    return bench.shelf


def test_cards_come_in_their_order_and_are_found_by_name_tag_key_or_file(shelf, tmp_path, monkeypatch):
    cards = [m for m in shelf.media() if m.source == Source.SIMULATED]
    assert [(m.name, m.size, m.is_write_protected) for m in cards] == [
        ("Blank", 4 * MIB, True), ("Worn card", 8 * MIB, False), ("blank", 4 * MIB, False)]
    worn = cards[1]
    for text in ("worn CARD", worn.tag, worn.tag.lower(), worn.key, "old", "old.img", str(worn.path)):
        assert shelf.find(text).key == worn.key
    with pytest.raises(MediumError, match=rf"several media.*{cards[0].tag} .*, {cards[2].tag} "):
        shelf.find("BLANK")
    (tmp_path / "Worn card").mkdir()
    monkeypatch.chdir(tmp_path)
    assert shelf.find("Worn card").key == worn.key                     # a folder of that name is no card
    for text, why in (("nowhere.img", "There is no card"), (str(tmp_path), "is a folder")):
        with pytest.raises(MediumError, match=why):
            shelf.find(text)


def test_an_image_is_told_from_a_backup_and_from_what_must_not_be_written(shelf, bench, tmp_path):
    image, kept = tmp_path / "a.img", bench.crate.root / "card" / "b.img"
    kept.parent.mkdir(parents=True)
    for path in (image, kept):
        path.write_bytes(bytes(MIB))
    assert (shelf.find(str(image)).source, shelf.find(str(kept)).source) == (Source.IMAGE, Source.BACKUP)
    shelf.images.append(image)
    assert [m.name for m in shelf.media() if m.source == Source.IMAGE] == ["a"]
    image.unlink()
    assert [m.name for m in shelf.media() if m.source == Source.IMAGE] == []


@pytest.mark.parametrize(("line", "why"), [
    ("size = 1000", "multiple of 512"), ("size = -512", "multiple of 512"), ('size = "big"', "size"),
    ("size = 512\nsise = 3", "sise"), ("= 3", "cannot be used")])
def test_a_wrong_description_of_a_card_is_refused_with_file_key_and_reason(bench, line, why):
    (bench.shelf.simulated_folder / "odd.toml").write_text(f'name = "Odd"\n{line}\n')
    with pytest.raises(MediumError, match=rf"odd\.toml.*{why}"):
        bench.shelf.media()


def test_a_tag_has_four_letters_that_are_not_mistaken_and_stays_with_the_hardware(shelf, bench):
    cards = {m.name: m for m in shelf.media() if m.source == Source.SIMULATED}
    assert all(len(m.tag) == 4 and not set(m.tag) & set("0O1I2Z5S6GQB8") for m in cards.values())
    assert len({m.tag for m in cards.values()}) == 3
    before = cards["Worn card"].tag
    (bench.shelf.simulated_folder / "old.toml").unlink()
    put_card(bench, "moved", 8 * MIB, name="In another reader", serial="0xold")
    assert shelf.find("In another reader").tag == before


def test_two_cards_of_one_model_with_one_serial_are_told_apart(bench):
    put_twin(bench, "first", handheld(seed=1).data)
    key = bench.shelf.find("First").key
    put_twin(bench, "second", handheld(seed=2).data)
    first, second = bench.shelf.find("First"), bench.shelf.find("Second")
    assert len({key, first.key, second.key}) == 3
    assert (bench.shelf.medium_at(first.path).key, bench.shelf.find(second.tag).key) == (first.key, second.key)
    (bench.shelf.simulated_folder / "second.img").write_bytes(handheld(seed=1).data)     # a copy, to the last byte
    assert bench.shelf.find("First").key != bench.shelf.find("Second").key
    (bench.shelf.simulated_folder / "second.toml").unlink()
    assert bench.shelf.find("First").key == key


def test_a_clone_without_a_serial_number_has_a_tag_of_its_own(bench, monkeypatch):
    card = Medium("Card", Path("/dev/sdx"), 40 * MIB, Source.READER, mark="map 0x1234")
    clone, other = replace(card, path=Path("/dev/sdy")), replace(card, path=Path("/dev/sdz"), mark="map 0x5678")
    slot = SimpleNamespace(media=lambda: [card, clone, other], medium_at=lambda path: next(
        (m for m in (card, clone, other) if m.path == path), None))
    bench.shelf.slots = (slot,)
    monkeypatch.setattr(bench.shelf, "_known", lambda medium: medium)
    media = bench.shelf.media()
    assert len({m.tag for m in media}) == 3
    assert [m.key for m in media] == [card.key, card.key, other.key]     # what is noted of it is noted of both
    assert [bench.shelf.find(m.tag).path for m in media] == [m.path for m in media]
    assert [bench.shelf.medium_at(m.path).tag for m in media] == [m.tag for m in media]
    slot.media = lambda: [card, other]
    assert bench.shelf.media()[0].tag == card.tag


def put_twin(bench, stem, data) -> None:
    put_card(bench, stem, 40 * MIB, data, serial="0x00000001")


def test_a_fingerprint_sees_map_volumes_and_trees_and_not_what_mounting_changes():
    first = fingerprint(handheld())
    assert fingerprint(handheld()) == first != fingerprint(handheld(42 * MIB))
    games = open_partition(handheld(), 2)
    for step in (RenameFile(2, "roms", "games"), LabelPartition(2, "OTHER"), FlagPartition(1, "active", is_set=False),
                 RemoveFiles(1, ("panel.dtb",)), MakeFolder(1, "x"), RemovePartition(1)):
        changed = handheld()
        perform(step, changed, None, Watch())
        assert fingerprint(changed) != first, step
    mounted = handheld()
    at = 6 * MIB + games.geometry.fat_offset(0) + 4
    mounted.write(at, bytes([mounted.data[at] ^ 1]) + mounted.data[at + 1:at + 3] + b"\x07")     # FAT entry 1
    mounted.write(6 * MIB + 512 + 488, bytes(8))                                                 # free count and hint
    mounted.write(6 * MIB + 65, b"\1")                                                           # state
    assert fingerprint(mounted) == first


@pytest.mark.parametrize("kind", KINDS)
def test_a_fingerprint_sees_a_change_inside_files_where_its_anchors_are(kind):
    blocks, _ = worked_on(kind, 3, operations=100)
    volume, first = open_volume(blocks), fingerprint(blocks)
    entry = next(e for e in volume.tree().entries if e.kind == "file" and e.size > 0)
    extent = volume.extents_of(entry)
    middle = extent[len(extent) // 2]
    at = (middle.start + middle.length // 2) // 512 * 512
    blocks.data[at + 30] ^= 0x40
    assert fingerprint(blocks) != first


@given(st.integers(0, 10**15))
def test_sizes_are_said_so_that_they_can_be_typed_again(size):
    said = sizes.binary(size)
    assert len(said.split()[0]) <= 5
    assert sizes.parse_size(said) == pytest.approx(size, rel=0.006, abs=1)
    assert sizes.exact(size).replace("\N{NARROW NO-BREAK SPACE}", "") == f"{size} bytes"


@pytest.mark.parametrize(("text", "size"), [("4 GiB", 4 << 30), ("4G", 4 << 30), ("8 GB", 8 * 10**9),
                                            ("1,5 MiB", 3 << 19), ("500000", 500_000), (" 12 k ", 12 << 10),
                                            ("2tb", 2 * 10**12)])
def test_sizes_are_read_as_people_type_them(text, size):
    assert sizes.parse_size(text) == size


@pytest.mark.parametrize("text", ["", "big", "4 GiBs", "-3", "1.2.3 MB", "0x10"])
def test_what_is_no_size_is_refused_with_an_example(text):
    with pytest.raises(ValueError, match="such as 4 GiB"):
        sizes.parse_size(text)


@pytest.mark.parametrize(("size", "said"), [(31_914_983_424, "32 GB"), (7_948_206_080, "8 GB"), (61_865_984, "64 MB"),
                                            (1 << 30, "1 GiB"), (63_864_569_856, "64 GB"), (901_120, "880 KiB"),
                                            (1_474_560, "1.41 MiB")])
def test_a_card_is_called_by_the_size_that_is_printed_on_it(size, said):
    assert sizes.printed(size) == said


def test_durations_are_rounded_as_people_do():
    assert [sizes.duration(s) for s in (0.2, 40, 89.4, 100, 5000, 7900)] == [
        "under a second", "40 s", "89 s", "2 min", "83 min", "2 h 11 min"]


def test_a_file_onto_which_this_computer_swaps_is_not_to_be_written(tmp_path):
    image = tmp_path / "a b.img"
    image.write_bytes(bytes(1 << 20))
    (tmp_path / "proc").mkdir()
    (tmp_path / "proc/swaps").write_text(f"Filename Type Size\n{str(image).replace(' ', chr(92) + '040')} file 1020\n")
    files = ImageFiles([], tree=Tree(tmp_path / "sys", tmp_path / "proc", tmp_path / "dev"))
    assert files.medium_at(image).in_use == "used as swap"
    (tmp_path / "other.img").write_bytes(bytes(1 << 20))
    assert files.medium_at(tmp_path / "other.img").in_use == ""


def test_what_comes_is_told_also_to_a_program_with_very_many_files_open(tmp_path):
    limits = resource.getrlimit(resource.RLIMIT_NOFILE)
    if limits[1] < 2048:
        pytest.skip("no program may have that many open here")
    resource.setrlimit(resource.RLIMIT_NOFILE, (max(limits[0], 2048), limits[1]))
    held, told = [os.open(os.devnull, os.O_RDONLY) for _ in range(1100)], threading.Event()
    watcher = Watcher(told.set, tmp_path)
    try:
        for number in range(40):                             # its first look may come behind the first card
            (tmp_path / f"card {number}.toml").write_text("")
            if told.wait(0.5):
                break
        assert told.is_set()
    finally:
        watcher.stop()
        for fd in held:
            os.close(fd)
        resource.setrlimit(resource.RLIMIT_NOFILE, limits)
