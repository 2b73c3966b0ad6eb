"""A volume whose tables and files contradict one another is not changed; what can be mended is, the rest is named."""

from __future__ import annotations

import random

import numpy as np
import pytest

from mosscrate.core import volumes
from mosscrate.core.blocks import MemoryBlocks, Window
from mosscrate.core.contents import survey
from mosscrate.core.contents.survey import open_partition
from mosscrate.core.errors import FitError, Unsound
from mosscrate.core.sheet import steps as s
from mosscrate.core.sheet.planning.forecasting import forecast
from mosscrate.core.sheet.running.performing import perform
from mosscrate.core.sheet.sheet import JobSheet
from mosscrate.core.volumes import Kind, edit, open_volume, why_unsound
from mosscrate.core.volumes.clusters import END, FREE
from mosscrate.core.volumes.ext.allocation import Bitmaps
from mosscrate.core.volumes.fat.table import encode, head_of
from mosscrate.core.watch import Watch
from tests.core.sheet.test_steps import card, put_in, trees
from tests.journals import cut_short, taken_back
from tests.volumes import KINDS, MIB, fresh, worked_on

CHANGES = (s.MakeFolder(0, "new"), s.ShrinkPartition(0), s.RebuildPartition(0), s.RemoveFiles(0, ("a.bin",)),
           s.LabelPartition(0, "OTHER"), s.GrowPartition(0))


def filled(kind: str) -> MemoryBlocks:
    """Three files of many clusters each, in a volume that leaves room to grow."""
    made, rnd = fresh(kind), random.Random(5)
    whole = MemoryBlocks(bytes(made.data) + bytes(0 if kind.startswith(("ofs", "ffs")) else made.size))
    blocks = Window(whole, 0, made.size)
    put_in(blocks, {f"{name}.bin": rnd.randbytes(60_000) for name in "abc"})
    return whole


def set_table(blocks, edit_table) -> None:
    volume = open_volume(blocks)
    table = volume.table.copy()
    edit_table(table, {e.path[0]: e.node for e in volume.tree().entries if e.kind == Kind.FILE})
    raw = encode(table, volume.geometry.type, head=head_of(blocks, volume.geometry))
    for copy in range(volume.geometry.fat_count):
        blocks.write(volume.geometry.fat_offset(copy), raw)


def crossed(table, heads) -> None:
    table[heads["a"] + 2] = heads["b"] + 3


def looping(table, heads) -> None:
    table[heads["a"] + 5] = heads["a"] + 1


def into_free(table, heads) -> None:
    table[heads["c"] + 4] = FREE


def headless(table, heads) -> None:
    table[heads["b"]] = FREE


def outside(table, heads) -> None:
    table[heads["b"] + 1] = len(table) + 20


def too_short(table, heads) -> None:
    table[heads["b"] + 1] = END


@pytest.mark.parametrize("kind", ["fat12", "fat16", "fat32"])
@pytest.mark.parametrize("damage", [crossed, looping, into_free, headless, outside, too_short])
def test_chains_that_contradict_one_another_are_named_and_nothing_is_written(kind, damage):
    blocks = filled(kind)
    set_table(blocks, damage)
    before = bytes(blocks.data)
    layout = survey(blocks)
    assert any(f.severity == "problem" for f in layout.findings)
    name = {"crossed": "“b.bin”", "looping": "“a.bin”", "into_free": "“c.bin”"}.get(damage.__name__, "“b.bin”")
    for step in CHANGES:
        with pytest.raises(Unsound, match=name):
            perform(step, blocks, None, Watch())
        assert name in forecast(JobSheet((step,)), None, layout).problems[0].sentence
    with pytest.raises(FitError, match="cannot be mended"):
        perform(s.RebuildBitmap(0), blocks, None, Watch())
    assert bytes(blocks.data) == before
    whole = next(e for e in open_volume(blocks).tree().entries if e.path[0] not in name)
    assert len(b"".join(open_volume(blocks).read_file(whole))) == 60_000       # the others can still be taken out


