"""A failing card: the most worth first, never twice in vain, gone on with days later, and a backup.

Times are of the card's own clock. How quickly what is had, over several cards, is measured by `./moss bench rescue`.
"""

from __future__ import annotations

import itertools
import random
from pathlib import Path

import msgspec
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from mosscrate.core.blocks import open_blocks
from mosscrate.core.blocks.faulty import Bad
from mosscrate.core.contents.survey import open_partition
from mosscrate.core.crate.lacking import kept as kept_sentence
from mosscrate.core.errors import CrateError, InUse, MediumError, Stopped
from mosscrate.core.rescue import Class, Ending, Wishes, finish, job, rescue, unfinished_rescue
from mosscrate.core.rescue.runs import Runs
from mosscrate.core.sheet.bench import Bench, standard_bench
from mosscrate.core.slots.simulated import CardFile, write_card
from mosscrate.core.watch import Watch
from tests.failing_cards import MIB, Trial, failing, lay_out, solid

SMALL = 96 * MIB
HALF_AN_HOUR = 1800.0


@pytest.fixture(scope="module")
def laid_out(tmp_path_factory: pytest.TempPathFactory) -> Path:
    path = tmp_path_factory.mktemp("failing") / "card.img"
    lay_out(path)
    return path


@given(st.lists(st.tuples(st.booleans(), st.integers(0, 40), st.integers(1, 12)), max_size=30), st.integers(0, 50))
@settings(max_examples=300, deadline=None)
def test_runs_are_a_set_of_bytes(acts, start):
    runs, model = Runs(), set()
    for is_added, first, length in acts:
        (runs.add if is_added else runs.remove)(first, first + length)
        model = model | set(range(first, first + length)) if is_added else model - set(range(first, first + length))
    pairs = list(runs)
    assert {at for s, e in pairs for at in range(s, e)} == model
    assert all(e < s for (_, e), (s, _) in itertools.pairwise(pairs)), "they never touch"
    assert {at for s, e in runs.missing(start, 50) for at in range(s, e)} == set(range(start, 50)) - model
    assert all((at in runs) == (at in model) for at in range(55))


@pytest.mark.parametrize("seed", [1, 2])
def test_the_most_worth_comes_first(laid_out, tmp_path, seed):
    with open_blocks(laid_out) as room:
        trial = Trial.of(failing(room, solid(0.05, seed), seed), tmp_path)
        trial.sit(Wishes(seconds=15 * 60.0))
        assert trial.share() >= 0.9
        assert trial.share(Class.SAVE) >= 0.95
        reached = trial.sit()
        assert reached.ending == Ending.NOT_WORTH_IT
        assert trial.share(Class.SAVE) > 0.999
        assert trial.readable_used > 0.999
        assert trial.state.spent.reads <= 1.6 * trial.ideal_reads
        assert trial.is_true()


def test_a_card_that_dies_has_given_most_of_its_worth(laid_out, tmp_path):
    with open_blocks(laid_out) as room:
        trial = Trial.of(failing(room, solid(0.05, 3), 3, dies_at=HALF_AN_HOUR), tmp_path)
        with pytest.raises(MediumError, match="does not answer any more"):
            trial.sit()
        assert trial.share() >= 0.85
        assert trial.share(Class.SAVE) >= 0.95
        assert trial.is_true()
        good = [s for runs in trial.state.bad for s, e in runs if list(trial.bad.missing(s, e))]
        assert not good, "nothing is called bad because the card died"


def test_a_card_that_gets_worse_is_still_read(laid_out, tmp_path):
    with open_blocks(laid_out) as room:
        trial = Trial.of(failing(room, solid(0.02, 4), 4, worsens=0.3), tmp_path)
        trial.sit()
        assert trial.share(Class.SAVE) > 0.97
        assert trial.readable_used > 0.99
        assert trial.is_true()


