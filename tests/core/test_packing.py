"""Disks in streams, archives and sets in parts: found, read like any other, and never taken for whole when damaged."""

from __future__ import annotations

import gzip
import lzma
import random
import threading
import zipfile
from binascii import crc32
from contextlib import suppress
from hashlib import md5, sha1, sha256

import numpy as np
import pytest
from blake3 import blake3

from mosscrate.core.blocks import MemoryBlocks
from mosscrate.core.contents import describe, survey, unpacking
from mosscrate.core.contents.survey import open_partition
from mosscrate.core.contents.unpacking import read_through, suppose_size
from mosscrate.core.crate import Crate
from mosscrate.core.errors import Damaged, FitError, GuardRefusal, JobError, MediumError, MossError, NotReadYet
from mosscrate.core.images import Reach, disk_in, open_image, packed_in
from mosscrate.core.images.packing.gzip import Gzip
from mosscrate.core.images.packing.remembered import Runs, Way
from mosscrate.core.sheet.bench import Bench
from mosscrate.core.sheet.running import run as running
from mosscrate.core.sheet.running.knowing import known
from mosscrate.core.sheet.sheet import JobSheet, reference
from mosscrate.core.sheet.steps import GrowPartition, WriteImage
from mosscrate.core.sheet.steps.shared.whole import write_image
from mosscrate.core.slots.files import Memory
from mosscrate.core.slots.shelf import Shelf
from mosscrate.core.watch import Watch
from tests import packs_fuzz
from tests.cards import MIB, contents, handheld, put_card
from tests.packs import PACKERS, cut_up, seven, seven_coded

SIZE = 44 * MIB


@pytest.fixture(scope="module")
def card() -> bytes:
    """A card with files in both volumes, and something at its end that no map knows of."""
    made = handheld(SIZE, tail=2 * MIB)
    made.write(SIZE - 700, b"the end of all" * 50)
    return bytes(made.data)


def seen(blocks) -> dict:
    said = describe(survey(blocks))
    said.pop("packing", None)
    said["findings"] = [f for f in said["findings"] if "read through" not in f["sentence"]]
    return said


@pytest.mark.parametrize("how", PACKERS)
def test_a_packed_disk_is_read_like_any_other(how, tmp_path, card):
    path, memory = PACKERS[how](tmp_path, card), tmp_path / "memory"
    medium = Shelf(memory=Memory(memory)).find(str(path))
    with medium.open() as disk:
        if packed_in(disk) is not None:                      # parts of a raw image only stand behind one another
            read_through(disk, Watch())
        assert (disk.size, blake3(disk.read(0, SIZE)).hexdigest()) == (SIZE, blake3(card).hexdigest())
        files = contents(open_partition(disk, 2).blocks)
        assert files == contents(open_partition(handheld(SIZE, tail=2 * MIB), 2).blocks)
    with handheld(SIZE, tail=2 * MIB) as plain:
        plain.write(SIZE - 700, b"the end of all" * 50)
        wanted = seen(plain)
    again = Shelf(memory=Memory(memory)).find(str(path))
    with again.open_to_look() as disk:
        assert seen(disk) == wanted
        packed = packed_in(disk)
        if packed is not None:
            assert packed.meter.count < 5 * MIB              # what is on it was remembered
    assert again.size == SIZE


@pytest.mark.parametrize("how", PACKERS)
def test_a_packed_disk_goes_onto_a_card_without_being_read_through_before(how, tmp_path):
    card = bytes(handheld(SIZE, tail=0).data)
    path, target = PACKERS[how](tmp_path, card), MemoryBlocks(b"\xff" * (SIZE + 8 * MIB), name="Pipkin")
    with Shelf().find(str(path)).open() as disk:
        write_image(disk, target, Watch(), verify=True)
    assert blake3(target.read(0, SIZE)).hexdigest() == blake3(card).hexdigest()


def test_a_glance_goes_no_further_than_it_may(tmp_path, card):
    far = card[:20 * MIB] + np.random.default_rng(1).bytes(12 * MIB) + card[32 * MIB:]     # does not shrink
    path = tmp_path / "card.img.xz"
    path.write_bytes(lzma.compress(far, preset=0))
    medium = Shelf().find(str(path))
    with medium.open_to_look(Reach(60, 2 * MIB)) as disk:
        layout = survey(disk)
        assert packed_in(disk).meter.count < 6 * MIB
        with pytest.raises(NotReadYet):
            disk.read(SIZE - 4096, 4096)
        with pytest.raises(NotReadYet):
            disk.read(30 * MIB, 4096)
    assert [p.is_unread for p in layout.partitions] == [False, False]
    assert layout.cut == 0


