"""The crate's store: every used byte comes back, equal files are kept once, and what is listed is there."""

from __future__ import annotations

import random

import numpy as np
import pytest

from mosscrate.core.blocks import MemoryBlocks, Window
from mosscrate.core.contents import survey
from mosscrate.core.contents.survey import open_partition
from mosscrate.core.crate import CardRecord, Crate
from mosscrate.core.maps import MapKind, edits, write_map
from mosscrate.core.volumes import Making, edit, format_for, open_volume
from mosscrate.core.watch import Watch
from tests.volumes import KINDS, ROOM, Model

MIB = 1 << 20


def card_with(kind: str, seed: int, *, block: int | None = None, acts: int = 120) -> MemoryBlocks:
    """A card with one volume on which many things were made and removed; free room holds old bytes."""
    rnd = random.Random(seed)
    size = ROOM[kind] + 4 * MIB
    blocks = MemoryBlocks(rnd.randbytes(size), name="Pipkin")
    blocks.write(0, bytes(MIB))
    is_rdb = kind.startswith(("ofs", "ffs"))
    map_ = edits.new_map(MapKind.RDB if is_rdb else MapKind.MBR, size, 512)
    map_, partition = edits.added(map_, size, start=None, length=None, kind=kind)
    write_map(blocks, map_)
    volume = Window(blocks, partition.start, partition.length)
    default = 512 if kind.startswith(("fat", "ofs", "ffs")) else 1024
    format_for(kind).make(volume, Making(kind, "GAMES", block or default, made=1_600_000_000))
    model = Model(kind)
    editor = edit(volume)
    for _ in range(acts):
        model.step(editor, rnd)
    editor.commit()
    return blocks


def record(blocks, key: str = "key") -> CardRecord:
    return CardRecord("Pipkin", key, "ABCD", blocks.size)


def files_of(blocks, index: int = 1) -> dict[str, bytes]:
    volume = open_partition(blocks, index)
    return {e.path: b"".join(volume.read_file(e)) for e in volume.tree().entries if e.kind == "file"}


@pytest.mark.parametrize("kind", KINDS)
def test_every_used_byte_comes_back_and_free_room_is_zeros(kind, tmp_path):
    crate, blocks = Crate(tmp_path), card_with(kind, 3)
    backup = crate.keep(record(blocks), blocks, Watch())
    look = survey(blocks).partitions[0]
    with backup.open() as kept:
        assert files_of(kept) == files_of(blocks)
        assert kept.read(0, look.partition.start) == blocks.read(0, look.partition.start)
        volume = open_volume(Window(blocks, look.partition.start, look.partition.length))
        used = np.zeros(blocks.size, bool)
        for extent in volume.used_extents():
            used[look.partition.start + extent.start:look.partition.start + extent.end] = True
        free = ~used
        free[:look.partition.start], free[look.partition.start + volume.size:] = False, False
        back = np.frombuffer(kept.read(0, kept.size), np.uint8)
        assert not back[free].any(), "what is free is zeros"
        differing = np.flatnonzero(back != np.frombuffer(blocks.data, np.uint8))
        slack = differing[used[differing]]
        assert not back[slack].any(), "only slack is not kept, and it is zeros"
        assert {d for d in slack.tolist()} <= slack_of(volume, look.partition.start)
    crate.check(backup, Watch())


def slack_of(volume, start: int) -> set[int]:
    found = set()
    for entry in volume.tree().entries:
        if entry.kind == "file":
            rows = volume.pieces_of(entry)
            end = int((rows["place"] + rows["length"])[-1]) if len(rows) else None
            for extent in volume.extents_of(entry) if not volume.kind.startswith("ext") else ():
                first = end if end is not None and extent.start < end <= extent.end else \
                    extent.start if end is None or extent.start >= end else extent.end
                found |= set(range(start + first, start + extent.end))
            if volume.kind.startswith("ext") and end is not None:
                found |= set(range(start + end, start + -(-end // volume.block) * volume.block))
    return found
