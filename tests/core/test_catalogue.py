"""The catalogue: it answers as the crate does, whatever becomes of its file."""

from __future__ import annotations

import random
import threading
from dataclasses import replace
from pathlib import Path

import pytest

from mosscrate.core.contents.survey import open_partition, survey
from mosscrate.core.crate import Crate
from mosscrate.core.crate.catalogue import Catalogue, Listed, Row
from mosscrate.core.crate.forgetting import forget
from mosscrate.core.crate.library import all_contents, files_in, find, life_of, saves
from mosscrate.core.crate.unkept import Unkept, unkept_on
from mosscrate.core.watch import Watch
from tests.core.test_store import card_with, record
from tests.volumes import KINDS


@pytest.fixture
def crate(tmp_path: Path) -> Crate:
    """Two cards kept, one of them three times."""
    crate = Crate(tmp_path / "crate", catalogue=Catalogue(tmp_path / "state" / "catalogue.sqlite3"))
    for seed in (3, 3, 4):
        crate.keep(record(card_with("fat16", seed, acts=40)), card_with("fat16", seed, acts=40), Watch())
    return crate


def answers(crate: Crate) -> tuple[object, ...]:
    """What can be asked of a crate, in a shape that can be compared."""
    backups = sorted(b.path for lane in crate.lanes() for b in lane.backups)
    plain = sorted((str(f.backup.path), f.partition, f.path, f.contents) for f in find(crate, ""))
    return backups, plain, sorted(saves(crate)), sorted(all_contents(crate))


def test_it_answers_as_the_backups_do(crate: Crate) -> None:
    """File by file, and what is forgotten is out of it at once."""
    backups = [b for lane in crate.lanes() for b in lane.backups]
    told = [(f.backup.path, f) for f in find(crate, "")]
    assert sorted(told, key=str) == sorted(((b.path, f) for b in backups for f in files_in(b)), key=str)
    name = next(iter(saves(crate)), "")
    assert all(version.backups >= 1 for version in life_of(crate, name))
    forget(backups[0])
    assert {path for path, _ in told} - {f.backup.path for f in find(crate, "")} == {backups[0].path}
    others = {f.contents for b in backups[1:-1] for f in files_in(b)}
    assert all_contents(crate, but=backups[-1:]) == others


def test_a_catalogue_that_is_damaged_or_gone_is_made_again(crate: Crate) -> None:
    """Cut, filled with noise, emptied, without a table, a folder in its place: the answers stay."""
    wanted, path, rnd = answers(crate), crate.catalogue.path, random.Random(8)
    assert path is not None
    sound = path.read_bytes()
    assert len(sound) > 4096

    def noise() -> bytes:
        damaged = bytearray(sound)
        for _ in range(400):
            damaged[rnd.randrange(len(damaged))] ^= 1 << rnd.randrange(8)
        return bytes(damaged)

    for content in (b"", sound[:5000], b"\0" * 9000, noise(), noise(), sound[:-4096]):
        path.write_bytes(content)
        again = Crate(crate.root, catalogue=Catalogue(path))
        assert answers(again)[0] == wanted[0] != []
    path.unlink()
    assert answers(Crate(crate.root, catalogue=Catalogue(path))) == wanted
    path.unlink()
    path.mkdir()
    assert answers(Crate(crate.root, catalogue=Catalogue(path))) == wanted


def test_several_programs_use_one(crate: Crate) -> None:
    """Each with a connection of its own, beginning at once."""
    wanted, path, told = answers(crate), crate.catalogue.path, list[object]()
    assert path is not None
    path.unlink()
    crates = [Crate(crate.root, catalogue=Catalogue(path)) for _ in range(4)]
    threads = [threading.Thread(target=lambda c=c: told.append(answers(c))) for c in crates]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    assert told == [wanted] * len(crates)


def test_names_that_are_no_text_are_found(tmp_path: Path) -> None:
    """As cards have them: each comes back as it was."""
    catalogue, listed = Catalogue(tmp_path / "c.sqlite3"), Listed(tmp_path / "b.kept", "1")
    rows = [Row(1, "Saves/\udcff\udc80 Größe.srm", "save", 5, None, b"x"), Row(1, "ÄRGER.bin", "other", 6, 7, b"y")]
    catalogue.note(listed, lambda: rows)
    assert list(catalogue.named(["größe"]).values()) == rows[:1]
    assert list(catalogue.named(["ärger"]).values()) == rows[1:]
    fresh = Catalogue(tmp_path / "c.sqlite3")
    fresh.note(listed, lambda: pytest.fail("it is known already"))
    assert fresh.rows(fresh.held_by(listed)) == {row.number: row for row in rows}
    fresh.note(replace(listed, stamp="2"), lambda: rows[:1])
    assert len(fresh.held_by(replace(listed, stamp="2"))) == 1


@pytest.mark.parametrize("kind", KINDS)
def test_what_is_in_no_backup_is_told_on_every_kind_of_volume(kind: str, tmp_path: Path) -> None:
    """Of a card that was never kept, with the same files on another one that was: all of them are elsewhere."""
    crate, card = Crate(tmp_path), card_with(kind, 5, acts=60)
    files = sum(e.kind == "file" for e in open_partition(card, 1).tree().entries)
    assert len(unkept_on(card, survey(card), None, crate).files) == files
    kept = crate.keep(record(card, "another"), card, Watch())
    assert unkept_on(card, survey(card), None, crate) == Unkept((), files)
    assert unkept_on(card, survey(card), kept, crate) == Unkept()