def test_what_lies_behind_a_glance_is_not_read_yet_and_nothing_is_called_broken(tmp_path, card, monkeypatch):
    path = PACKERS["gz"](tmp_path, card)
    monkeypatch.setattr(Reach, "must_do", only_before(6 * MIB))
    with Shelf().find(str(path)).open_to_look() as disk:
        layout = survey(disk)
    assert [p.is_unread for p in layout.partitions] == [False, True]
    assert [f.sentence for f in layout.findings if f.partition == 2] == []
    assert any("Partition 2 has not been read yet" in f.sentence for f in layout.findings)


@pytest.mark.parametrize("how", ["zip in a 7z", "zip in a gz"])
def test_a_list_at_the_far_end_of_an_archive_in_another_is_reached_once(how, tmp_path, card, monkeypatch):
    far = card[:20 * MIB] + np.random.default_rng(1).bytes(12 * MIB) + card[32 * MIB:]     # does not shrink
    path, memory = PACKERS[how](tmp_path, far), tmp_path / "memory"
    monkeypatch.setattr(Reach, "must_do", only_before(2 * MIB))
    medium = Shelf(memory=Memory(memory)).find(str(path))
    with medium.open_to_look() as disk:
        layout = survey(disk)
        assert [p.is_unread for p in layout.partitions] == [True]
        assert layout.packing.kinds == (how.split()[-1].replace("gz", "gzip"),)
        assert ["its end, which has not been unpacked yet" in f.sentence for f in layout.findings] == [True]
        assert known(medium, disk, layout, Bench(Shelf(), Crate(tmp_path / "crate"), tmp_path)) == (layout, None)
    assert medium.is_write_protected
    with medium.open() as disk:
        read_through(disk, Watch())
    for shelf in (Shelf(memory=Memory(memory)), Shelf(memory=Memory(memory))):
        again = shelf.find(str(path))
        assert (again.size, again.packing.kinds[-1]) == (SIZE, "zip")
        with again.open_to_look() as disk:
            assert [p.volume.kind for p in survey(disk).partitions] == ["fat16", "fat32"]


def test_what_leads_to_a_disk_is_noted_and_read_by_several_at_once():
    way, ended = Way(), threading.Event()

    def note() -> None:
        try:
            for at in range(10_000):
                way.note(0, at % 250, memoryview(bytes(16)))
                if at % 250 == 249:
                    way.pieces.clear()
        finally:
            ended.set()

    noting = threading.Thread(target=note)
    noting.start()
    while not ended.is_set():
        way.fill(1, 0, memoryview(bytearray(1)))            # nothing of that stream: every piece is gone through
    noting.join()


def only_before(end):
    def must_do(_reach, name, offset):
        if offset >= end:
            raise NotReadYet(f"{name} has not been read that far")
    return must_do


def test_a_size_that_nobody_tells_is_supposed_from_the_map_and_learnt(tmp_path, card):
    path = PACKERS["bz2"](tmp_path, card)
    with disk_in(open_image(path)) as disk:
        suppose_size(disk)
        assert (packed_in(disk).is_size_known, disk.size) == (False, SIZE - 2 * MIB)
        layout = read_through(disk, Watch())
        assert (disk.size, layout.size, layout.is_size_known) == (SIZE, SIZE, True)
    path = PACKERS["gz"](tmp_path, card)
    with disk_in(open_image(path)) as disk:
        suppose_size(disk)
        assert disk.size == SIZE                             # its last four bytes agree with the map


