"""Disks saved in every kind of file and read back; drive files cut, damaged, and put onto a card again."""

from __future__ import annotations

import random
import struct
import subprocess
import sys
from contextlib import suppress

import numpy as np
import pytest
from blake3 import blake3

from mosscrate.core.blocks import Extent, MemoryBlocks
from mosscrate.core.blocks.blanked import Blanked
from mosscrate.core.contents import describe, survey
from mosscrate.core.contents.survey import open_partition
from mosscrate.core.contents.unpacking import suppose_size
from mosscrate.core.contents.used import used_only
from mosscrate.core.durable import PART
from mosscrate.core.errors import Damaged, FitError, MossError
from mosscrate.core.images import disk_in, open_image
from mosscrate.core.images.drive_file import CHUNK, END, HEADER, INDEX, DriveFile
from mosscrate.core.images.making import KEYS, KINDS
from mosscrate.core.images.qcow2 import HEADER_3
from mosscrate.core.sheet.running import run as running
from mosscrate.core.sheet.running.converting import Conversion, convert_to
from mosscrate.core.sheet.sheet import JobSheet, reference
from mosscrate.core.sheet.steps import WriteImage
from mosscrate.core.watch import Watch
from tests.cards import MIB, contents, handheld, put_card
from tests.core.maps.test_rdb import drive as rdb_drive

SIZE = 44 * MIB


def litter(card: MemoryBlocks) -> MemoryBlocks:
    """Something in the free room of its last volume."""
    window = open_partition(card, 2).blocks
    free = window.size - 3 * MIB
    window.write(free, b"left over " * 9000)
    return card


@pytest.fixture(scope="module")
def card() -> bytes:
    return bytes(litter(handheld(SIZE)).data)


@pytest.mark.parametrize("key", KEYS)
def test_a_disk_is_saved_and_read_back_the_same(key, card, tmp_path):
    for k, used in enumerate((False, True)):
        path = tmp_path / f"card{k}.{key}"
        said = convert_to(path, MemoryBlocks(card), Conversion(kind=key, used_only=used), Watch())
        assert "read back and equal" in said
        with disk_in(open_image(path)) as disk:
            suppose_size(disk)
            assert disk.size == SIZE
            assert (disk.read(0, SIZE) == card) is not used
            assert contents(open_partition(disk, 2).blocks) == contents(open_partition(MemoryBlocks(card), 2).blocks)
            assert [f.sentence for f in survey(disk, thorough=True).findings if str(f.severity) == "problem"] == []
            if used:
                assert not any(b"left over" in disk.read(at, MIB) for at in range(0, SIZE, MIB))
        assert [p.name for p in tmp_path.iterdir() if p.name.endswith(PART)] == []


def test_every_kind_has_its_own_name_and_says_for_whom_it_is():
    assert len({kind.key for kind in KINDS}) == len({kind.words for kind in KINDS}) == len(KINDS)
    assert all(kind.for_whom and kind.suffix.startswith(".") for kind in KINDS)


def test_a_drive_file_keeps_geometry_layout_and_size_and_fills_a_card_again(bench, tmp_path):
    drive = rdb_drive()
    path = tmp_path / "Tarn.drive"
    convert_to(path, drive, Conversion(kind="drive"), Watch())
    with disk_in(open_image(path)) as disk:
        assert isinstance(disk, DriveFile)
        facts = disk.facts
        assert facts.heads * facts.sectors * facts.cylinders * 512 <= facts.size == drive.size
        assert (facts.heads > 0, facts.layout["map"]["kind"]) == (True, "rdb")
        assert facts.layout == describe(survey(drive))
        assert disk.digest == blake3(drive.data).hexdigest()
    convert_to(tmp_path / "Tarn.vhd", drive, Conversion(kind="vhd"), Watch())
    end = (tmp_path / "Tarn.vhd").read_bytes()[-512:]
    assert facts.heads <= 16
    assert struct.unpack(">HBB", end[56:60]) == (facts.cylinders, facts.heads, facts.sectors)     # as its map counts
    put_card(bench, "target", drive.size)
    source, target = bench.shelf.find(str(path)), bench.shelf.find("Target")
    sheet = JobSheet((WriteImage(verify=True),), reference(source), reference(target))
    running.run(sheet, bench, Watch(), typed_tag=target.tag)
    assert target.path.read_bytes() == bytes(drive.data)


