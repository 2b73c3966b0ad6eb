"""Packed disks of which nobody knows how large they are: longer or shorter than their maps count on, or broken off."""

from __future__ import annotations

import random
from hashlib import sha256

import pytest

from mosscrate.core.blocks import MemoryBlocks
from mosscrate.core.blocks.swapped import SwappedBlocks, swapped
from mosscrate.core.contents import survey
from mosscrate.core.contents.survey import open_partition, whole_partition
from mosscrate.core.crate import Crate
from mosscrate.core.errors import Damaged, FitError, JobError
from mosscrate.core.images import packed_in
from mosscrate.core.sheet.bench import card_of
from mosscrate.core.sheet.running import run as running
from mosscrate.core.sheet.running.converting import Conversion, convert_to
from mosscrate.core.sheet.sheet import JobSheet, reference
from mosscrate.core.sheet.steps import CopyPartition, WriteImage
from mosscrate.core.sheet.steps.shared.whole import write_image
from mosscrate.core.slots.shelf import Shelf
from mosscrate.core.volumes import edit
from mosscrate.core.watch import Watch
from tests.cards import MIB, contents, handheld, put_card
from tests.packs import PACKERS

SIZE = 44 * MIB
OPEN = ["bz2", "zst of a pipe", "gz of two members"]          # whose files do not tell, or lie


def disk_with(end: bytes) -> bytes:
    """A card with so many bytes behind what its map counts on, the last ones given."""
    made = handheld(SIZE, tail=2 * MIB)
    made.write(SIZE - len(end), end)
    return bytes(made.data)


def a_card(bench, size, byte=b"\0"):
    put_card(bench, "target", size, byte * size)
    return bench.shelf.simulated_folder / "target.img"


def onto(bench, source):
    target = bench.shelf.find("Target")
    sheet = JobSheet((WriteImage(verify=True),), reference(source), reference(target))
    return running.run(sheet, bench, Watch(), typed_tag=target.tag)


@pytest.fixture
def packs(tmp_path):
    folder = tmp_path / "packs"
    folder.mkdir()
    return folder


@pytest.mark.parametrize("is_published", [False, True])
@pytest.mark.parametrize("how", OPEN)
def test_all_of_it_is_written_in_one_go_and_the_rest_of_the_card_stays(how, is_published, bench, packs):
    disk = disk_with(b"the end of all")
    room = a_card(bench, 60 * MIB, b"\xee")
    path = PACKERS[how](packs, disk)
    if is_published:
        (packs / "card.sha256").write_text(f"{sha256(disk).hexdigest()}  card.img\n")
    done = onto(bench, bench.shelf.find(str(path)))
    assert "44 MiB written onto Target" in done.done[0].sentence
    written = room.read_bytes()
    assert written[:SIZE] == disk
    assert written[SIZE:59 * MIB] == b"\xee" * (15 * MIB)
    assert bench.shelf.find(str(path)).size == SIZE             # it was learnt