@pytest.mark.parametrize("how", ["xz in blocks", "zst in frames", "zip, stored", "tar"])
def test_where_there_are_places_to_begin_only_what_is_asked_for_is_unpacked(how, tmp_path, card):
    noise = np.random.default_rng(2).bytes(12 * MIB)
    path = PACKERS[how](tmp_path, noise)
    with disk_in(open_image(path)) as disk:
        packed = packed_in(disk)
        before = packed.meter.count
        assert disk.read(len(noise) - 5000, 5000) == noise[-5000:]
        assert disk.read(len(noise) // 2, 5000) == noise[len(noise) // 2:][:5000]
        assert packed.meter.count - before < 7 * MIB


def test_reading_a_gzip_through_notes_places(tmp_path, monkeypatch):
    monkeypatch.setattr("mosscrate.core.images.packing.gzip.SPACING", 2 * MIB)
    noise, path = np.random.default_rng(3).bytes(SIZE), tmp_path / "card.img.gz"
    path.write_bytes(gzip.compress(noise, 1))
    memory = Memory(tmp_path / "memory")
    with Shelf(memory=memory).find(str(path)).open() as disk:
        read_through(disk, Watch())
    with Shelf(memory=Memory(tmp_path / "memory")).find(str(path)).open() as disk:
        packed = packed_in(disk)
        assert packed.places > 5
        before = packed.meter.count
        assert disk.read(SIZE - 5000, 5000) == noise[-5000:]
        assert packed.meter.count - before < 5 * MIB


def test_the_likely_disk_is_chosen_and_the_others_have_an_address(tmp_path, card):
    path = tmp_path / "set.zip"
    with zipfile.ZipFile(path, "w") as archive:
        archive.writestr("notes.txt", "x" * 900_000)
        archive.writestr("small.img", card[:512 * 100])
        archive.writestr("big/card.img.gz", gzip.compress(card, 1))
        archive.writestr("roms.bin", bytes(1000))
    medium = Shelf().find(str(path))
    assert (medium.name, medium.packing.sentence, medium.packing.others) == (
        "card", "gzip in zip", ("small.img", "roms.bin"))
    other = Shelf().find(str(path / "small.img"))
    assert (other.name, other.size, other.address) == ("small", 51200, str(path / "small.img"))
    assert other.key != medium.key
    with pytest.raises(MediumError, match=r"There is no gone\.img in .*set\.zip"):
        Shelf().find(str(path / "gone.img")).open()
    with zipfile.ZipFile(path, "w") as archive:
        archive.writestr("notes.txt", "x" * 900_000)
    with pytest.raises(MediumError, match="holds no disk image"):
        Shelf().find(str(path)).open()


@pytest.mark.parametrize(("gone", "said"), [(1, r"missing beside it: card\.img\.001"), (2, r"card\.img\.002"),
                                            (4, "cut short")])
def test_a_part_that_is_missing_is_named(gone, said, tmp_path, card):
    (tmp_path / "card.img").write_bytes(card[:SIZE - 2 * MIB])
    cut_up(tmp_path / "card.img", "{}.{:03}", 4)
    (tmp_path / f"card.img.{gone:03}").unlink()
    rest = tmp_path / f"card.img.{3 if gone != 3 else 4:03}"
    if gone < 4:
        with pytest.raises(MediumError, match=said):
            Shelf().find(str(rest))
    else:
        with Shelf().find(str(rest)).open() as disk:
            assert any(said in f.sentence for f in survey(disk).findings)


def test_a_cartridge_beside_a_zip_of_its_name_is_no_part_of_it(tmp_path, card):
    with zipfile.ZipFile(tmp_path / "Hill.zip", "w") as archive:
        archive.writestr("card.img", card[:MIB])
    (tmp_path / "Hill.z64").write_bytes(bytes(MIB))
    with Shelf().find(str(tmp_path / "Hill.zip")).open() as disk:
        assert disk.size == MIB
    assert Shelf().find(str(tmp_path / "Hill.z64")).size == MIB


def test_the_last_part_of_a_7z_is_missed_before_anything_is_unpacked(tmp_path, card):
    first = cut_up(seven()(tmp_path, card), "{}.{:03}", 3)
    (tmp_path / "card.7z.003").unlink()
    with pytest.raises(MediumError, match=r"missing at its end.*the part behind card\.7z\.002"):
        Shelf().find(str(first)).open()


def onto(bench, source):
    target = bench.shelf.find("Target")
    sheet = JobSheet((WriteImage(verify=True),), reference(source), reference(target))
    return running.run(sheet, bench, Watch(), typed_tag=target.tag)


@pytest.mark.parametrize("is_known", [False, True])
@pytest.mark.parametrize("how", ["gz", "xz in blocks", "bz2", "7z in parts", "tar.xz"])
def test_an_archive_is_written_straight_onto_a_card(how, is_known, bench, tmp_path, card):
    put_card(bench, "target", 60 * MIB)
    folder = tmp_path / "packs"
    folder.mkdir()
    source = bench.shelf.find(str(PACKERS[how](folder, card)))
    if is_known:
        with source.open() as disk:
            read_through(disk, Watch())
        source = bench.shelf.find(str(source.path))
    onto(bench, source)
    with bench.shelf.find("Target").open() as target:
        assert target.read(0, SIZE) == card


def test_what_grows_is_decided_on_the_card_where_it_was_not_read_before(bench, tmp_path, card, monkeypatch):
    put_card(bench, "target", 80 * MIB)
    source, target = bench.shelf.find(str(PACKERS["xz"](tmp_path, card))), bench.shelf.find("Target")
    monkeypatch.setattr(Reach, "must_do", only_before(6 * MIB))
    sheet = JobSheet((WriteImage(), GrowPartition(2)), reference(source), reference(target))
    result = running.run(sheet, bench, Watch(), typed_tag=target.tag)
    assert "has grown from 36 MiB to 74" in result.done[1].sentence
    with bench.shelf.find("Target").open() as blocks:
        assert survey(blocks).partition(2).volume.size > 73 * MIB


@pytest.mark.parametrize("how", ["gz", "xz", "xz in blocks", "zst", "zip", "zip, stored", "zip, Deflate64", "7z",
                                 "tar.xz"])
def test_a_cut_or_damaged_archive_leaves_no_card_that_looks_whole(how, bench, tmp_path, card):
    noise = card[:12 * MIB] + np.random.default_rng(4).bytes(MIB) + card[13 * MIB:]
    put_card(bench, "target", 60 * MIB)
    folder = tmp_path / "packs"
    folder.mkdir()
    path = PACKERS[how](folder, noise)
    whole = path.read_bytes()
    middle = len(whole) // 2
    flipped = whole[:middle] + bytes([whole[middle] ^ 0x40]) + whole[middle + 1:]
    for data in (flipped, whole[:len(whole) * 3 // 4]):
        path.write_bytes(data)
        with pytest.raises(MossError) as told:
            onto(bench, bench.shelf.find(str(path)))
        assert "Traceback" not in str(told.value)
        with bench.shelf.find("Target").open() as target:
            assert survey(target).map_kind == "none"
            assert not any(target.read(0, MIB)) or b"card.img" not in target.read(0, MIB)
    path.write_bytes(flipped)
    medium = bench.shelf.find(str(path))
    with pytest.raises(Damaged), medium.open() as disk:
        read_through(disk, Watch())
    with medium.open_to_look() as disk:
        layout = survey(disk)
    assert layout.fault
    with pytest.raises(FitError, match="Nothing was written"):
        onto(bench, bench.shelf.find(str(path)))


WITHOUT = {"zst in frames", "zst of a pipe", "tar", "sparse tar", "raw in parts"}     # a checksum


@pytest.mark.parametrize("how", sorted(PACKERS.keys() - WITHOUT))
def test_what_was_read_through_is_what_was_packed(how, tmp_path):
    rnd = random.Random(how)
    disk = rnd.randbytes(3 * MIB) + bytes(2 * MIB) + b"moss" * (MIB // 4)
    path = PACKERS[how](tmp_path, disk)
    for _ in range(8):
        part = rnd.choice(sorted(tmp_path.iterdir()))
        whole = part.read_bytes()
        at = rnd.choice((rnd.randrange(len(whole)), len(whole) - 1 - rnd.randrange(40)))
        flipped = whole[:at] + bytes([whole[at] ^ 1 << rnd.randrange(8)]) + whole[at + 1:]
        part.write_bytes(rnd.choice((whole[:at], flipped, flipped)))
        with suppress(MossError), Shelf().find(str(path)).open() as blocks:
            read_through(blocks, Watch())
            assert packed_in(blocks).remembered.digest == blake3(disk).hexdigest()
        part.write_bytes(whole)


LISTS = {
    "SHA256SUMS": lambda d, n: f"{'0' * 64}  other.img\n{sha256(d).hexdigest()} *{n}\n",
    "card.sha256": lambda d, n: f"SHA256 ({n}) = {sha256(d).hexdigest().upper()}\n",
    "list.sha1": lambda d, n: f"{sha1(d).hexdigest()}  ./{n}\n",
    "MD5SUMS.txt": lambda d, n: f"\r\n{md5(d).hexdigest()} *{n}\r\n",
    "sums.b3": lambda d, n: f"{blake3(d).hexdigest()}  {n}\n",
    "set.sfv": lambda d, n: f"; made by hand\n{n} {crc32(d):08X}\n",
    "card.img.gz.sha256": lambda d, n: sha256(d).hexdigest() + ("\n" if n.endswith(".gz") else f"  {n}")}


@pytest.mark.parametrize("of", ["card.img.gz", "card.img"])
@pytest.mark.parametrize("name", LISTS)
def test_a_published_checksum_is_found_compared_and_believed(name, of, tmp_path, bench, card):
    put_card(bench, "target", 60 * MIB)
    path = PACKERS["gz"](tmp_path, card)
    about = path.read_bytes() if of.endswith(".gz") else card
    (tmp_path / name).write_text(LISTS[name](about, of))
    medium = bench.shelf.find(str(path))
    with medium.open_to_look() as disk:
        assert any(f"in {name}" in f.sentence for f in survey(disk).findings)      # told before anything is written
    onto(bench, medium)
    with medium.open() as disk:
        layout = read_through(disk, Watch())
    assert any(name in f.sentence and str(f.severity) == "good" for f in survey(medium.open_to_look()).findings)
    assert layout.fault == ""
    (tmp_path / name).write_text(LISTS[name](about + b"!", of))
    path.touch()
    with pytest.raises(JobError, match=r"not what was published.*its map was held back"):
        onto(bench, bench.shelf.find(str(path)))
    with bench.shelf.find("Target").open() as target:
        assert survey(target).map_kind == "none"


def test_a_raw_image_is_compared_with_what_was_published(tmp_path, bench, card):
    put_card(bench, "target", 60 * MIB)
    path = tmp_path / "card.img"
    path.write_bytes(card)
    (tmp_path / "card.img.sha256").write_text(sha256(card).hexdigest())
    onto(bench, bench.shelf.find(str(path)))
    (tmp_path / "card.img.sha256").write_text(sha256(b"another").hexdigest())
    with pytest.raises(JobError, match="not what was published"):
        onto(bench, bench.shelf.find(str(path)))


def test_sizes_that_lie_and_bombs_neither_hang_nor_fill_memory(tmp_path):
    small = bytes(MIB)
    huge = zipfile.ZIP_STORED
    lies = {"zst": bytes.fromhex("28b52ffde0") + b"\xff" * 8 + bytes(100),          # § 3.1.1.1: a size of 2^64
            "zip": None, "xz": lzma.compress(small)[:-8] + b"\xff" * 8}
    path = tmp_path / "card.zip"
    with zipfile.ZipFile(path, "w", huge) as archive:
        archive.writestr("card.img", small)
    data = bytearray(path.read_bytes())
    at = data.rfind(b"PK\x01\x02")
    data[at + 20:at + 28] = (0xFFFFFFF0).to_bytes(4, "little") * 2
    lies["zip"] = bytes(data)
    for kind, lie in lies.items():
        path = tmp_path / f"lie.img.{kind}"
        path.write_bytes(lie)
        with pytest.raises(MossError), disk_in(open_image(path)) as disk:
            disk.read(disk.size - 512, 512)
    nested = gzip.compress(small)
    for _ in range(9):
        nested = gzip.compress(nested)
    (tmp_path / "deep.gz").write_bytes(nested)
    with pytest.raises(MediumError, match="deep"):
        disk_in(open_image(tmp_path / "deep.gz"))


def test_damaged_files_of_every_kind_end_in_a_reading_or_a_sentence():
    ended = packs_fuzz.run(250, 5)
    assert ended["read through"] > 0
    assert ended["Damaged"] + ended["MediumError"] > 50


def test_runs_of_zeros_grow_and_are_found():
    runs = Runs()
    runs.add(10, np.array([True, True, False, True]))
    runs.add(14, np.array([True, False]))
    runs.add(4, np.array([True] * 6))
    assert runs.runs() == [(4, 12), (13, 15)]
    assert [runs.holds(n) for n in (3, 4, 11, 12, 14, 15)] == [False, True, True, False, True, False]




def test_a_card_onto_which_the_archive_itself_was_written_is_told(bench, tmp_path, card):
    put_card(bench, "target", 60 * MIB, lzma.compress(card, preset=0))
    with bench.shelf.find("Target").open() as blocks:
        found = survey(blocks).findings
    assert any("begins like an xz file" in f.sentence for f in found)


def test_nothing_is_written_onto_the_archive_that_it_comes_from(bench, tmp_path, card):
    path = PACKERS["zip"](tmp_path, card)
    source, target = bench.shelf.find(str(path / "release/card.img")), bench.shelf.find(str(path))
    sheet = JobSheet((WriteImage(),), reference(source), reference(target))
    before = path.read_bytes()
    with pytest.raises(GuardRefusal, match="It is the source itself"):
        running.run(sheet, bench, Watch(), typed_tag=target.tag)
    assert path.read_bytes() == before


def test_only_the_last_files_are_remembered(tmp_path, monkeypatch):
    monkeypatch.setattr("mosscrate.core.slots.files.MOST_SAVED", 3)
    memory = tmp_path / "memory"
    for k in range(6):
        path = tmp_path / f"{k}.img.gz"
        path.write_bytes(gzip.compress(bytes(MIB)))
        with Shelf(memory=Memory(memory)).find(str(path)).open() as disk:
            read_through(disk, Watch())
    assert len(list(memory.iterdir())) <= 4


def test_files_of_an_archive_that_is_soon_read_are_proved_first_and_of_others_it_is_told(tmp_path, card, monkeypatch):
    path = PACKERS["zip, stored"](tmp_path, card)
    with path.open("r+b") as file:
        file.seek(SIZE // 2)
        file.write(b"\1")
    for soon, is_proved in ((unpacking.SOON_READ, True), (0, False)):
        monkeypatch.setattr(unpacking, "SOON_READ", soon)
        with Shelf().find(str(path)).open() as disk:
            if is_proved:
                with pytest.raises(Damaged, match=r"card.img does not agree with its checksum.* Fetch it again"):
                    unpacking.prove_for_files(disk, Watch())
            else:
                unpacking.prove_for_files(disk, Watch())
                assert "compared with no checksum yet" in unpacking.doubt(disk)


@pytest.mark.parametrize(("low", "claimed", "packed", "size"), [
    (900, 0, 1 << 20, 900), (5000, 4000, 1 << 20, 5000), (77, 40 << 20, 1 << 20, 40 << 20),
    (0, 40 << 20, 1 << 20, 40 << 20), (3_600_000_000, 7_800_000_000, 2 << 30, 3_600_000_000 + (1 << 32)),
    (3_600_000_000, 7_800_000_000, 4 << 20, 7_800_000_000), (100, 7_800_000_000, 2 << 30, 7_800_000_000)])
def test_how_large_a_gzip_is_goes_by_its_end_where_that_is_near_what_its_map_claims(low, claimed, packed, size):
    class Ending(MemoryBlocks):
        def __init__(self):
            super().__init__(bytes(64))
            self.size = packed

        def _read_into(self, offset, buffer):
            buffer[:] = low.to_bytes(4, "little")[:len(buffer)]
    assert Gzip(Ending()).supposed(claimed) == size


@pytest.mark.parametrize(("coder", "properties", "said"), [
    (b"\x06\xf1\x07\x01", b"\x13\0", "is encrypted"),
    (b"\x04\xf7\x11\x04", b"\1\1\1", "in a way that is not known here"),
    (b"\0", b"", "")])
def test_what_is_encrypted_or_packed_in_another_way_is_not_called_damaged(coder, properties, said, tmp_path):
    path = tmp_path / "card.7z"
    path.write_bytes(seven_coded(coder, properties, bytes(MIB), MIB))
    if not said:                                         # the same archive with a coder that is known
        with disk_in(open_image(path)) as disk:
            assert disk.read(0, MIB) == bytes(MIB)
        return
    with pytest.raises(MediumError, match=said) as told, disk_in(open_image(path)) as disk:
        disk.read(0, 512)
    assert not isinstance(told.value, Damaged)
    assert "Fetch it again" not in str(told.value)
    assert "archive_p" not in str(told.value)