def test_a_cut_drive_file_is_read_as_far_as_it_goes_and_never_written_as_if_it_were_whole(bench, tmp_path, card):
    path = tmp_path / "card.drive"
    convert_to(path, MemoryBlocks(card), Conversion(kind="drive"), Watch())
    whole = path.read_bytes()
    put_card(bench, "target", SIZE)
    for keep in (len(whole) * 2 // 3, len(whole) - 40):
        path.write_bytes(whole[:keep])
        with disk_in(open_image(path)) as disk:
            assert "cut short" in disk.lack
            assert disk.read(0, 4 * MIB) == card[:4 * MIB]
            layout = survey(disk)
            assert (layout.map_kind, layout.partition(1).volume.label) == ("mbr", "PEAT")
            assert any("cut short" in f.sentence for f in layout.findings)
            if keep < len(whole) - 100:
                with pytest.raises(Damaged, match=r"cut short.*are in it"):
                    disk.read(0, SIZE)
        source, target = bench.shelf.find(str(path)), bench.shelf.find("Target")
        with pytest.raises((FitError, Damaged), match="cut short"):
            sheet = JobSheet((WriteImage(),), reference(source), reference(target))
            running.run(sheet, bench, Watch(), typed_tag=target.tag)
        assert not any(target.path.read_bytes()[:MIB])


def test_a_damaged_chunk_is_named_and_the_others_are_read(tmp_path, card):
    path = tmp_path / "card.drive"
    convert_to(path, MemoryBlocks(card), Conversion(kind="drive"), Watch())
    data = bytearray(path.read_bytes())
    with disk_in(open_image(path)) as disk:
        row = disk._index_rows[disk._index_rows["kind"] != 0][2]
    data[int(row["offset"]) + CHUNK.itemsize + 9] ^= 1
    disk = disk_in(MemoryBlocks(bytes(data)))
    bad = int(row["number"]) * disk.piece
    with pytest.raises(Damaged, match=f"Chunk {row['number']} .*from byte {bad}"):
        disk.read(bad, 512)
    assert disk.read(0, 4096) == card[:4096]
    assert [part.itemsize for part in (HEADER, CHUNK, INDEX, END, HEADER_3)] == [64, 64, 32, 128, 104]


def test_a_drive_file_goes_through_a_pipe(tmp_path, card):
    (tmp_path / "card.img").write_bytes(card)
    command = [sys.executable, "-m", "mosscrate.cli", "convert", str(tmp_path / "card.img"), "-", "--to-kind"]
    for kind in ("drive", "zst"):
        piped = subprocess.run([*command, kind], capture_output=True, check=True,
                               env={"MOSSCRATE_STATE": str(tmp_path / "state"), "HOME": str(tmp_path),
                                    "PATH": "/usr/bin:/bin", "PYTHONPATH": ":".join(sys.path)})
        with disk_in(MemoryBlocks(piped.stdout)) as disk:
            assert disk.read(0, SIZE) == card
    failed = subprocess.run([*command, "vhd"], capture_output=True, check=False,
                            env={"MOSSCRATE_STATE": str(tmp_path / "state"), "HOME": str(tmp_path),
                                 "PATH": "/usr/bin:/bin", "PYTHONPATH": ":".join(sys.path)})
    assert (failed.returncode, b"cannot be written to a pipe" in failed.stderr) == (1, True)


@pytest.mark.parametrize("kind", ["drive", "qcow2", "qcow2-packed"])
def test_damaged_containers_of_ours_end_in_a_reading_or_a_sentence(kind, tmp_path):
    noise = np.random.default_rng(7).bytes(256 << 10)
    path = tmp_path / "card.file"
    disk = (bytes(MIB) + noise + b"text " * 90_000).ljust(5 * MIB, b"\0")
    convert_to(path, MemoryBlocks(disk), Conversion(kind=kind), Watch())
    whole, rnd = path.read_bytes(), random.Random(kind)
    for _ in range(150):
        data = bytearray(whole)
        for _ in range(rnd.choice((1, 3))):
            at = rnd.choice((rnd.randrange(200), rnd.randrange(len(data))))
            data[at:at + 4] = rnd.choice((rnd.randbytes(4), b"\xff" * 4, bytes(4)))
        del data[rnd.choice((len(data), len(data), rnd.randrange(len(data)))):]
        with suppress(MossError), disk_in(MemoryBlocks(bytes(data))) as disk:
            list(disk.extents())
            for at in range(0, min(disk.size, 16 * MIB), MIB):
                with suppress(MossError):
                    disk.read(at, min(MIB, disk.size - at))


def test_blanks_read_as_zeros_wherever_they_lie():
    rnd = random.Random(3)
    data = rnd.randbytes(4000)
    blanks = [Extent(10, 20), Extent(100, 1), Extent(512, 700), Extent(3990, 10)]
    wanted = bytearray(data)
    for blank in blanks:
        wanted[blank.start:blank.end] = bytes(blank.length)
    view = Blanked(MemoryBlocks(data), blanks)
    for _ in range(300):
        at = rnd.randrange(4000)
        length = rnd.randrange(4000 - at + 1)
        assert view.read(at, length) == wanted[at:at + length]
    assert [(e.start, e.end) for e in view.extents() if e.is_hole] == [(b.start, b.end) for b in blanks]
    assert sum(e.length for e in view.extents()) == 4000


def test_only_free_room_is_left_out(card):
    view = used_only(MemoryBlocks(card), survey(MemoryBlocks(card)))
    for index in (1, 2):
        volume, old = open_partition(view, index), open_partition(MemoryBlocks(card), index)
        for used in old.used_extents():
            assert volume.blocks.read(used.start, used.length) == old.blocks.read(used.start, used.length)
