"""Blocks and their views against plain bytes; streaming over holes, zeros and bad sectors."""

from __future__ import annotations

import fcntl
import mmap
import os
import random
import threading

import pytest
from blake3 import blake3
from hypothesis import given
from hypothesis import strategies as st

from mosscrate.core.blocks import MemoryBlocks, Overlay, Window, create_image, open_blocks
from mosscrate.core.blocks.faulty import Bad, Faults, FaultyBlocks
from mosscrate.core.blocks.streaming import BLOCK, chunks, copy, digest, reads_back
from mosscrate.core.blocks.witnesses import Witnesses
from mosscrate.core.errors import MediumError, Stopped
from mosscrate.core.watch import Watch
from tests.loops import loop, needs_root

SIZE = 300_000
operations = st.lists(st.tuples(st.sampled_from(["write", "zero"]), st.integers(0, SIZE - 1),
                                st.integers(1, 150_000)), max_size=12)


@given(operations, st.integers(0, SIZE - 1), st.integers(0, SIZE))
def test_overlay_reads_what_was_written_and_leaves_the_medium_alone(steps, at, length):
    original = bytes(k * 7 % 251 for k in range(SIZE))
    below, model = MemoryBlocks(original), bytearray(original)
    with Overlay(below) as overlay:
        for number, (kind, start, count) in enumerate(steps):
            count = min(count, SIZE - start)
            if kind == "write":
                data = bytes([number + 1]) * count
                overlay.write(start, data)
                model[start:start + count] = data
            else:
                overlay.zero(start, count)
                model[start:start + count] = bytes(count)
        length = min(length, SIZE - at)
        assert overlay.read(at, length) == model[at:at + length]
        assert overlay.read(0, SIZE) == model
        holes = [e for e in overlay.extents() if e.is_hole]
        assert all(not any(model[e.start:e.end]) for e in holes)
    assert bytes(below.data) == original


def test_nothing_leaves_its_window():
    blocks = MemoryBlocks(bytes(1000))
    window = Window(blocks, 100, 200)
    window.write(0, b"x" * 200)
    assert bytes(blocks.data) == bytes(100) + b"x" * 200 + bytes(700)
    for access in (lambda: window.read(1, 200), lambda: window.write(199, b"ab"), lambda: window.zero(0, 201),
                   lambda: window.read(-1, 2), lambda: Window(blocks, 900, 101)):
        with pytest.raises(MediumError):
            access()


def test_a_sparse_file_is_copied_without_its_holes_and_hashed_with_them(tmp_path):
    size = 3 * BLOCK + 12345
    with create_image(tmp_path / "a", size) as source, create_image(tmp_path / "b", size) as target:
        for at, data in ((0, b"head"), (BLOCK + 70_000, b"x" * 200_000), (size - 5, b"tail!")):
            source.write(at, data)
        copied = copy(source, target, size, Watch(), phase="copy")
        assert target.read(0, size) == source.read(0, size)
        assert copied.digest == blake3(source.read(0, size)).hexdigest() == digest(target, size, Watch(), phase="")
        assert copied.written < 600_000
        assert sum(e.length for e in target.extents() if not e.is_hole) < 900_000


def test_zeros_overwrite_what_was_there_when_asked():
    source, target = MemoryBlocks(bytes(BLOCK) + b"end"), MemoryBlocks(b"\xff" * (BLOCK + 3))
    copy(source, target, source.size, Watch(), phase="", zeros=target.zero)
    assert target.data == source.data


@pytest.mark.parametrize("at", [7, BLOCK + 9, 2 * BLOCK + 1, 3 * BLOCK + 99])
def test_a_copy_is_read_back_equal_and_any_other_byte_is_seen(at, tmp_path):
    data = bytearray(3 * BLOCK + 100)                     # filled, empty, filled, a little
    data[:5000], data[2 * BLOCK:2 * BLOCK + 3], data[-2:] = b"a" * 5000, b"xyz", b"zz"
    for target in (MemoryBlocks(b"\xff" * len(data)), create_image(tmp_path / "card.img", len(data))):
        marks = {}
        copy(MemoryBlocks(data), target, len(data), Watch(), phase="", zeros=target.zero, marks=marks)
        assert sorted(marks) == [0, 2 * BLOCK, 3 * BLOCK]
        assert reads_back(target, len(data), marks, Watch(), phase="")
        target.write(at, bytes([data[at] ^ 1]))
        assert not reads_back(target, len(data), marks, Watch(), phase="")


