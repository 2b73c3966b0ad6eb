"""Disks in files of their own format: written by hand after the specification, read without a difference, damaged."""

from __future__ import annotations

import random
import struct

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from mosscrate.core.blocks import MemoryBlocks
from mosscrate.core.contents import survey
from mosscrate.core.errors import FormatError, MediumError
from mosscrate.core.images import disk_in
from mosscrate.core.images.vhd import FOOTER, HEADER, open_vhd
from mosscrate.core.slots import Shelf
from tests.cards import MIB, handheld

BLOCK = 1 << 16


def summed(record: bytes, at: int) -> bytes:
    total = sum(record[:at]) + sum(record[at + 4:])
    return record[:at] + struct.pack(">I", ~total & 0xFFFFFFFF) + record[at + 4:]


def footer(size: int, kind: int, data_offset: int) -> bytes:
    """A footer field by field, as the specification lists them."""
    return summed(struct.pack(">8sIIQI4sI4sQQHBBII16sB427s", b"conectix", 2, 0x10000, data_offset, 0, b"hand", 1,
                              b"test", size, size, 100, 16, 63, kind, 0, bytes(16), 0, bytes(427)), 64)


def fixed(data: bytes) -> bytes:
    return data + footer(len(data), 2, 2**64 - 1)


def dynamic(data: bytes, seed: int, *, absent: float = 0.4, unwritten: float = 0.2) -> tuple[bytes, bytes]:
    """A file with blocks in any order, and what it must read as: blocks and sectors may be missing."""
    rnd, size = random.Random(seed), len(data)
    count = -(-size // BLOCK)
    shown = bytearray(data)
    table, bitmap = [0xFFFFFFFF] * count, -(-BLOCK // 512 // 8 // 512) * 512
    at = 512 + 1024 + -(-4 * count // 512) * 512
    blocks = b""
    for number in rnd.sample(range(count), count):
        start, end = number * BLOCK, min((number + 1) * BLOCK, size)
        if rnd.random() < absent:
            shown[start:end] = bytes(end - start)
            continue
        bits = bytearray(b"\xff" * bitmap)
        for sector in range(BLOCK // 512):
            if rnd.random() < unwritten:
                bits[sector // 8] &= ~(0x80 >> sector % 8)
                first = start + sector * 512
                if first < end:
                    shown[first:first + 512] = bytes(512)
        table[number] = (at + len(blocks)) // 512
        blocks += bytes(bits) + data[start:end].ljust(BLOCK, b"\x77")
    header = summed(struct.pack(">8sQQIIII16sII512s192s256s", b"cxsparse", 2**64 - 1, 1536, 0x10000, count, BLOCK, 0,
                                bytes(16), 0, 0, bytes(512), bytes(192), bytes(256)), 36)
    listed = struct.pack(f">{count}I", *table).ljust(-(-4 * count // 512) * 512, b"\xff")
    end = footer(size, 3, 512)
    return end + header + listed + blocks + end, bytes(shown)


def test_structures_have_the_sizes_of_the_specification():
    assert (FOOTER.itemsize, HEADER.itemsize) == (512, 1024)
    assert [FOOTER.fields[f][1] for f in ("current_size", "disk_type", "checksum")] == [48, 60, 64]


def test_a_fixed_disk_is_what_stands_in_front_of_its_footer():
    card = handheld(40 * MIB)
    disk = disk_in(MemoryBlocks(fixed(bytes(card.data))))
    assert (disk.container, disk.size, disk.read(0, disk.size)) == ("vhd", card.size, bytes(card.data))
    assert [p.name for p in survey(disk).partitions] == ["PEAT", "GAMES"]
    with pytest.raises(MediumError, match="reading only"):
        disk.write(0, b"x")


@given(st.integers(0, 2**32), st.integers(1, 40), st.lists(st.tuples(st.integers(0, 2**20), st.integers(1, 90_000)),
                                                           max_size=6))
@settings(max_examples=40, deadline=None)
def test_a_dynamic_disk_is_read_as_a_second_writer_meant_it(seed, blocks, places):
    data = random.Random(seed).randbytes(blocks * BLOCK - 512 * (seed % 7))
    written, shown = dynamic(data, seed)
    disk = disk_in(MemoryBlocks(written))
    assert disk.read(0, disk.size) == shown
    for at, count in places:
        at %= disk.size
        assert disk.read(at, min(count, disk.size - at)) == shown[at:at + count]
    extents = list(disk.extents())
    assert [e.start for e in extents] == [0, *(e.end for e in extents[:-1])]
    assert extents[-1].end == disk.size
    assert not any(any(shown[e.start:e.end]) for e in extents if e.is_hole)


@pytest.mark.parametrize("seed", range(40))
def test_a_damaged_container_is_read_or_refused(seed):
    rnd = random.Random(seed)
    written, _ = dynamic(rnd.randbytes(9 * BLOCK), seed)
    for _ in range(40):
        bad = bytearray(written[:rnd.choice((len(written), rnd.randrange(len(written))))] or b"x")
        for _ in range(rnd.choice((1, 3, 20))):
            bad[min(len(bad) - 1, rnd.choice((rnd.randrange(2048), rnd.randrange(len(bad)))))] = rnd.randrange(256)
        if rnd.random() < 0.5 and len(bad) > 1536:                # a lie that is sealed
            bad[512:1536] = summed(bytes(bad[512:1536]), 36)
            bad[:512] = summed(bytes(bad[:512]), 64)
        try:
            disk = open_vhd(MemoryBlocks(bytes(bad)))
            assert disk.size < 2**64
            disk.read(0, min(disk.size, MIB))
            list(disk.extents())
        except (FormatError, MediumError):
            continue


def test_a_differing_disk_and_one_that_is_cut_short_are_named():
    with pytest.raises(MediumError, match="only holds what differs"):
        disk_in(MemoryBlocks(bytes(1024) + footer(1024, 4, 0)))
    whole, _ = dynamic(bytes(BLOCK), 1, absent=0)
    with pytest.raises(MediumError, match="lie outside"):
        disk_in(MemoryBlocks(whole[:-BLOCK])).read(0, BLOCK)


def test_a_contained_disk_is_a_medium_that_is_read_kept_and_never_written(tmp_path, bench):
    card = handheld(40 * MIB)
    path = tmp_path / "Pipkin.vhd"
    written, _ = dynamic(bytes(card.data), 3, absent=0, unwritten=0)
    path.write_bytes(written)
    medium = Shelf(bench.shelf.simulated_folder).find(str(path))
    assert (medium.size, medium.is_write_protected, medium.reader) == (card.size, True, "VHD image file")
    with medium.open() as disk:
        assert disk.read(0, disk.size) == bytes(card.data)
    with pytest.raises(MediumError, match="is a disk in a VHD file: it is read here and not changed"):
        medium.open_for_guard()
    assert path.read_bytes() == written
