"""Disks in files of their own format: written by hand after the specification, read without a difference, damaged."""

from __future__ import annotations

import random
import struct
import zlib

import pytest
from backports import zstd
from hypothesis import given, settings
from hypothesis import strategies as st

from mosscrate.core.blocks import MemoryBlocks
from mosscrate.core.contents import survey
from mosscrate.core.errors import FormatError, MediumError
from mosscrate.core.images import disk_in, open_image
from mosscrate.core.images.vhd import FOOTER, HEADER, open_vhd
from mosscrate.core.images.vhd_making import geometry
from mosscrate.core.sheet.running.converting import Conversion, convert_to
from mosscrate.core.slots import Shelf
from mosscrate.core.watch import Watch
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
    with pytest.raises(MediumError, match="is a disk in a file \\(VHD\\): it is read here and not changed"):
        medium.open_for_guard()
    assert path.read_bytes() == written


def qcow2(data: bytes, seed: int, *, version: int = 3, bits: int = 12, extended: bool = False, behind: bytes = b"",
          name: str = "", packing: int = 0) -> tuple[bytes, bytes]:
    """A file whose clusters are nowhere, zeros, as they are or packed, in any order, and what it must read as."""
    rnd, cluster, shown = random.Random(seed), 1 << bits, bytearray(data)
    per = cluster // (16 if extended else 8)
    count = -(-len(data) // cluster)
    tables, file = -(-count // per), bytearray(cluster)              # the header has a cluster of its own
    if name:
        file[512:512 + len(name)] = name.encode()
    l1_at, l2_at = cluster, cluster + -(-8 * tables // cluster) * cluster
    file.extend(bytes(l2_at - cluster + tables * cluster))

    def entry(number: int, one: int, two: int = 0) -> None:
        at = l2_at + number // per * cluster + number % per * (16 if extended else 8)
        struct.pack_into(">Q", file, at, one)
        if extended:
            struct.pack_into(">Q", file, at + 8, two)

    def old(start: int, end: int) -> bytes:
        return behind[start:end].ljust(end - start, b"\0")

    for number in rnd.sample(range(count), count):
        start, end = number * cluster, min((number + 1) * cluster, len(data))
        piece = data[start:end].ljust(cluster, b"\x66")
        way = rnd.choice(("nowhere", "zeros", "plain", "plain", "packed"))
        if way == "nowhere":
            shown[start:end] = old(start, end)
        elif way == "zeros" and version == 3:
            entry(number, *((0, 0xFFFFFFFF << 32) if extended else (1,)))
            shown[start:end] = bytes(end - start)
        elif way == "packed":
            packer = zlib.compressobj(9, zlib.DEFLATED, -12)
            packed = zstd.compress(piece) if packing else packer.compress(piece) + packer.flush()
            at = len(file)
            file.extend(packed)
            sectors = (at + len(packed) - 1) // 512 - at // 512
            entry(number, 1 << 62 | sectors << 62 - (bits - 8) | at)
        else:
            file.extend(bytes(-len(file) % cluster))
            at, there, zeros = len(file), 0xFFFFFFFF, 0
            if extended:
                there, part = rnd.getrandbits(32), cluster // 32
                zeros = rnd.getrandbits(32) & ~there
                for k in range(32):
                    a, b = start + k * part, min(start + (k + 1) * part, len(data))
                    if a < b and not there >> k & 1:
                        shown[a:b] = bytes(b - a) if zeros >> k & 1 else old(a, b)
            entry(number, 1 << 63 | at, zeros << 32 | there)
            file.extend(piece)
    file.extend(bytes(-len(file) % 512))
    for k in range(tables):
        struct.pack_into(">Q", file, l1_at + 8 * k, 1 << 63 | l2_at + k * cluster)
    struct.pack_into(">4sIQIIQIIQQIIQ", file, 0, b"QFI\xfb", version, 512 if name else 0, len(name), bits, len(data), 0,
                     tables, l1_at, 0, 0, 0, 0)
    if version == 3:
        features = (16 if extended else 0) | (8 if packing else 0)
        struct.pack_into(">QQQIIB", file, 72, features, 0, 0, 4, 112 if packing else 104, packing)
    return bytes(file), bytes(shown)


@given(st.integers(0, 2**32), st.integers(1, 60), st.sampled_from([
    (2, 12, False, 0), (3, 12, False, 0), (3, 12, False, 1), (3, 9, False, 0), (3, 16, True, 0), (3, 14, True, 1)]))
@settings(max_examples=60, deadline=None)
def test_a_qcow2_disk_is_read_as_a_second_writer_meant_it(seed, clusters, shape):
    version, bits, extended, packing = shape
    data = random.Random(seed).randbytes((clusters << bits) - 512 * (seed % 2) * (bits > 9))
    written, shown = qcow2(data, seed, version=version, bits=bits, extended=extended, packing=packing)
    disk = disk_in(MemoryBlocks(written))
    assert (disk.container, disk.read(0, disk.size) == shown) == ("qcow2", True)
    rnd = random.Random(seed)
    for _ in range(5):
        at = rnd.randrange(disk.size)
        count = rnd.randrange(1, disk.size - at + 1)
        assert disk.read(at, count) == shown[at:at + count]
    extents = list(disk.extents())
    assert [e.start for e in extents] == [0, *(e.end for e in extents[:-1])]
    assert extents[-1].end == disk.size
    assert not any(any(shown[e.start:e.end]) for e in extents if e.is_hole)


@pytest.mark.parametrize("extended", [False, True])
def test_what_is_nowhere_is_read_from_the_file_that_lies_beside_it(tmp_path, extended):
    behind = random.Random(1).randbytes(40 << 14)
    (tmp_path / "base.img").write_bytes(behind)
    written, shown = qcow2(random.Random(2).randbytes(50 << 14), 2, bits=14, extended=extended, behind=behind,
                           name="base.img")
    (tmp_path / "later.qcow2").write_bytes(written)
    with disk_in(open_image(tmp_path / "later.qcow2")) as disk:
        assert disk.read(0, disk.size) == shown
    (tmp_path / "base.img").unlink()
    with pytest.raises(MediumError, match=r"“base\.img” in the same folder"):
        disk_in(open_image(tmp_path / "later.qcow2"))


@pytest.mark.parametrize("says", [b"vpc", b""])
@pytest.mark.parametrize("version", [2, 3])
def test_a_base_is_read_as_the_kind_that_it_is_said_to_be(tmp_path, says, version):
    behind = random.Random(1).randbytes(40 << 14)
    (tmp_path / "base.vhd").write_bytes(fixed(behind))
    written, shown = qcow2(random.Random(2).randbytes(50 << 14), 2, bits=14, version=version, behind=behind,
                           name="base.vhd")
    head = bytearray(written)
    if says:
        at = struct.unpack_from(">I", head, 100)[0] if version == 3 else 72
        struct.pack_into(">II3s", head, at, 0xE2792ACA, 3, says)
    (tmp_path / "later.qcow2").write_bytes(head)
    with disk_in(open_image(tmp_path / "later.qcow2")) as disk:
        assert disk.read(0, disk.size) == shown
    if says:
        struct.pack_into(">II4s", head, at, 0xE2792ACA, 4, b"odd!")
        (tmp_path / "later.qcow2").write_bytes(head)
        with pytest.raises(MediumError, match="a base of a kind that is read here"):
            disk_in(open_image(tmp_path / "later.qcow2"))


@pytest.mark.parametrize(("at", "value", "said"), [
    (32, struct.pack(">I", 1), "not encrypted"), (72, struct.pack(">Q", 4), "its data lie in another file"),
    (72, struct.pack(">Q", 1 << 40), "feature 40"),
    (72, struct.pack(">QQQIIB", 8, 0, 0, 4, 112, 9), "kind 9"), (4, struct.pack(">I", 7), "version"),
    (36, struct.pack(">I", 0), "a table that covers the disk"), (24, struct.pack(">Q", 1 << 50), "covers the disk")])
def test_what_cannot_be_read_in_a_qcow2_file_is_named(at, value, said):
    written, _ = qcow2(bytes(1 << 16), 1)
    with pytest.raises(MediumError, match=said):
        disk_in(MemoryBlocks(written[:at] + value + written[at + len(value):]))


@pytest.mark.parametrize("seed", range(40))
def test_a_damaged_qcow2_file_is_read_or_refused(seed):
    rnd = random.Random(seed)
    written, _ = qcow2(rnd.randbytes(30 << 12), seed, extended=bool(seed % 2), bits=14 if seed % 2 else 12)
    for _ in range(40):
        bad = bytearray(written[:rnd.choice((len(written), rnd.randrange(len(written))))] or b"x")
        for _ in range(rnd.choice((1, 3, 20))):
            bad[min(len(bad) - 1, rnd.choice((rnd.randrange(120), rnd.randrange(len(bad)))))] = rnd.randrange(256)
        try:
            disk = disk_in(MemoryBlocks(bytes(bad)))
            disk.read(0, min(disk.size, MIB))
            list(disk.extents())
        except (FormatError, MediumError):
            continue


@pytest.mark.parametrize("kind", ["vhd", "vhd-fixed"])
def test_a_disk_is_put_into_a_vhd_file_and_found_there_again(tmp_path, kind):
    card = handheld(40 * MIB)
    said = convert_to(tmp_path / "Pipkin.vhd", card, Conversion(kind=kind), Watch())
    assert said.endswith("read back and equal.")
    raw = (tmp_path / "Pipkin.vhd").read_bytes()
    assert (len(raw) < 12 * MIB) == (kind == "vhd")
    end = raw[-512:]
    assert (end[:8], summed(end, 64)) == (b"conectix", end)
    cylinders, heads, sectors = struct.unpack(">HBB", end[56:60])
    assert (heads, sectors) == (5, 17)                              # worked out by hand after the appendix
    assert 0 <= card.size // 512 - cylinders * heads * sectors < heads * sectors
    with disk_in(open_image(tmp_path / "Pipkin.vhd")) as disk:
        assert disk.read(0, disk.size) == bytes(card.data)


@pytest.mark.parametrize(("sectors", "wanted"), [
    (20480, (301, 4, 17)), (4 * 1024 * 17 - 1, (1023, 4, 17)), (4 * 1024 * 17, (140, 16, 31)),
    (1_000_000, (992, 16, 63)), (8_388_608, (8322, 16, 63)),
    (65535 * 16 * 63, (16191, 16, 255)), (2**32, (65535, 16, 255))])
def test_geometries_are_those_of_the_appendix(sectors, wanted):
    assert geometry(sectors) == wanted