def mark_free(blocks: MemoryBlocks, kind: str) -> None:
    """Units that files hold are marked as free."""
    volume = open_volume(blocks)
    entry = volume.tree().find("b.bin")
    place = max(volume.extents_of(entry), key=lambda e: e.length)
    if kind == "exfat":
        first = volume.chains.extents(*volume.bitmap_place)[0].start
        at = (place.start - volume.geometry.cluster_offset(2)) // volume.geometry.cluster // 8
        blocks.write(first + at + 1, bytes(2))
    elif kind.startswith("ext"):
        fs = volume.fs
        number = place.start // fs.block
        group, inside = divmod(number - fs.first_data, fs.per_group)
        bits = Bitmaps(fs).block_bits(group)
        bits[inside:inside + 9] = False
        blocks.write(fs.get("block_bitmap", group) * fs.block, np.packbits(bits, bitorder="little").tobytes())
    else:
        page = next(iter(volume.bitmap_pages()))
        longs = volume.longs(page).copy()
        longs[2 + (place.start // volume.block - 2) // 32] |= 0xFFFF
        longs[0] = 0
        longs[0] = -int(longs.sum(dtype=np.uint64)) & 0xFFFFFFFF
        blocks.write(page * volume.block, longs.astype(">u4").tobytes())


@pytest.mark.parametrize("kind", ["exfat", "ext2", "ext3", "ext4", "ofs", "ffs-intl"])
def test_room_that_files_hold_and_that_is_marked_as_free_is_mended_first_and_that_is_taken_back(kind, tmp_path):
    blocks = filled(kind)
    files = trees(blocks)
    mark_free(blocks, kind)
    before = bytes(blocks.data)
    assert "marked as free" in survey(blocks).partitions[0].volume.unsound
    for step in CHANGES:
        with pytest.raises(Unsound, match="Rebuild bitmap"):
            perform(step, blocks, None, Watch())
        both = forecast(JobSheet((s.RebuildBitmap(0), step)), None, survey(blocks))
        assert not any("marked as free" in p.sentence for p in both.problems)
    assert bytes(blocks.data) == before
    cut_short(s.RebuildBitmap(0), blocks, None, tmp_path)
    assert [f for f in survey(blocks, thorough=True).findings if f.severity in ("problem", "warning")] == []
    assert trees(blocks) == files
    taken_back(blocks, tmp_path)
    assert bytes(blocks.data) == before


@pytest.mark.parametrize("kind", ["fat12", "fat16", "fat32"])
def test_clusters_of_no_file_do_no_harm_and_are_freed_on_demand(kind):
    blocks = filled(kind)

    def lose(table, heads) -> None:
        free = np.flatnonzero(table == FREE)[-8:]
        table[free[:-1]] = free[1:]
        table[free[-1]] = END
    set_table(blocks, lose)
    files, volume = trees(blocks), open_volume(blocks)
    assert volumes.soundness(volume, volume.tree()).lost == 8 * volume.block
    assert why_unsound(blocks) == ""
    perform(s.RebuildBitmap(0), blocks, None, Watch())
    assert (trees(blocks), open_volume(blocks).free) == (files, volume.free + 8 * volume.block)
    assert volumes.check(open_volume(blocks)) == ()


@pytest.mark.parametrize("kind", KINDS)
def test_a_volume_that_was_worked_on_is_sound_and_the_quick_look_agrees_with_the_full_check(kind):
    for seed in (2, 9):
        blocks, _ = worked_on(kind, seed)
        volume = open_volume(blocks)
        found = volumes.soundness(volume, volume.tree())
        assert (found.broken, found.unmarked, found.lost) == ((), 0, 0)
        assert not [f for f in volumes.check(volume) if f.severity == "problem"]


@pytest.mark.parametrize("index", [2, 3])
def test_a_partition_whose_bitmap_lies_is_moved_with_every_byte(index):
    blocks = card()
    map_ = survey(blocks).partition(index).partition
    window = MemoryBlocks(blocks.read(map_.start, map_.length))
    put_in(window, {"b.bin": random.Random(1).randbytes(40_000)})
    mark_free(window, "ext4" if index == 2 else "exfat")
    blocks.write(map_.start, bytes(window.data))
    volume = open_partition(blocks, index)
    files = {e.path: b"".join(volume.read_file(e)) for e in volume.tree().entries if e.kind == Kind.FILE}
    step = s.MovePartition(3) if index == 3 else s.MovePartition(2, 12 * MIB)
    perform(step, blocks, None, Watch())
    moved = open_partition(blocks, index)
    assert {e.path: b"".join(moved.read_file(e)) for e in moved.tree().entries if e.kind == Kind.FILE} == files


def test_editing_a_sound_volume_beside_a_broken_one_goes_on():
    blocks = card()
    start = survey(blocks).partition(1).partition.start
    set_table(Window(blocks, start, 9 * MIB), lambda table, heads: table.__setitem__(slice(4, 9), 3))
    with pytest.raises(Unsound):
        perform(s.MakeFolder(1, "x"), blocks, None, Watch())
    perform(s.MakeFolder(2, "x"), blocks, None, Watch())
    assert edit(Window(blocks, survey(blocks).partition(2).partition.start, 12 * MIB)).has("x")
