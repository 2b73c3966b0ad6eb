"""Promises that hold for every file system: against a model, resized, damaged, interrupted."""

from __future__ import annotations

import contextlib
import random
from itertools import islice

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from mosscrate.core import volumes
from mosscrate.core.blocks import MemoryBlocks, create_image
from mosscrate.core.errors import FitError, MossError
from mosscrate.core.volumes import Making, Traits, edit, format_for, format_of, open_volume
from mosscrate.core.watch import Watch
from tests.volumes import KINDS, MIB, ROOM, TIGHT, WHEN, fresh, tree, worked_on

kinds = st.sampled_from(KINDS)


def sound(blocks) -> list[str]:
    return [f.sentence for f in volumes.check(open_volume(blocks))]


@settings(max_examples=25)
@given(kinds, st.integers(0, 10**6), st.sampled_from([ROOM, TIGHT]))
def test_two_hundred_random_operations_leave_what_the_model_holds(kind, seed, sizes):
    blocks, model = worked_on(kind, seed, size=sizes[kind])
    assert tree(blocks) == model.tree()
    assert sound(blocks) == []
    volume = open_volume(blocks)
    used = sum(e.length for e in volume.used_extents())
    assert 0 <= volume.free <= volume.size - used + volume.block


@settings(max_examples=25)
@given(kinds, st.integers(0, 10**6), st.floats(1.01, 6), st.floats(0, 1))
def test_growing_and_shrinking_keeps_everything(kind, seed, factor, share):
    blocks, model = worked_on(kind, seed, operations=100)
    size = int(ROOM[kind] * factor) // 512 * 512
    blocks = MemoryBlocks(bytes(blocks.data).ljust(size, b"\0"))
    try:
        grown = format_of(blocks).grow(blocks, size, Watch())
    except FitError:
        return                                            # a type at its limit, or too little for another group
    assert grown.size == open_volume(blocks).size <= size
    assert (tree(blocks), sound(blocks)) == (model.tree(), [])
    low, _ = volumes.smallest(open_volume(blocks))
    target = int(low + (grown.size - low) * share)
    shrunk = format_of(blocks).shrink(blocks, target, Watch())
    assert shrunk.size <= max(target, low)
    cut = MemoryBlocks(bytes(blocks.data)[:shrunk.size])
    assert (tree(cut), sound(cut)) == (model.tree(), [])
    with pytest.raises(FitError):
        format_of(cut).shrink(cut, volumes.smallest(open_volume(cut))[0] // 2, Watch())


@pytest.mark.parametrize("kind", KINDS)
def test_what_does_not_fit_is_refused_with_a_sentence_and_changes_nothing(kind):
    blocks = fresh(kind)
    before = bytes(blocks.data)
    editor = edit(blocks)
    with pytest.raises(FitError, match="no room"):
        editor.add_file("large", b"", size=ROOM[kind] + MIB)
    for name in ("", "a/b/c", "x" * 300):
        with pytest.raises(FitError):
            editor.add_file(name, b"x")
    editor.add_file("there.txt", b"x", Traits(WHEN))
    for call in (lambda: editor.add_file("there.txt", b"y"), lambda: editor.remove("not there"),
                 lambda: editor.rename("not there", "x"), lambda: editor.add_folder("there.txt/below"),
                 lambda: editor.relabel("a label that is far too long for any of them")):
        with pytest.raises(FitError):
            call()
    assert tree(MemoryBlocks(bytes(blocks.data))) == tree(MemoryBlocks(before)) == {}
    with pytest.raises(FitError):
        format_for(kind).make(MemoryBlocks(bytes(16384)), Making(kind))


@pytest.mark.parametrize("kind", KINDS)
def test_labels_ids_and_names_are_kept_as_given(kind):
    blocks = MemoryBlocks(bytes(ROOM[kind]))
    id = "1A2B-3C4D" if not kind.startswith("ext") else "01234567-89ab-cdef-0123-456789abcdef"
    format_for(kind).make(blocks, Making(kind, "PEAT", id=id))
    volume = open_volume(blocks)
    assert (volume.kind, volume.label) == (kind.partition("-")[0], "PEAT")
    assert volume.id == id or kind.startswith(("ofs", "ffs"))      # they have none
    editor = edit(blocks)
    editor.relabel("MOSS")
    editor.commit()
    assert (open_volume(blocks).label, sound(blocks)) == ("MOSS", [])
    editor = edit(blocks)
    editor.relabel("")
    editor.commit()
    assert (open_volume(blocks).label, sound(blocks)) == ("", [])


@settings(max_examples=60)
@given(kinds, st.integers(0, 10**6))
def test_a_damaged_volume_is_read_found_faulty_or_refused(kind, seed):
    rnd = random.Random(seed)
    blocks, _ = worked_on(kind, 1, operations=50)
    for _ in range(rnd.choice((1, 3, 20))):
        place = rnd.choice((rnd.randrange(4096), rnd.randrange(256 * 1024), rnd.randrange(blocks.size)))
        damage = rnd.choice((rnd.randbytes(1), rnd.randbytes(4), b"\xff" * 8, bytes(8)))
        blocks.write(min(place, blocks.size - 8), damage)
    with contextlib.suppress(MossError):
        volume = open_volume(blocks)
        volumes.check(volume)
        for entry in volume.tree().entries:
            for _ in islice(volume.read_file(entry), 64):
                pass


@pytest.mark.parametrize(("kind", "times"), [("fat32", 400), ("exfat", 400), ("ext4", 400), ("ext2", 8000)])
def test_a_volume_grown_until_its_new_tables_are_larger_than_all_of_it_was_keeps_everything(kind, times, tmp_path):
    path = tmp_path / "card.img"
    small, model = worked_on(kind, 3, size=ROOM[kind], operations=150)
    with create_image(path, ROOM[kind] * times) as blocks:
        blocks.write(0, bytes(small.data))
        grown = format_of(blocks).grow(blocks, blocks.size, Watch())
        assert grown.size > ROOM[kind] * times * 0.9
        assert (tree(blocks), sound(blocks)) == (model.tree(), [])
