"""Parts of a card: kept as a disk of their own that nobody wrote, found and brought back like anything else."""

from __future__ import annotations

import random

import pytest

from mosscrate.core.blocks import MemoryBlocks, Window, open_blocks
from mosscrate.core.blocks.sparse import Sparse
from mosscrate.core.contents import survey
from mosscrate.core.contents.files import FileKind, kind_of
from mosscrate.core.contents.survey import open_partition
from mosscrate.core.crate import Crate
from mosscrate.core.crate.compare import differing
from mosscrate.core.crate.library import contents_of, files_in
from mosscrate.core.crate.parts import Choice, keep_part
from mosscrate.core.errors import CrateError, FitError
from mosscrate.core.sheet.bench import card_of
from mosscrate.core.sheet.planning.bringing_back import bringing_all_back
from mosscrate.core.sheet.running.run import run
from mosscrate.core.volumes import edit
from mosscrate.core.volumes.fat.structures import FatType
from mosscrate.core.watch import Watch
from tests.cards import MIB, handheld, lay_out, put_card
from tests.core.test_store import card_with, files_of, record
from tests.volumes import KINDS


@pytest.mark.parametrize("seed", range(20))
def test_a_sparse_medium_is_like_one_in_memory(seed: int) -> None:
    """Random writes and zeros; holes are zeros, and what is data is little more than was written."""
    rnd = random.Random(seed)
    size = rnd.randrange(1, 200_000)
    sparse, plain = Sparse(size), MemoryBlocks(bytes(size))
    for _ in range(60):
        at = rnd.randrange(size)
        count = rnd.randrange(size - at + 1) if rnd.random() < 0.3 else min(size - at, rnd.randrange(600))
        if rnd.random() < 0.4:
            sparse.zero(at, count)
            plain.zero(at, count)
        else:
            data = rnd.randbytes(count) if rnd.random() < 0.7 else bytes(count)
            sparse.write(at, data)
            plain.write(at, data)
        first = rnd.randrange(size)
        assert sparse.read(first, size - first) == plain.read(first, size - first)
    extents = list(sparse.extents())
    assert sum(e.length for e in extents) == size
    assert all(not any(plain.read(e.start, e.length)) for e in extents if e.is_hole)


@pytest.mark.parametrize("kind", KINDS)
def test_files_of_every_kind_of_volume_are_kept_in_part(kind: str, tmp_path) -> None:
    """All its files, then those of a folder: names, contents and dates are what they were, and cost nothing twice."""
    crate, card = Crate(tmp_path), card_with(kind, 5, acts=80)
    whole = crate.keep(record(card), card, Watch())
    before = crate.room()
    part = keep_part(crate, record(card), card, survey(card), Choice(), Watch())
    assert crate.room() - before < 200_000
    with part.open() as disk:
        assert survey(disk).findings == ()
        assert files_of(disk) == files_of(card)
    told = [sorted((f.path, f.contents, f.modified) for f in files_in(b)) for b in (whole, part)]
    assert told[0] == told[1]
    assert [lane.card.name for lane in crate.lanes()] == ["Pipkin, in part", "Pipkin"]
    folder = next((e.path for e in open_partition(card, 1).tree().entries if e.kind == "folder"
                   and any(p.startswith(f"{e.path}/") for p in files_of(card))), None)
    if folder is not None:
        part = keep_part(crate, record(card), card, survey(card), Choice(folders=(folder.upper(),)), Watch())
        with part.open() as disk:
            assert files_of(disk) == {p: d for p, d in files_of(card).items() if p.startswith(f"{folder}/")}
    with pytest.raises(CrateError, match="There are no “nowhere” on Pipkin"):
        keep_part(crate, record(card), card, survey(card), Choice(folders=("nowhere",)), Watch())


def test_the_saves_of_a_card_come_back_where_they_changed(bench) -> None:
    """A removed one, a changed one; the others are left alone, and nothing is there twice."""
    put_card(bench, "one", 40 * MIB, handheld(seed=1).data, name="Pipkin")
    card = bench.shelf.find("Pipkin")
    with card.open() as blocks:
        backup = keep_part(bench.crate, card_of(card), blocks, survey(blocks), Choice((FileKind.SAVE,)), Watch())
    kept = {f.path: f for f in files_in(backup)}
    assert len(kept) > 2
    assert {f.kind for f in kept.values()} == {FileKind.SAVE}
    with pytest.raises(FitError, match="is on Pipkin as it was kept"):
        bringing_all_back(backup, card, bench)
    gone, changed = sorted(kept)[:2]
    with open_blocks(card.path, writable=True) as blocks:
        seat = survey(blocks).partitions[kept[gone].partition - 1].partition
        editor = edit(Window(blocks, seat.start, seat.length))
        editor.remove(gone)
        editor.remove(changed)
        editor.add_file(changed, b"further on" * 99)
        editor.commit()
    run(bringing_all_back(backup, card, bench), bench, Watch(), typed_tag=card.tag)
    with bench.shelf.find("Pipkin").open() as blocks:
        volume = open_partition(blocks, kept[gone].partition)
        saves = {e.path: contents_of(volume.read_file(e)) for e in volume.tree().entries
                 if e.kind == "file" and kind_of(e) == FileKind.SAVE}
    assert {path: saves[path] for path in kept} == {path: f.contents for path, f in kept.items()}
    assert set(saves) - set(kept) == {p for p in saves if " 20" in p}
    assert [saves[p] for p in set(saves) - set(kept)] == [contents_of([b"further on" * 99])]


def two_volumes(second_at: int, changed: bytes) -> MemoryBlocks:
    """The same paths on both; the second volume may have moved since."""
    blocks = MemoryBlocks(bytes(40 * MIB))
    lay_out(blocks, [(MIB, 5 * MIB, FatType.FAT16, "FIRST", {"a.srm": changed, "b.srm": b"same"}),
                     (second_at, 20 * MIB, FatType.FAT16, "SECOND", {"a.srm": b"as it was", "b.srm": b"same"})])
    return blocks


@pytest.mark.parametrize("second_at", [6 * MIB, 9 * MIB])
def test_what_differs_from_an_image_is_told_apart_by_partition(second_at: int, bench, tmp_path) -> None:
    (tmp_path / "stock.img").write_bytes(two_volumes(6 * MIB, b"as it was").data)
    put_card(bench, "pipkin", 40 * MIB, two_volumes(second_at, b"played on").data)
    card, stock = bench.shelf.find("Pipkin"), bench.shelf.find(str(tmp_path / "stock.img"))
    found = differing(stock, card)
    assert found == {(1, "a.srm")}
    with card.open() as blocks:
        part = keep_part(bench.crate, card_of(card), blocks, survey(blocks), Choice((), (), "stock", found), Watch())
    assert [file.path for file in files_in(part)] == ["a.srm"]
