"""Where the bytes of a file lie, for every kind: read by place, read from the middle, read whole."""

from __future__ import annotations

import random
import subprocess
from itertools import pairwise
from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from mosscrate.core.blocks import open_blocks
from mosscrate.core.volumes import Kind, Traits, edit, open_volume
from tests.core.volumes.test_hfs import a_volume
from tests.volumes import KINDS, MIB, WHEN, worked_on


def is_read_alike(blocks, rnd: random.Random) -> dict[str, bytes]:
    """The files of a volume, each read in three ways that must agree."""
    volume, files = open_volume(blocks), {}
    for entry in volume.tree().entries:
        if entry.kind != Kind.FILE:
            assert volume.read_at(entry, 0, 9) == b""
            continue
        whole = files[entry.path] = b"".join(volume.read_file(entry))
        placed, pieces = bytearray(entry.size), volume.pieces_of(entry)
        for logical, place, length in pieces.tolist():
            placed[logical:logical + length] = volume.blocks.read(place, length)
        assert (placed, entry.size) == (whole, len(whole))
        assert (pieces["logical"][1:] >= (pieces["logical"] + pieces["length"])[:-1]).all()
        for _ in range(6):
            at, count = rnd.randrange(entry.size + 3), rnd.randrange(entry.size + 3)
            assert volume.read_at(entry, at, count) == whole[at:at + count]
    return files


@settings(max_examples=25)
@given(st.sampled_from(KINDS), st.integers(0, 10**6))
def test_pieces_and_stretches_are_the_file(kind, seed):
    blocks, model = worked_on(kind, seed, operations=100)
    files = is_read_alike(blocks, random.Random(seed))
    assert files == {p: v for p, v in model.entries.items() if isinstance(v, bytes)}


@pytest.mark.parametrize("kind", [k for k in KINDS if k != "fat12"])
def test_a_file_that_goes_on_behind_its_data_ends_in_zeros(kind):
    blocks, _ = worked_on(kind, 3, operations=50)
    volume = open_volume(blocks)
    free = [(a.end, b.start) for a, b in pairwise(volume.used_extents())]
    for start, end in free:                                            # what lies in free room must not come out
        blocks.data[start:end] = b"\xa5" * (end - start)
    editor = edit(blocks)
    editor.add_file("Long.bin", b"moss" * 700, Traits(WHEN), size=150_001)
    editor.commit()
    assert is_read_alike(blocks, random.Random(3))["Long.bin"] == (b"moss" * 700).ljust(150_001, b"\0")


def test_the_data_fork_of_hfs_is_read_by_place_too():
    assert is_read_alike(a_volume(), random.Random(1))["Songs/First"] == b"la" * 3000


def test_holes_unwritten_room_and_data_within_the_inode(tmp_path: Path):
    source, image = tmp_path / "source", tmp_path / "volume"
    source.mkdir()
    (source / "short").write_bytes(b"within the inode")
    (source / "longer").write_bytes(bytes(range(100)))
    with (source / "holes").open("wb") as file:
        for at in (0, 70_000, 5 * MIB):
            file.seek(at)
            file.write(b"an island" * 90)
        file.truncate(6 * MIB + 5)
    subprocess.run(["mke2fs", "-q", "-t", "ext4", "-O", "inline_data", "-d", source, image, "32M"], check=True)
    for request in ("fallocate holes 600 700", f"set_inode_field holes size {6 * MIB + 5}"):
        subprocess.run(["debugfs", "-w", "-R", request, image], check=True, capture_output=True)
    with open_blocks(image) as blocks:
        files = is_read_alike(blocks, random.Random(2))
        assert files == {p.name: p.read_bytes() for p in source.iterdir()}
        volume = open_volume(blocks)
        assert [len(volume.pieces_of(volume.tree().find(n))) for n in ("short", "longer")] == [1, 2]