def test_stopped_thirty_times_it_comes_as_far(laid_out, tmp_path):
    rnd, faults = random.Random(5), solid(0.05, 5)
    shares = []
    for name, stops in (("through", 0), ("stopped", 30)):
        (tmp_path / name).mkdir()
        with open_blocks(laid_out) as room:
            trial = Trial.of(failing(room, faults, 5), tmp_path / name)
            for _ in range(stops):
                left = [rnd.randrange(1, 60)]

                def stop(left=left) -> bool:
                    left[0] -= 1
                    return left[0] < 0
                with pytest.raises(Stopped):
                    trial.sit(watch=Watch(should_stop=stop))
            trial.sit(Wishes(seconds=3600.0 - trial.state.spent.seconds))
            assert trial.is_true()
            assert trial.state.spent.sittings == stops + 1
            shares.append(trial.share())
    assert abs(shares[0] - shares[1]) < 0.02


def test_what_comes_back_is_had_when_it_is_asked_again(laid_out, tmp_path):
    with open_blocks(laid_out) as room:
        weak = Bad(300 * MIB, 4 * 4096, seconds=1.0, comes_back=0.7)
        trial = Trial.of(failing(room, (weak,), 6), tmp_path)
        before = trial.sit(Wishes(to_the_end=True)).ending, trial.readable_used
        trial.sit(Wishes(to_the_end=True, again=True))
        assert trial.readable_used >= before[1]
        assert trial.is_true()
        tries = [len(runs) for runs in trial.state.bad]
        assert trial.readable_used == 1.0 or tries[-1] > 0


def test_a_state_that_is_older_than_what_was_read_is_gone_on_from(laid_out, tmp_path):
    with open_blocks(laid_out) as room:
        trial = Trial.of(failing(room, solid(0.02, 7), 7), tmp_path)
        trial.sit(Wishes(seconds=60.0))
        early = (tmp_path / "state.json").read_bytes()
        trial.sit(Wishes(seconds=400.0))
        (tmp_path / "state.json").write_bytes(early)              # killed before the next one was written
        trial.sit()
        assert trial.readable_used > 0.999
        assert trial.is_true()


# ---------------------------------------------------------------------------------------------- on a bench

def bench_with(tmp_path: Path, bad_of=lambda _volume: ()) -> Bench:
    """A bench with one simulated card of 96 MiB; `bad_of` says where it is bad, from its volume."""
    slots = tmp_path / "slots"
    slots.mkdir()
    lay_out(slots / "pipkin.img", SMALL)
    with open_blocks(slots / "pipkin.img") as card:
        bad = [(MIB + start, length) for start, length in bad_of(open_partition(card, 1))]
    write_card(slots / "pipkin.toml", CardFile("Pipkin", SMALL, "SD", "0x77", unreadable=bad))
    return standard_bench(slots=slots, crate=tmp_path / "crate", state=tmp_path / "state")


def middle_of(*paths: str):
    """One bad sector in the middle of each of these files."""
    def bad(volume):
        files = {e.path: e for e in volume.tree().entries}
        return [(volume.extents_of(files[p])[0].start + 4096, 512) for p in paths]
    return bad


def test_it_ends_in_a_backup_that_names_files_with_holes(tmp_path):
    bench = bench_with(tmp_path, middle_of("saves/game 6.srm", "saves/game 12.srm"))
    card = bench.shelf.find("Pipkin")
    told = rescue(card, bench, Wishes(to_the_end=True), Watch())
    assert told.ending == Ending.TRIED
    assert "1 KiB of saves are missing" in told.sentence("Pipkin")
    backup = finish(card, bench, Watch())
    assert [(h.path, h.holes) for h in backup.record.holed] == [
        ("saves/game 6.srm", [(4096, 512)]), ("saves/game 12.srm", [(4096, 512)])]
    assert not backup.record.is_complete
    assert len(backup.record.unreadable) == 2
    assert unfinished_rescue(card, bench) is None
    assert bench.crate.backups_of(card.key) == (backup,)
    bench.crate.check(backup, Watch())
    with backup.open() as kept, card.open() as truth:
        volume, real = open_partition(kept, 1), open_partition(truth.inner, 1)
        files = {e.path: e for e in volume.tree().entries if e.kind == "file"}
        assert len(files) == backup.record.whole + 2
        for entry in real.tree().entries:
            if entry.kind == "file" and entry.path not in {h.path for h in backup.record.holed}:
                assert b"".join(volume.read_file(files[entry.path])) == b"".join(real.read_file(entry))


