"""Forgetting: what is in no other backup is told, and room is only given back that nobody needs, whoever is at work."""

from __future__ import annotations

import errno
import fcntl
import os
import random
import stat
import threading
import time
from contextlib import suppress
from pathlib import Path

import pytest

from mosscrate.core.blocks import MemoryBlocks
from mosscrate.core.crate import Crate, forgetting, leases, storing
from mosscrate.core.crate.forgetting import forget, give_back, only_in_these
from mosscrate.core.crate.leases import at_work, lease
from mosscrate.core.errors import CrateError, InUse, MossError
from mosscrate.core.images.kept import packs_of
from mosscrate.core.watch import Watch
from tests.core.test_store import MIB, OPERATIONS, failing, filled, record

FILES = {name: random.Random(name).randbytes(300_000) for name in "abcdefgh"}


def card(names: str) -> MemoryBlocks:
    return filled("fat16", {name: FILES[name] for name in names}, block=4096, order=1)


def kept(crate: Crate, names: str, key: str = "key"):
    blocks = card(names)
    return crate.keep(record(blocks, key), blocks, Watch())


def everything_else_is_there(crate: Crate) -> None:
    assert crate.check_all(Watch()) == []
    for lane in crate.lanes():
        for backup in lane.backups:
            crate.check(backup, Watch())


def test_what_is_in_no_other_backup_is_told_and_its_room_comes_free(tmp_path):
    crate = Crate(tmp_path)
    first, second = kept(crate, "abcdef"), kept(crate, "efgh")
    assert {file.path for file in only_in_these([first], crate)} == {"a", "b", "c", "d"}
    assert {file.path for file in only_in_these([second], crate)} == {"g", "h"}
    before = crate.room()
    assert give_back(tmp_path, Watch()).freed == 0
    forget(first)
    assert [b.path for lane in crate.lanes() for b in lane.backups] == [second.path]
    given = give_back(tmp_path, Watch())
    assert given.freed > 4 * 290_000
    assert before - crate.room() > 4 * 280_000
    everything_else_is_there(crate)
    with second.open() as blocks:
        assert blocks.read(0, MIB)
    forget(second)
    give_back(tmp_path, Watch())
    assert list(tmp_path.rglob("*.pack")) == []


@pytest.mark.parametrize(("dead", "goes"), [
    ([50, 0, 0], [0]), ([20, 0, 0], []), ([20, 20, 0], [0]), ([5, 9, 8], []), ([20, 25, 30], [1, 2]),
    ([0, 0, 100], [2])])
def test_packs_go_that_are_a_third_dead_and_more_until_a_tenth_of_the_crate_is(dead, goes):
    rooms = {Path(str(k)): forgetting._Room(100, part) for k, part in enumerate(dead)}
    assert forgetting._worth_it(rooms) == [Path(str(k)) for k in goes]


@pytest.mark.parametrize("number", [errno.EINVAL, errno.ENOTSUP, errno.ENOSYS])
def test_a_folder_on_a_network_need_not_sync_its_names_nor_know_locks(number, tmp_path, monkeypatch):
    real = os.fsync

    def fsync(fd):
        if stat.S_ISDIR(os.fstat(fd).st_mode):
            raise OSError(number, "no")
        real(fd)

    def flock(*_about):
        raise OSError(errno.ENOLCK, "no")

    monkeypatch.setattr(os, "fsync", fsync)
    monkeypatch.setattr(fcntl, "flock", flock)
    crate = Crate(tmp_path)
    first, _second = kept(crate, "abcd"), kept(crate, "ae")
    forget(first)
    assert give_back(tmp_path, Watch()).removed > 0
    everything_else_is_there(crate)


def test_who_reads_meanwhile_finds_his_chunks_in_their_new_pack(tmp_path):
    crate = Crate(tmp_path)
    first, second = kept(crate, "abcd"), kept(crate, "ae")
    with second.open() as blocks:
        forget(first)
        assert give_back(tmp_path, Watch()).removed > 0
        blocks.drop_cache()
        assert blocks.read(0, blocks.size)


def test_nothing_is_removed_while_somebody_is_at_work_or_has_just_ended(tmp_path, monkeypatch):
    crate = Crate(tmp_path)
    forget(kept(crate, "abcd"))
    packs = set(tmp_path.rglob("*.pack"))
    with lease(tmp_path, "Pipkin is being kept"), pytest.raises(InUse, match="Pipkin is being kept"):
        give_back(tmp_path, Watch())
    real = forgetting._rooms_in

    def meanwhile(root: Path, lists) -> dict:
        found = real(root, lists)
        kept(crate, "abcd")                                # all of it is there already: not a byte is written
        return found
    monkeypatch.setattr(forgetting, "_rooms_in", meanwhile)
    with pytest.raises(InUse, match="made meanwhile"):
        give_back(tmp_path, Watch())
    assert packs <= set(tmp_path.rglob("*.pack"))
    everything_else_is_there(crate)


def test_a_lease_of_a_dead_process_counts_no_more(tmp_path):
    with lease(tmp_path, "it is kept"):
        (path,) = tmp_path.glob("busy/*.lease")
        held = path.read_bytes()
        assert at_work(tmp_path) == ["it is kept"]
    assert at_work(tmp_path) == []
    name = path.name.replace(path.suffixes[-2], path.suffixes[-2].rpartition("-")[0] + "-1")      # it began before
    (path.parent / name).write_bytes(held)
    assert at_work(tmp_path) == []
    assert list(tmp_path.glob("busy/*.lease")) == []


