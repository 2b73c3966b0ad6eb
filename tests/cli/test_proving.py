"""`proof` in a shell: honest cards, false ones, bad places with their files, interruptions."""

from __future__ import annotations

import json
import re

import numpy as np
import pytest

from mosscrate.core.blocks import MemoryBlocks
from mosscrate.core.blocks.faulty import Bad, Faults, FaultyBlocks, Fold
from mosscrate.core.contents.survey import open_partition
from mosscrate.core.errors import MediumError
from mosscrate.core.proof.log import DepthLog
from mosscrate.core.proof.reading import read_all
from mosscrate.core.proof.size import Journal
from mosscrate.core.slots.simulated import read_card, write_card
from mosscrate.core.watch import Watch
from tests.cards import MIB, handheld, put_card


def tag_of(cli, name):
    return next(s["tag"] for s in json.loads(cli("slots", "--json")[1]) if s["name"] == name)


def faulty(bench, name, **faults):
    """The description of a card with faults, beside its contents."""
    path = bench.shelf.simulated_folder / f"{name}.toml"
    card = read_card(path)
    card.faults = Faults(**faults)
    write_card(path, card)


def test_an_honest_card_holds_what_it_claims_and_is_as_it_was(cli, cards, bench):
    before = (bench.shelf.simulated_folder / "old.img").read_bytes()
    code, _, err = cli("proof", "Worn card", "--size")
    assert (code, "only written when its tag is typed" in err) == (3, True)
    code, out, _ = cli("proof", "Worn card", "--size", "--read", "--tag", tag_of(cli, "Worn card"), "--json")
    said = json.loads(out)
    assert (code, said["size"]["good"], said["size"]["real"], said["read"]["bad"]) == (0, True, 40 * MIB, [])
    assert (bench.shelf.simulated_folder / "old.img").read_bytes() == before
    assert "holds the 40 MiB that it claims" in cli("proof", "Worn card")[1]


def test_a_false_card_is_told_with_its_end(cli, bench):
    put_card(bench, "bargain", 200 * MIB, handheld().data, name="Bargain card")
    faulty(bench, "bargain", fold=Fold(90 * MIB))
    code, out, _ = cli("proof", "Bargain card", "--size", "--tag", tag_of(cli, "Bargain card"), "--json")
    size = json.loads(out)["size"]
    assert (code, size["good"], size["kind"], size["real"], size["exact"]) == (1, False, "folds", 90 * MIB, True)
    with bench.shelf.find("Bargain card").open() as card:
        assert open_partition(card, 2).tree().entries
    look = cli("look", "Bargain card")[1]
    assert re.search(r"✗ Proved on \d{4}-\d\d-\d\d: .*is false: it holds 90 MiB.* Prove it again", look)


def test_bad_places_are_told_with_the_files_that_lie_there(cli, bench):
    put_card(bench, "worn", 40 * MIB, handheld().data, name="Bad card")
    with bench.shelf.find("Bad card").open() as card:
        volume = open_partition(card, 2)
        entry = next(e for e in volume.tree().entries if e.path.endswith(".gb"))
        at = 6 * MIB + volume.extents_of(entry)[0].start
    faulty(bench, "worn", bad=(Bad(at, 512), Bad(39 * MIB, 1024)))
    code, out, _ = cli("proof", "Bad card", "--read", "--json")
    read = json.loads(out)["read"]
    assert (code, read["bad"]) == (1, [[at, 512], [39 * MIB, 1024]])
    assert [f["path"] for f in read["files"]] == [entry.path]
    assert f"1 file lies there: {entry.path}" in read["sentence"]


def test_an_interrupted_proof_is_put_back(cli, cards, bench):
    image = bench.shelf.simulated_folder / "old.img"
    before = image.read_bytes()
    tag = tag_of(cli, "Worn card")
    faulty(bench, "old", pulled_after_writes=40)
    code, _, err = cli("proof", "Worn card", "--size", "--tag", tag)
    assert (code, "was pulled" in err) == (1, True)
    assert image.read_bytes() != before
    bench.shelf.find("Worn card").state.pull()
    faulty(bench, "old")
    assert "was interrupted: put back" in cli("proof", "Worn card")[1]
    assert cli("proof", "Worn card", "--put-back", "--tag", tag)[0] == 0
    assert image.read_bytes() == before
    assert list(Journal.unfinished(bench.state)) == []


