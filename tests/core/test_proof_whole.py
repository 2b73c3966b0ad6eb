"""The full proof: nothing hides from it, honest cards are never called false, and what is held comes back."""

from __future__ import annotations

import random
from contextlib import suppress

import pytest

from mosscrate.core.blocks.faulty import Faults, FaultyBlocks
from mosscrate.core.errors import MediumError
from mosscrate.core.proof.log import DepthLog
from mosscrate.core.proof.size import Journal, Kind, put_back
from mosscrate.core.proof.size.whole import prove_whole
from mosscrate.core.watch import Watch
from tests.lying_cards import BLOCK, MIB, Case, Room, random_case

MOST = 56                              # MiB of a card


def prove(case: Case, folder, *, keeps: bool = True):
    journal = Journal.begin(folder, "key", "Pipkin", "ABCD", case.card.size, 0) if keeps else None
    try:
        verdict = prove_whole(case.card, journal, Watch(), nonce=journal.nonce if journal else bytes(range(16)),
                              writes=DepthLog(case.card.size), reads=DepthLog(case.card.size))
    except BaseException:
        if journal is not None:
            journal.close()
        raise
    if journal is not None:
        journal.end()
    return verdict


def changed(case: Case) -> set[int]:
    if case.card._caching is not None:
        case.card._caching.let_go()
    return {block for block in case.room.changed if block * BLOCK < case.real}


@pytest.mark.parametrize("share", range(6))
def test_random_cards_are_judged_rightly(share, tmp_path):
    for seed in range(1000 + share * 6, 1000 + share * 6 + 6):
        case = random_case(seed, largest=MOST)
        verdict = prove(case, tmp_path)
        assert verdict.is_false != case.is_honest, (seed, case.kind, verdict)
        if not case.is_honest:
            assert (verdict.real, verdict.is_exact) == (case.real, True), (seed, case.kind, verdict)
        bad = {at // BLOCK for at in verdict.not_back}
        assert case.kind == "writes fold" or changed(case) <= bad, (seed, case.kind)
        assert "was written and read again" in verdict.sentence("Pipkin") or not case.is_honest


@pytest.mark.parametrize("seed", range(8))
def test_pulled_at_any_moment_what_is_held_comes_back(seed, tmp_path):
    case = random_case(2000 + seed, largest=40)
    if case.kind == "writes fold":
        return
    faults = case.card.faults
    case.card.faults = Faults(**{f: getattr(faults, f) for f in faults.__struct_fields__}
                              | {"pulled_after_writes": random.Random(seed).randrange(1, 70)})
    with suppress(MediumError):
        prove(case, tmp_path)
    case.card.faults = faults
    case.card.state.pull()
    for left in Journal.unfinished(tmp_path):
        put_back(case.card, left, Watch())
    bad = {b.start // BLOCK + k for b in faults.bad for k in range(4)}
    assert changed(case) <= bad
    assert list(Journal.unfinished(tmp_path)) == []


def test_a_card_that_was_written_since_is_left_alone(tmp_path):
    room = Room(24 * MIB)
    card = FaultyBlocks(room, Faults(pulled_after_writes=9))
    with pytest.raises(MediumError):
        prove(Case(card, room, "honest", room.size, is_honest=True), tmp_path)
    for block in range(room.size // BLOCK):
        room.written[block] = b"theirs.." * 512
    (left,) = Journal.unfinished(tmp_path)
    said = put_back(FaultyBlocks(room, Faults()), left, Watch()).sentence("Pipkin")
    assert "the card was written since" in said
    assert (left.folder / "whole").exists()                  # what stood there can still be had
    assert all(data == b"theirs.." * 512 for data in room.written.values())


def test_contents_that_are_given_up_leave_a_blank_card(tmp_path):
    room = Room(24 * MIB)
    case = Case(FaultyBlocks(room, Faults()), room, "honest", room.size, is_honest=True)
    verdict = prove(case, tmp_path, keeps=False)
    assert verdict.kind == Kind.HOLDS
    assert verdict.sentence("Pipkin").endswith("Nothing is on it any more.")
    assert not any(room.read(0, MIB))
    assert not any(room.read(23 * MIB, MIB))