def test_a_lease_of_another_computer_is_broken_once_its_number_has_stood_still_for_ten_minutes(tmp_path, monkeypatch):
    clock = [1000.0]
    monkeypatch.setattr(leases, "_uptime", lambda: clock[0])
    path = tmp_path / "busy" / "0123456789abcdef.other_host_77-1-1.lease"
    path.parent.mkdir()
    path.write_text(f"{5:016}\nit is kept")
    for seconds, number in ((0, 5), (599, 5), (10, 6), (599, 6)):
        clock[0] += seconds
        path.write_text(f"{number:016}\nit is kept")
        assert [each.partition(";")[0] for each in at_work(tmp_path)] == ["it is kept on other_host"]
    clock[0] += 2
    assert at_work(tmp_path) == []
    assert sorted(each.name for each in path.parent.iterdir()) == ["0123456789abcdef.broken"]


def test_the_number_of_a_lease_goes_up_and_a_broken_one_is_not_made_anew(tmp_path, monkeypatch):
    monkeypatch.setattr(leases, "BEAT_S", 0.01)
    with lease(tmp_path, "it is kept") as held:
        until = time.monotonic() + 30
        while int(held.path.read_text().partition("\n")[0]) < 3 and time.monotonic() < until:
            time.sleep(0.01)
        assert int(held.path.read_text().partition("\n")[0]) >= 3
        assert held.path.read_text().endswith("\nit is kept")
        held.path.unlink()
        time.sleep(0.05)
        assert not held.path.exists()


def test_a_list_of_one_who_was_taken_for_dead_counts_only_if_nothing_is_missing(tmp_path, monkeypatch):
    crate = Crate(tmp_path)
    late = kept(crate, "abcd")
    (tmp_path / "busy" / f"{late.path.stem[-8:]}00000000.broken").touch()
    assert [len(lane.backups) for lane in crate.lanes()] == [1]
    pack = next(tmp_path.rglob("*.pack"))
    pack.rename(pack.with_suffix(".gone"))
    assert crate.lanes() == []
    assert "is not whole: its computer slept" in crate.troubles()[0].sentence
    real = storing._put

    def put(path: Path, sections) -> None:                    # it slept before this, and its packs went meanwhile
        (held,) = tmp_path.glob("busy/*.lease")
        held.with_name(f"{held.name[:16]}.broken").touch()
        for each in tmp_path.rglob("*.pack"):
            each.unlink()
        real(path, sections)
    monkeypatch.setattr(storing, "_put", put)
    with pytest.raises(CrateError, match="This computer slept while"):
        kept(crate, "be", key="other")
    assert not list(tmp_path.glob("backups/other/*.kept"))


@pytest.mark.parametrize("share", range(3))
def test_stopped_after_any_operation_everything_that_is_listed_can_be_read(tmp_path, monkeypatch, share):
    operations = (*OPERATIONS, (Path, "unlink"))
    for last in range(share, 60, 3):
        crate = Crate(tmp_path / str(last))
        first = kept(crate, "abcd")
        kept(crate, "be", key="other")
        forget(first)
        left = [last]
        with monkeypatch.context() as broken:
            for place, name in operations:
                broken.setattr(place, name, failing(getattr(place, name), left))
            with suppress(OSError, MossError):
                give_back(crate.root, Watch())
        if left[0] >= 0:
            return                                         # it needs fewer operations than that
        packs_of.cache_clear()
        everything_is_found_again(crate)


def everything_is_found_again(crate: Crate) -> None:
    """Also where names were taken away and the end never came."""
    give_back(crate.root, Watch())
    everything_else_is_there(crate)
    assert not list(crate.root.rglob("*.doomed"))


def test_many_who_keep_and_one_who_gives_back_at_once(tmp_path):
    crate, stop = Crate(tmp_path), threading.Event()
    rnd, failed = random.Random(4), list[Exception]()

    def give() -> None:
        while not stop.is_set():
            try:
                with suppress(InUse):
                    give_back(tmp_path, Watch())
            except Exception as error:
                failed.append(error)

    giver = threading.Thread(target=give)
    giver.start()
    for number in range(25):
        names = "".join(rnd.sample("abcdefgh", 3))
        with suppress(CrateError):                         # packs may be gone for a moment: then nothing is listed
            kept(crate, names, key=f"k{number % 3}")
        backups = [b for lane in crate.lanes() for b in lane.backups]
        if len(backups) > 3:
            forget(rnd.choice(backups))
    stop.set()
    giver.join()
    assert failed == []
    packs_of.cache_clear()
    everything_is_found_again(crate)


def test_a_list_that_cannot_be_read_keeps_everything(tmp_path):
    crate = Crate(tmp_path)
    first, second = kept(crate, "ab"), kept(crate, "cd")
    forget(first)
    second.path.write_bytes(second.path.read_bytes()[:300])
    packs = set(tmp_path.rglob("*.pack"))
    with pytest.raises(CrateError, match="nobody knows what it needs"):
        give_back(tmp_path, Watch())
    assert set(tmp_path.rglob("*.pack")) == packs