@pytest.mark.parametrize("more", [b"", b"an odd end."])
@pytest.mark.parametrize("how", OPEN)
def test_words_are_swapped_up_to_the_last_whole_one(how, more, packs):
    disk = disk_with(b"the end of all") + more
    target = MemoryBlocks(bytes(60 * MIB), name="Target")
    with Shelf().find(str(PACKERS[how](packs, disk))).open() as blocks:
        assert write_image(SwappedBlocks(blocks), target, Watch(), verify=True) == len(disk) // 2 * 2
    assert swapped(target.read(0, len(disk) // 2 * 2)) == disk[:len(disk) // 2 * 2]


@pytest.mark.parametrize("how", OPEN)
def test_what_a_card_has_no_room_for_may_only_be_empty(how, bench, packs):
    room = a_card(bench, SIZE - MIB)
    disk = disk_with(b"")
    onto(bench, bench.shelf.find(str(PACKERS[how](packs, disk))))
    assert room.read_bytes() == disk[:SIZE - MIB]
    (packs / "fuller").mkdir()
    fuller = PACKERS[how](packs / "fuller", disk_with(b"the end of all"))
    with pytest.raises(JobError, match=r"goes on behind the end of Target.*not empty.*shows no map"):
        onto(bench, bench.shelf.find(str(fuller)))
    with bench.shelf.find("Target").open() as target:
        assert survey(target).map_kind == "none"


@pytest.mark.parametrize("how", OPEN)
def test_a_card_that_is_smaller_than_the_map_counts_on_is_refused_before(how, bench, packs):
    room = a_card(bench, 30 * MIB, b"\xee")
    with pytest.raises(FitError, match="too few"):
        onto(bench, bench.shelf.find(str(PACKERS[how](packs, disk_with(b"")))))
    assert room.read_bytes() == b"\xee" * (30 * MIB)


@pytest.mark.parametrize("how", [*OPEN, "gz"])
def test_an_image_that_was_cut_before_it_was_packed_is_told_and_known_from_then_on(how, bench, packs):
    a_card(bench, 60 * MIB)
    path = PACKERS[how](packs, disk_with(b"")[:30 * MIB])
    with pytest.raises(JobError, match=r"It is cut short.*its map was held back"):
        onto(bench, bench.shelf.find(str(path)))
    with bench.shelf.find("Target").open() as target:
        assert survey(target).map_kind == "none"
    with bench.shelf.find(str(path)).open_to_look() as blocks:
        layout = survey(blocks)
    assert (layout.size, layout.cut) == (30 * MIB, SIZE - 2 * MIB - 30 * MIB)


@pytest.mark.parametrize("how", OPEN)
def test_all_of_it_is_kept_and_converted(how, bench, packs, tmp_path):
    disk = disk_with(b"the end of all")
    source = bench.shelf.find(str(PACKERS[how](packs, disk)))
    with source.open() as blocks:
        convert_to(tmp_path / "new.img", blocks, Conversion(), Watch())
    assert (tmp_path / "new.img").read_bytes() == disk
    (packs / "again").mkdir()
    path, crate = PACKERS[how](packs / "again", disk), Crate(tmp_path / "crate")
    source = Shelf().find(str(path))
    with source.open() as blocks:
        image = crate.keep_as_image(card_of(source), blocks, Watch(), tmp_path / "kept.img", layout={})
    assert image.path.read_bytes() == disk
    assert image.record.card.size == SIZE
    source = Shelf().find(str(path))
    with source.open() as blocks:
        part = crate.keep_as_image(card_of(source), whole_partition(blocks, 1), Watch(), tmp_path / "part.img",
                                   layout={})
    assert part.path.read_bytes() == disk[MIB:6 * MIB]
    source = Shelf().find(str(path))
    with source.open() as blocks:
        kept = crate.keep(card_of(source), blocks, Watch())
    with crate.open(kept.id) as blocks:
        assert (blocks.size, blocks.read(SIZE - 14, 14)) == (SIZE, b"the end of all")


@pytest.mark.parametrize("how", ["gz", "xz", "bz2", "zst", "tar.gz"])
def test_nothing_is_kept_or_converted_of_a_stream_that_broke_off(how, bench, packs, tmp_path):
    noise = handheld(SIZE)
    noise.write(30 * MIB, random.Random(1).randbytes(8 * MIB))
    path = PACKERS[how](packs, bytes(noise.data))
    whole = path.read_bytes()
    for data in (whole[:-30], whole[:-8] + bytes([whole[-8] ^ 1]) + whole[-7:], whole[:len(whole) * 2 // 3]):
        path.write_bytes(data)
        source, crate = Shelf().find(str(path)), Crate(tmp_path / "crate")
        with source.open() as blocks:
            packed, before = packed_in(blocks), packed_in(blocks).meter.count
            with pytest.raises(Damaged, match=r"Fetch it again|cut short"):
                crate.keep(card_of(source), blocks, Watch())
            assert packed.meter.count - before < 4 * len(whole)            # it is not begun again for every piece
        assert crate.lanes() == []
        for wanted in (Conversion(), Conversion(partition=1)):
            with source.open() as blocks, pytest.raises(Damaged, match=r"Fetch it again|cut short"):
                convert_to(tmp_path / "new.img", blocks, wanted, Watch())
            assert not (tmp_path / "new.img").exists()


@pytest.mark.parametrize("how", ["zip, stored", "xz in blocks"])
def test_what_can_be_begun_anywhere_is_compared_to_its_last_byte_all_the_same(how, packs, tmp_path):
    disk, noise = handheld(SIZE), random.Random(1).randbytes(8 * MIB)
    disk.write(30 * MIB, noise)                              # in free room: none of it is kept
    path = PACKERS[how](packs, bytes(disk.data))
    whole = path.read_bytes()
    at = whole.index(noise[4 * MIB:][:100])
    path.write_bytes(whole[:at] + bytes([whole[at] ^ 1]) + whole[at + 1:])
    source, crate = Shelf().find(str(path)), Crate(tmp_path / "crate")
    with source.open() as blocks, pytest.raises(Damaged, match="Fetch it again"):
        crate.keep(card_of(source), blocks, Watch())
    assert crate.lanes() == []


@pytest.mark.parametrize("at_the_end", [True, False])
def test_no_part_of_a_stream_is_used_before_its_checksum_was_compared(at_the_end, bench, packs):
    room = a_card(bench, 60 * MIB)
    path = PACKERS["gz"](packs, disk_with(b"the end of all"))
    whole = path.read_bytes()
    path.write_bytes(whole[:-8] + bytes([whole[-8] ^ 1]) + whole[-7:] if at_the_end else whole[:len(whole) * 2 // 3])
    source, target = bench.shelf.find(str(path)), bench.shelf.find("Target")
    sheet = JobSheet((CopyPartition(1),), reference(source), reference(target))
    with pytest.raises(JobError, match=r"Fetch it again.*Nothing was written"):
        running.run(sheet, bench, Watch(), typed_tag=target.tag)
    assert not any(room.read_bytes())


def test_a_stream_is_kept_in_the_order_in_which_it_unpacks(packs, tmp_path):
    disk, rnd = handheld(SIZE), random.Random(5)
    volume, games = open_partition(disk, 2).blocks, [f"game {n}.bin" for n in range(12)]
    changing = edit(volume)
    for game in games:
        changing.add_file(game, b"small")
    changing.commit()
    for game in rnd.sample(games, len(games)):                # their names stay in order, their places do not
        changing = edit(volume)
        changing.remove(game)
        changing.add_file(game, rnd.randbytes(2 * MIB))
        changing.commit()
    path = PACKERS["xz"](packs, bytes(disk.data))
    source, crate = Shelf().find(str(path)), Crate(tmp_path / "crate")
    with source.open() as blocks:
        kept = crate.keep(card_of(source), blocks, Watch())
        assert packed_in(blocks).meter.count < 3 * path.stat().st_size
    with crate.open(kept.id) as blocks:
        assert contents(open_partition(blocks, 2).blocks) == contents(volume)
