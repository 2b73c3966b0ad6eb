"""Is a card as large as it says: honest cards are never called false, false ones are found, and contents stay."""

from __future__ import annotations

import random
import re
from contextlib import suppress

import numpy as np
import pytest

from mosscrate.core.blocks import proof_marks as marks
from mosscrate.core.blocks.faulty import Bad, Cache, Drop, Faults, FaultyBlocks, Fold
from mosscrate.core.errors import JobError, MediumError, Stopped
from mosscrate.core.proof.size import (
    PULLED,
    Journal,
    Kind,
    leave_marks,
    look_after_pulling,
    prove_size,
    put_back,
    take_back,
)
from mosscrate.core.watch import Watch
from tests.lying_cards import BLOCK, MIB, STANDARD, Case, Room, random_case

CARDS = 10                               # of each share; `./moss fuzz proof` has thousands


def journal(folder, card) -> Journal:
    return Journal.begin(folder, "key", "Pipkin", "ABCD", card.size, 0)


def prove(case: Case, folder, watch=None):
    held = journal(folder, case.card)
    try:
        verdict = prove_size(case.card, held, watch or Watch(), run_length=STANDARD)
    except BaseException:
        held.close()
        raise
    held.end()
    return verdict


def problems(case: Case, verdict) -> list[str]:
    """What is wrong with a verdict, and with what it did to the card."""
    if case.card._caching is not None:
        case.card._caching.let_go()
    changed = {block for block in case.room.changed if block * BLOCK < case.real}
    found = []
    if case.is_honest and verdict.is_false:
        found.append(f"an honest card is called false: {verdict}")
    if case.must_be_found and not verdict.is_false:
        found.append(f"a false card is not found: {verdict}")
    if verdict.is_false and verdict.is_exact and verdict.real != case.real and case.kind != "folded middle":
        found.append(f"the end is {case.real}, not {verdict.real}")
    if changed - {at // BLOCK for at in verdict.not_back}:
        found.append(f"contents changed that were called as before: {sorted(changed)[:5]}")
    if changed and case.kind not in ("writes fold", "honest"):
        found.append(f"{len(changed)} blocks changed")
    return found


@pytest.mark.parametrize("share", range(15))
def test_random_cards_are_judged_rightly_and_keep_what_is_on_them(share, tmp_path):
    for seed in range(share * CARDS, (share + 1) * CARDS):
        case = random_case(seed, largest=1200)
        assert problems(case, prove(case, tmp_path)) == [], (seed, case.kind, case.card.faults)


@pytest.mark.parametrize("seed", [979, 1533])
def test_a_cache_of_a_few_blocks_does_not_move_the_end(seed, tmp_path):
    """The comb goes through it, the fifteen marks of one question do not."""
    case = random_case(seed)
    assert case.card.faults.cache.blocks == 16
    assert problems(case, prove(case, tmp_path)) == []


@pytest.mark.parametrize("nonce", ["51730f3bdb7e226426070c96a6ac1186", "85c209af3b3139b0f8acd597afc55329",
                                   "06760005de6123d47af4384940c19021", "092953b052b3d135648616a71c488713"])
def test_what_marks_hit_is_named_where_writes_fold_and_reads_do_not(nonce, tmp_path):
    """Of a small room: places to ask at are few, and a mark may be read below at several times its distance."""
    case = random_case(1373)
    assert case.kind == "writes fold"
    held = journal(tmp_path, case.card)
    held.record.nonce = nonce
    verdict = prove_size(case.card, held, Watch(), run_length=STANDARD)
    held.end()
    assert problems(case, verdict) == []
    assert (verdict.real, verdict.is_exact) == (case.real, True)
    assert min(case.room.changed, default=256) >= 256       # the map and what lies beside it come back


def test_a_mark_says_where_it_was_written_and_nothing_else_is_taken_for_one():
    nonce, other = bytes(range(16)), bytes(16)
    addresses = np.array([0, 4096, 1 << 40], np.int64)
    blocks = marks.build(addresses, nonce)
    assert marks.read(blocks, nonce).tolist() == addresses.tolist()
    assert (marks.read(blocks, other) == marks.NONE).all()
    blocks[1, 600] ^= 1
    blocks[2, 10] ^= 1
    assert marks.read(blocks, nonce).tolist() == [0, marks.TORN, marks.TORN]      # every byte is compared
    shifted = np.concatenate([blocks[0, 512:], blocks[1, :512]]).reshape(1, -1)
    assert marks.read(shifted, nonce)[0] == 512                             # a fold by less than a block
    mixed = np.concatenate([blocks[0, :1024], blocks[1, 1024:]]).reshape(1, -1)
    assert marks.read(mixed, nonce)[0] == marks.TORN
    assert (marks.read(np.random.default_rng(1).integers(0, 256, (8, 4096), np.uint8), nonce) == marks.NONE).all()


@pytest.mark.parametrize("seed", range(16))
@pytest.mark.parametrize("keeps_cache", [True, False])
def test_stopped_at_any_moment_everything_can_be_put_back(seed, keeps_cache, tmp_path):
    for cut in (0.02, 0.5, 0.8):
        whole = random_case(seed, largest=500)
        if whole.kind == "writes fold":
            return
        prove(whole, tmp_path)
        case, at = random_case(seed, largest=500), int(whole.card.state.writes * cut) + 1
        case.card.faults = Faults(**{f: getattr(case.card.faults, f) for f in case.card.faults.__struct_fields__}
                                  | {"pulled_after_writes": at})
        with suppress(MediumError):                         # marks are put elsewhere each time: it may end before
            prove(case, tmp_path)
        case.card.faults = whole.card.faults
        if not keeps_cache:
            case.card.state.pull()
        for left in Journal.unfinished(tmp_path):
            put_back(case.card, left, Watch())
        if case.card._caching is not None:
            case.card._caching.let_go()
        bad = {b.start // BLOCK + k for b in case.card.faults.bad for k in range(4)}
        assert [b for b in case.room.changed if b * BLOCK < case.real and b not in bad] == [], (seed, cut)
        assert list(Journal.unfinished(tmp_path)) == []


def test_stopping_puts_everything_back_at_once(tmp_path):
    case = Case(FaultyBlocks(room := Room(512 * MIB), Faults()), room, "honest", 512 * MIB, is_honest=True)
    asked = random.Random(1)
    with pytest.raises(Stopped):
        prove(case, tmp_path, Watch(should_stop=lambda: asked.random() < 0.001))
    assert room.changed == []


@pytest.mark.parametrize("after", range(0, 400, 23))
def test_stopped_where_writes_fold_and_reads_do_not_the_map_comes_back(after, tmp_path):
    room = Room(64 * MIB)
    card, asked = FaultyBlocks(room, Faults(fold=Fold(4 * MIB, reads=False))), iter(range(10**6))
    held = journal(tmp_path, card)
    with suppress(Stopped):
        prove_size(card, held, Watch(should_stop=lambda: next(asked) >= after), run_length=STANDARD)
    take_back(card, held, Watch())
    assert min(room.changed, default=256) >= 256


def test_a_card_that_somebody_else_has_written_since_is_left_alone(tmp_path):
    room = Room(512 * MIB)
    card = FaultyBlocks(room, Faults(pulled_after_writes=30))
    with pytest.raises(MediumError):
        prove_size(card, journal(tmp_path, card), Watch(), run_length=STANDARD)
    card.faults = Faults()
    for block in range(room.size // BLOCK):
        room.written[block] = b"theirs.." * 512
    before = dict(room.written)
    (left,) = Journal.unfinished(tmp_path)
    assert "the card was written since" in put_back(card, left, Watch()).sentence("Pipkin")
    assert room.written == before


@pytest.mark.parametrize("faults", [Faults(), Faults(fold=Fold(4 * MIB, reads=False))])
def test_a_map_that_was_made_since_stays_and_what_a_mark_hit_of_the_old_one_comes_back(faults, tmp_path):
    room = Room(64 * MIB)
    card = FaultyBlocks(room, faults)
    card.faults = Faults(**{f: getattr(faults, f) for f in faults.__struct_fields__} | {"pulled_after_writes": 6})
    held = journal(tmp_path, card)
    held.record.nonce = "00" * 16
    with pytest.raises(MediumError):
        prove_size(card, held, Watch(), run_length=STANDARD)
    held.close()
    card.faults = faults
    (left,) = Journal.unfinished(tmp_path)
    mark = marks.build(np.array([9 * MIB], np.int64), left.nonce).tobytes()
    room.written |= {0: b"new map." * 512, 3: mark}
    put_back(card, left, Watch())
    assert room.read(0, BLOCK) == b"new map." * 512
    assert 3 not in room.changed


def test_without_room_for_the_way_back_nothing_is_written(tmp_path):
    with pytest.raises(JobError, match="no room to keep what is on Pipkin"):
        Journal.begin(tmp_path, "key", "Pipkin", "ABCD", 1 << 40, room=1 << 60)
    assert list(Journal.unfinished(tmp_path)) == []


@pytest.mark.parametrize(("faults", "words"), [
    (Faults(), r"Pipkin holds the 1 GiB that it claims, unless it hides more than .* behind a cache"),
    (Faults(drop=Drop(700 * MIB)), r"is false: it holds 700 MiB \(734.003.200 bytes\), not 1 GiB; what is written above"
                                   r" that is lost"),
    (Faults(fold=Fold(700 * MIB)), r"holds 700 MiB .* overwrites what lies below.*was read at byte"),
    (Faults(fold=Fold(700 * MIB), cache=Cache(blocks=2048)), r"it holds about .*"),
    (Faults(fold=Fold(512 * MIB, reads=False)), r"\d+ blocks? of Pipkin lost what stood there")])
def test_the_verdict_is_a_sentence_with_its_certainty(faults, words, tmp_path):
    room = Room(1024 * MIB)
    case = Case(FaultyBlocks(room, faults), room, "", 0, is_honest=False)
    verdict = prove(case, tmp_path)
    assert re.search(words, verdict.sentence("Pipkin")), verdict.sentence("Pipkin")
    assert verdict.is_false == (faults != Faults())


def test_what_a_proof_of_a_large_card_costs_is_bounded(tmp_path):
    room = Room(512 << 30)
    counted = FaultyBlocks(room, Faults(drop=Drop(500 << 30, reads="old")))
    verdict = prove_size(counted, journal(tmp_path, counted), Watch(), run_length=STANDARD)
    assert (verdict.kind, verdict.real) == (Kind.DROPS, 500 << 30)
    assert counted.state.writes < 2500


@pytest.mark.parametrize("faults", [
    Faults(drop=Drop(100 * MIB), cache=Cache("volatile", 1 << 20)), Faults(fold=Fold(100 * MIB)),
    Faults(), Faults(bad=(Bad(200 * MIB, MIB),))])
def test_marks_that_stay_while_it_is_out_show_what_a_cache_forgets(faults, tmp_path):
    room = Room(512 * MIB)
    card, is_false = FaultyBlocks(room, faults), faults.drop is not None or faults.fold is not None
    assert leave_marks(card, journal(tmp_path, card), Watch()) > 50
    card.state.pull()
    (left,) = Journal.unfinished(tmp_path)
    assert left.record.stage == PULLED
    verdict = look_after_pulling(card, left, Watch())
    left.end()
    assert verdict.is_false == is_false, verdict.sentence("Pipkin")
    assert (verdict.real is None) == is_false, "where it ends is for the quick proof"
    assert [block for block in room.changed if block < 100 * MIB // BLOCK] == []