def test_a_bad_table_costs_no_file_that_can_be_reached_otherwise(tmp_path):
    bench = bench_with(tmp_path, lambda volume: [(volume.extents_of(volume.tree().find("gb"))[-1].start, 512)])
    card = bench.shelf.find("Pipkin")
    told = rescue(card, bench, Wishes(to_the_end=True), Watch())
    have, all_ = told.shares[Class.DOUBTFUL]
    assert have == all_ > 0, "what may hold the files of the lost folder is read too"
    backup = finish(card, bench, Watch())
    assert [(h.path, h.is_folder) for h in backup.record.holed] == [("gb", True)]
    assert "Of 1 folder a part is missing, with the files that it named: gb." in kept_sentence(backup.record)
    with backup.open() as kept, card.open() as truth:
        used = [e for e in open_partition(truth.inner, 1).used_extents()]
        lost = Runs((s, s + n) for s, n in backup.record.unreadable)
        for extent in used:
            for start, end in lost.missing(MIB + extent.start, MIB + extent.end):
                assert kept.read(start, end - start) == truth.inner.read(start, end - start)


def test_what_fails_of_a_fat_is_taken_from_its_second_copy(tmp_path):
    bench = bench_with(tmp_path, lambda volume: [(volume.geometry.fat_offset(0) + 1024, 2048)])
    card = bench.shelf.find("Pipkin")
    told = rescue(card, bench, Wishes(), Watch())
    assert told.is_whole, told.sentence("Pipkin")
    with finish(card, bench, Watch()).open() as kept, card.open() as truth:
        assert files_in(kept) == files_in(truth.inner)


def files_in(blocks) -> dict[str, bytes]:
    volume = open_partition(blocks, 1)
    return {e.path: b"".join(volume.read_file(e)) for e in volume.tree().entries if e.kind == "file"}


def test_another_card_is_not_read_into_the_rescue_of_this_one(tmp_path):
    bench = bench_with(tmp_path, middle_of("saves/game 6.srm"))
    card = bench.shelf.find("Pipkin")
    rescue(card, bench, Wishes(), Watch())
    with open_blocks(card.path, writable=True) as blocks:
        blocks.write(0, bytes(512))
    with pytest.raises(CrateError, match="not what it was"):
        rescue(card, bench, Wishes(), Watch())
    assert finish(card, bench, Watch()).record.holed


def test_two_at_once_and_damaged_files_are_refused_with_a_sentence(tmp_path):
    bench = bench_with(tmp_path, middle_of("saves/game 6.srm"))
    card = bench.shelf.find("Pipkin")
    rescue(card, bench, Wishes(), Watch())
    begun = unfinished_rescue(card, bench)

    def at_once(_standing) -> None:
        with pytest.raises(InUse):
            rescue(card, bench, Wishes(), Watch())
    rescue(card, bench, Wishes(), Watch(), tell=at_once)
    good = begun.path.read_bytes()
    for damage in (b"", good[:100], b"{}", good.replace(b'"unit":512', b'"unit":0'),
                   msgspec.json.encode(msgspec.json.decode(good) | {"have": [[0, 2 * SMALL]]}),
                   msgspec.json.encode(msgspec.json.decode(good) | {"target": "../../x"})):
        begun.path.write_bytes(damage)
        with pytest.raises(CrateError, match="untouched"):
            rescue(card, bench, Wishes(), Watch())
    begun.path.write_bytes(good)
    begun.target.write_bytes(b"")
    with pytest.raises(CrateError, match="was cut"):
        rescue(card, bench, Wishes(), Watch())


def test_a_rescue_that_was_killed_in_its_first_moments_is_gone_on_with(laid_out, tmp_path, monkeypatch):
    bench = standard_bench(slots=tmp_path / "none", crate=tmp_path / "crate", state=tmp_path / "state")
    medium = bench.shelf.medium_at(laid_out)

    def killed(*_):
        raise KeyboardInterrupt
    with monkeypatch.context() as patched:
        patched.setattr(job, "create_image", killed)
        with pytest.raises(KeyboardInterrupt):
            rescue(medium, bench, Wishes(), Watch())
    begun = unfinished_rescue(medium, bench)
    assert begun is not None
    rescue(medium, bench, Wishes(), Watch())
    backup = finish(medium, bench, Watch())
    assert backup.path == begun.path.with_suffix(".img")
    assert len(list((tmp_path / "crate").glob("*/*.img"))) == 1