@pytest.mark.parametrize("size", [64 * MIB, 8 << 30, 1 << 40])
def test_the_log_keeps_bad_places_exactly_and_sums_the_rest(size):
    log = DepthLog(size)
    assert len(log.bytes) <= 8192
    log.add(0, MIB, 0.5)
    log.add(MIB, MIB, 0.25)
    log.add_bad(size // 2, 512)
    log.add_bad(size // 2 + 512, 512)
    edges = np.array([0, size // 4, size // 2 + 1024, size])
    rows = log.rows(edges)
    assert [row.bad for row in rows] == [0, 1, 0]
    assert rows[0].mean == pytest.approx(2 * MIB / 0.75)
    assert (rows[0].longest, log.bad_bytes, len(log.bad)) == (pytest.approx(0.5, abs=0.5), 1024, 1)


def test_a_card_that_is_pulled_while_it_is_read_is_told(bench, cards):
    with bench.shelf.find("Worn card").open() as inner, pytest.raises(MediumError, match="does not answer"):
        read_all(FaultyBlocks(inner, Faults(dies_after=5 * MIB)), None, Watch())


def test_a_card_with_a_bad_place_everywhere_is_read_to_its_end():
    bad = tuple(Bad(at, 512) for at in range(0, 40 * MIB, MIB))
    card = FaultyBlocks(MemoryBlocks(bytes(40 * MIB)), Faults(bad=bad))
    sound = read_all(card, None, Watch())
    assert [e.start for e in sound.log.bad] == [each.start for each in bad]
    assert "Which files lie there cannot be told" in sound.sentence("Pipkin")


def test_a_card_is_compared_with_what_was_kept_of_it(cli, cards, bench):
    assert "nothing to compare it with" in cli("proof", "Worn card", "--kept")[2]
    assert cli("keep", "Worn card")[0] == 0
    code, out, _ = cli("proof", "Worn card", "--kept")
    assert (code, "is still what was kept on" in out) == (0, True)
    with bench.shelf.find("Worn card").open() as card:
        volume = open_partition(card, 2)
        entry = next(e for e in volume.tree().entries if e.path.endswith(".gb"))
        at = 6 * MIB + volume.extents_of(entry)[0].start
    image = bench.shelf.simulated_folder / "old.img"
    with image.open("r+b") as file:
        file.seek(at + 100)
        file.write(b"rot")
    faulty(bench, "old", bad=(Bad(39 * MIB, 512),))
    code, out, _ = cli("proof", "Worn card", "--kept", "--json")
    kept = json.loads(out)["kept"]
    assert (code, kept["differing"], kept["unreadable"]) == (1, [[at, 512]], [[39 * MIB, 512]])
    assert [f["path"] for f in kept["files"]] == [entry.path]
    assert "is not what was kept on" in kept["sentence"]


def test_a_card_is_written_through_and_stays_as_it_was(cli, cards, bench):
    image = bench.shelf.simulated_folder / "old.img"
    before, tag = image.read_bytes(), tag_of(cli, "Worn card")
    code, out, _ = cli("proof", "Worn card", "--write", "--tag", tag)
    assert (code, "takes and holds what is written" in out, image.read_bytes() == before) == (0, True, True)
    code, out, _ = cli("proof", "Worn card", "--every-block", "--keep-contents", "--tag", tag)
    assert (code, "every block of it was written and read again" in out) == (0, True)
    assert image.read_bytes() == before
    assert "Take it out" in cli("proof", "Worn card", "--pull", "--tag", tag)[1]
    code, out, _ = cli("proof", "Worn card", "--pull", "--tag", tag, "--json")
    assert (code, json.loads(out)["size"]["stage"], image.read_bytes() == before) == (0, "pulled", True)
    assert cli("proof", "Worn card", "--every-block", "--tag", tag)[0] == 2
    assert cli("proof", "Worn card", "--write", "--lose-contents", "--tag", tag)[0] == 2
    assert cli("proof", "Worn card", "--every-block", "--lose-contents")[0] == 3
    code, out, _ = cli("proof", "Worn card", "--every-block", "--lose-contents", "--tag", tag)
    assert (code, "Nothing is on it any more" in out) == (0, True)
    assert not any(image.read_bytes()[:MIB])


def test_places_that_do_not_hold_are_told_and_a_false_card_is_not_written_through(cli, bench):
    put_card(bench, "worn", 40 * MIB, handheld().data, name="Tired card")
    faulty(bench, "worn", bad=(Bad(30 * MIB, 4096, reading=False, silent=True),
                               Bad(35 * MIB, 4096, reading=False, writing=True)))
    code, out, _ = cli("proof", "Tired card", "--write", "--tag", tag_of(cli, "Tired card"), "--json")
    said = json.loads(out)["write"]
    assert (code, said["bad"], said["lost"], said["not_back"]) == (1, [[35 * MIB, 4096]], [[30 * MIB, 4096]], [])
    put_card(bench, "bargain", 200 * MIB, handheld().data, name="Bargain card")
    faulty(bench, "bargain", fold=Fold(90 * MIB))
    code, _, err = cli("proof", "Bargain card", "--write", "--tag", tag_of(cli, "Bargain card"))
    assert (code, "It is not written through" in err, "holds 90 MiB" in err) == (1, True, True)
    code, out, _ = cli("proof", "Bargain card", "--every-block", "--keep-contents", "--tag",
                       tag_of(cli, "Bargain card"), "--json")
    size = json.loads(out)["size"]
    assert (code, size["kind"], size["real"], size["stage"]) == (1, "folds", 90 * MIB, "whole")
    with bench.shelf.find("Bargain card").open() as card:
        assert open_partition(card, 2).tree().entries


def test_speeds_are_kept_for_the_next_time_and_damage_is_no_trouble(tmp_path):
    log, path = DepthLog(300 * MIB), tmp_path / "log.npz"
    for at in range(0, 300 * MIB, MIB):
        log.add(at, MIB, 0.1 if at < 150 * MIB else 0.2)
    log.save(path)
    last = DepthLog.load(path)
    assert (last.rate, last.rate_between(0, MIB)) == (pytest.approx(log.rate), pytest.approx(MIB / 0.1))
    assert last.rows(np.array([0, 300 * MIB]))[0].fastest == pytest.approx(MIB / 0.1)
    whole = path.read_bytes()
    for damage in (b"", whole[:200], bytes(500), whole[:40] + bytes(60) + whole[100:]):
        path.write_bytes(damage)
        assert DepthLog.load(path) is None