@given(st.sets(st.integers(0, 2047), min_size=1, max_size=6))
def test_what_cannot_be_read_is_named_by_the_sector_and_the_rest_is_kept(sectors):
    data = bytes(range(1, 256)) * 4113
    blocks = MemoryBlocks(data[:2048 * 512])
    bad = FaultyBlocks(blocks, Faults(bad=tuple(Bad(s * 512, 512) for s in sectors)))
    target = MemoryBlocks(bytes(blocks.size))
    copied = copy(bad, target, blocks.size, Watch(), phase="", mend=True)
    named = {s for e in copied.unreadable for s in range(e.start // 512, e.end // 512)}
    assert named == sectors
    for s in range(2048):
        want = bytes(512) if s in sectors else bytes(blocks.data[s * 512:s * 512 + 512])
        assert target.data[s * 512:s * 512 + 512] == want
    with pytest.raises(MediumError, match="cannot be read at byte"):
        copy(bad, target, blocks.size, Watch(), phase="")


def test_a_card_that_is_pulled_is_not_one_that_cannot_be_read():
    card = FaultyBlocks(MemoryBlocks(bytes(5 * BLOCK)), Faults(bad=(Bad(BLOCK, 512),), dies_after=3 * BLOCK + 4096))
    target = MemoryBlocks(bytes(5 * BLOCK))
    with pytest.raises(MediumError, match="does not answer any more"):
        copy(card, target, card.size, Watch(), phase="Copying", mend=True)


def test_a_card_that_never_answers_is_not_read_to_its_end():
    card = FaultyBlocks(MemoryBlocks(bytes(40 * BLOCK)), Faults(bad=(Bad(0, 40 * BLOCK),)))
    asked = []
    with pytest.raises(MediumError):
        for chunk in chunks(card, card.size, mend=True):
            asked.append(chunk)
    assert len(asked) < 20
    card.faults = Faults(bad=tuple(Bad(k * BLOCK, 512) for k in range(40)))
    assert sum(len(chunk.unreadable) for chunk in chunks(card, card.size, mend=True)) == 40


def test_a_card_is_there_as_long_as_one_place_of_several_answers():
    card = FaultyBlocks(MemoryBlocks(bytes(256 << 20)), Faults())
    witnesses = Witnesses(card)
    assert witnesses.is_there()
    for at in range(0, card.size, 4 << 20):
        witnesses.saw(at)
    card.faults = Faults(bad=(Bad(card.size - (20 << 20), 20 << 20),))
    assert witnesses.is_there()
    card.faults = Faults(bad=(Bad(0, card.size),))
    assert not witnesses.is_there()


def test_a_stop_ends_between_two_blocks_and_leaves_no_thread():
    source, target = MemoryBlocks(b"x" * (4 * BLOCK)), MemoryBlocks(bytes(4 * BLOCK))
    seen = []
    with pytest.raises(Stopped):
        copy(source, target, source.size, Watch(seen.append, lambda: len(seen) >= 2), phase="copy")
    assert [p.done for p in seen] == [BLOCK, 2 * BLOCK]
    assert not [t for t in threading.enumerate() if t.name.startswith(("read-ahead", "hash"))]


def test_a_medium_opened_for_reading_refuses_to_be_written(tmp_path):
    create_image(tmp_path / "a", 4096).close()
    with open_blocks(tmp_path / "a") as blocks, pytest.raises(MediumError, match="for reading only"):
        blocks.write(0, b"x")
    with pytest.raises(MediumError, match="no such file"):
        open_blocks(tmp_path / "nothing")


@needs_root
def test_direct_reading_gives_the_same_bytes_at_any_place(tmp_path):
    image = tmp_path / "card.img"
    image.write_bytes(random.Random(8).randbytes(3 << 20))
    with loop(image) as device, open_blocks(device) as card, open_blocks(image) as truth:
        card.read_directly()
        assert fcntl.fcntl(card.fd, fcntl.F_GETFL) & os.O_DIRECT
        for start, length in ((0, 512), (1, 511), (100, 5), (513, 3000), (4096, 4096), (700, (2 << 20) + 11)):
            assert card.read(start, length) == truth.read(start, length)
        for aligned in (memoryview(mmap.mmap(-1, 1 << 20)), memoryview(bytearray((1 << 20) + 1))[1:]):
            card.read_into(512, aligned)
            assert aligned == truth.read(512, 1 << 20)
