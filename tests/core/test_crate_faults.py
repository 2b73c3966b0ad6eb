"""The crate fails closed: whatever one call of the system says in the middle, nothing that says “done” is wrong."""

from __future__ import annotations

import errno
import fcntl
import io
import itertools
import os
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from pathlib import Path

import pytest

from mosscrate.core.blocks import MemoryBlocks
from mosscrate.core.crate import Crate, checking, storing
from mosscrate.core.crate.forgetting import forget, give_back
from mosscrate.core.crate.leases import at_work, lease
from mosscrate.core.crate.mending import Mended, mend
from mosscrate.core.crate.packing import left_over
from mosscrate.core.crate.trust import NOTE, PROVING
from mosscrate.core.errors import CrateError, InUse, MossError
from mosscrate.core.images.kept import packs_of
from mosscrate.core.watch import Watch
from tests.core.test_forgetting import card, kept
from tests.core.test_store import record
from tests.loops import needs_root

CALLS = ((os, "open"), (os, "pread"), (os, "scandir"), (os, "stat"), (os, "fstat"), (os, "fsync"), (os, "unlink"),
         (os, "rename"), (os, "replace"), (os, "pwritev"), (os, "mkdir"), (io, "open"), (fcntl, "flock"))
ERRORS = (errno.EIO, errno.ESTALE, errno.EACCES, errno.ENOSPC)


@contextmanager
def failing_once(at: int, number: int, below: Path) -> Iterator[list[int]]:
    """The call of that number that concerns a folder fails; [calls so far]."""
    done, real = [0], {(place, name): getattr(place, name) for place, name in CALLS}

    def broken(call: Callable, *, is_named: bool) -> Callable:
        def instead(*words, **more):
            if not is_named or str(words[0]).startswith(str(below)):
                done[0] += 1
                if done[0] == at:
                    raise OSError(number, os.strerror(number), str(words[0]))
            return call(*words, **more)
        return instead
    for (place, name), call in real.items():
        setattr(place, name, broken(call, is_named=name not in ("pread", "fstat", "fsync", "pwritev", "flock")))
    try:
        yield done
    finally:
        for (place, name), call in real.items():
            setattr(place, name, call)


def damage(crate: Path) -> None:
    """Some bytes in the middle of the first pack."""
    pack = sorted(crate.rglob("*.pack"))[0]
    data = bytearray(pack.read_bytes())
    data[len(data) // 2:len(data) // 2 + 40] = bytes(40)
    pack.write_bytes(data)


ACTS = {
    "keep": lambda crate, first: crate.check(kept(crate, "acf", key="third"), Watch()),
    "forget": lambda crate, first: forget(first),
    "give back": lambda crate, first: give_back(crate.root, Watch()),
    "check": lambda crate, first: crate.check_all(Watch()),
    "check damage": lambda crate, first: _must_tell(crate.check_all(Watch())),
    "mend": lambda crate, first: mend(first.path, card("abcd"), Watch()),
}


def _must_tell(told: list[str]) -> None:
    assert told, "the damage was not told"


@pytest.mark.parametrize("share", range(4))
@pytest.mark.parametrize("what", ACTS)
def test_one_call_that_fails_never_ends_in_a_word_that_is_wrong(what, share, tmp_path):
    for at in itertools.count(1 + share, 4):
        crate = Crate(tmp_path / str(at))
        first, second = kept(crate, "abcd"), kept(crate, "be", key="other")
        if what == "give back":
            forget(first)
        if what in ("check damage", "mend"):
            damage(crate.root)
        packs_of.cache_clear()
        said = None
        with failing_once(at, ERRORS[at // 4 % len(ERRORS)], crate.root) as calls, suppress(MossError):
            said = ACTS[what](crate, first)
        if calls[0] < at:
            assert at > 3, "it makes more calls than that"
            return
        packs_of.cache_clear()
        if isinstance(said, Mended) and not said.left:
            crate.check(first, Watch())
        for backup in (b for lane in crate.lanes() for b in lane.backups if not what.endswith(("damage", "mend"))):
            crate.check(backup, Watch())
        assert second.path.exists()


def test_what_is_taken_over_from_a_damaged_pack_is_read_from_the_card_and_stored_anew(tmp_path):
    crate, blocks = Crate(tmp_path), card("abcd")
    first = crate.keep(record(blocks), blocks, Watch())
    damage(tmp_path)
    with pytest.raises(CrateError, match="cannot be read"):
        crate.check(first, Watch())
    packs_of.cache_clear()
    second = crate.keep(record(blocks), blocks, Watch())
    crate.check(second, Watch())
    with second.open() as back:
        assert back.read(0, back.size) == bytes(blocks.data)
    crate.check(first, Watch())                          # the same chunks: they can be read again
    assert len(crate.check_all(Watch())) == 1, "the damaged pack itself is still told"


def test_reading_what_is_taken_over_is_told_while_it_lasts_and_done_once(tmp_path):
    crate, blocks, told = Crate(tmp_path), card("abcd"), list[str]()

    class Heard(Watch):
        def progress(self, phase: str, done: int, total: int | None) -> None:
            told.append(phase)
    crate.keep(record(blocks), blocks, Watch())
    (tmp_path / "packs" / NOTE).unlink()                 # as a crate of an earlier version
    for number in range(2):
        packs_of.cache_clear()
        crate.keep(record(blocks), blocks, Heard())
        assert (PROVING in told) is (number == 0)
        told.clear()


def test_after_mending_a_check_finds_nothing_and_the_damaged_pack_is_gone(tmp_path):
    crate = Crate(tmp_path)
    first, second = kept(crate, "abcd"), kept(crate, "be", key="other")
    pack = sorted(tmp_path.rglob("*.pack"))[0]
    damage(tmp_path)
    owner, names = (first, "abcd") if _is_damaged(crate, first) else (second, "be")
    mended = mend(owner.path, card(names), Watch())
    assert mended.sentence("Pipkin").endswith("it is whole again.")
    assert not pack.exists()
    assert crate.check_all(Watch()) == []
    crate.check(first, Watch())
    crate.check(second, Watch())


def _is_damaged(crate: Crate, backup) -> bool:
    try:
        crate.check(backup, Watch())
    except CrateError:
        return True
    return False


def test_a_damaged_pack_stays_while_what_is_needed_of_it_is_nowhere_else(tmp_path):
    crate = Crate(tmp_path)
    first = kept(crate, "abcd")
    damage(tmp_path)
    mended = mend(first.path, MemoryBlocks(bytes(card("abcd").size)), Watch())
    assert mended.left
    assert list(tmp_path.rglob("*.pack"))
    assert crate.check_all(Watch())


def test_packs_of_which_nothing_is_needed_go_although_the_disk_is_full(tmp_path, monkeypatch):
    crate = Crate(tmp_path)
    first, second = kept(crate, "ab"), kept(crate, "cdef", key="other")
    kept(crate, "f", key="third")
    forget(first)
    forget(second)
    real = os.pwritev

    def full(fd, parts, at):
        raise OSError(errno.ENOSPC, "No space left on device")
    monkeypatch.setattr(os, "pwritev", full)
    given = give_back(tmp_path, Watch())
    assert given.freed > 500_000
    with pytest.raises(CrateError, match="The disk of the crate is full: what is still needed") as told:
        give_back(tmp_path, Watch())
    assert "backup was made" not in str(told.value)
    monkeypatch.setattr(os, "pwritev", real)
    assert give_back(tmp_path, Watch()).freed > 800_000
    assert crate.check_all(Watch()) == []


def test_a_check_beside_giving_back_tells_no_damage(tmp_path, monkeypatch):
    crate = Crate(tmp_path)
    first = kept(crate, "abcd")
    kept(crate, "be", key="other")
    forget(first)
    real, given = checking.prove_pack, []

    def meanwhile(path: Path):
        if not given:
            given.append(give_back(tmp_path, Watch()))
        return real(path)
    monkeypatch.setattr(checking, "prove_pack", meanwhile)
    assert crate.check_all(Watch()) == []
    assert given[0].removed


OTHER = """
import os, sys, time
from pathlib import Path
from mosscrate.core.crate.leases import lease
from mosscrate.core.crate.packing import PackWriter
crate = Path(sys.argv[1])
with lease(crate, "it is kept elsewhere"):
    writer = PackWriter(crate, verify=True)
    writer.add(bytes(32), 0, b"chunk", 5)
    print("held", flush=True)
    sys.stdin.readline()
    writer.finish()
    print("done", flush=True)
"""


@needs_root
def test_a_process_of_another_namespace_is_at_work_until_it_is_dead(tmp_path):
    words = ["unshare", "--pid", "--fork", "--kill-child", "--mount-proc", sys.executable, "-c", OTHER, str(tmp_path)]

    def started() -> subprocess.Popen[str]:
        return subprocess.Popen(words, stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True)
    with started() as other:
        if not other.stdout.readline():
            pytest.skip("no namespace of its own can be had here")
        assert at_work(tmp_path) == ["it is kept elsewhere"]
        assert left_over(tmp_path) == []
        with pytest.raises(InUse, match="kept elsewhere"):
            give_back(tmp_path, Watch())
        other.stdin.write("\n")
        other.stdin.flush()
        assert other.stdout.readline() == "done\n", "its unfinished pack was taken away"
    assert at_work(tmp_path) == []
    with started() as other:
        other.stdout.readline()
        other.kill()
        other.wait()
        until = time.monotonic() + 30
        while at_work(tmp_path) and time.monotonic() < until:  # the kernel is about to kill it
            time.sleep(0.05)
    assert at_work(tmp_path) == []
    assert len(left_over(tmp_path)) == 1


@needs_root
@pytest.mark.parametrize("what", ["lists", "lease", "packs"])
def test_what_a_second_person_may_not_see_is_not_absent(what):
    with tempfile.TemporaryDirectory() as folder:
        _second_person(what, Path(folder))


def _second_person(what: str, folder: Path) -> None:
    crate = Crate(folder / "crate")
    first = kept(crate, "abcd")
    kept(crate, "be", key="other")
    forget(first)
    closed = {"lists": crate.root / "backups/other", "packs": sorted(crate.root.glob("packs/*/"))[0]}.get(what)
    for path in [folder, *folder.rglob("*")]:
        os.chmod(path, 0o777)
    with lease(crate.root, "mine") as held:
        if what == "lease":
            os.chmod(held.path, 0o600)
            _as_somebody_else(lambda: _must_refuse(crate, InUse))
        else:
            held.path.unlink()
            os.chmod(closed, 0o700)
            _as_somebody_else(lambda: _must_refuse(crate, CrateError))
    for backup in (b for lane in crate.lanes() for b in lane.backups):
        crate.check(backup, Watch())


def _must_refuse(crate: Crate, kind: type[MossError]) -> None:
    before = sorted(p.name for p in crate.root.rglob("*.pack"))
    try:
        give_back(crate.root, Watch())
    except kind:
        assert sorted(p.name for p in crate.root.rglob("*.pack")) == before
        return
    raise AssertionError("room was given back")


def _as_somebody_else(work: Callable[[], None]) -> None:
    pid = os.fork()
    if pid == 0:
        try:
            os.setgid(65534)
            os.setuid(65534)
            work()
        except BaseException as error:
            os.write(2, f"{error!r}\n".encode())
            os._exit(1)
        os._exit(0)
    assert os.waitpid(pid, 0)[1] == 0


def test_a_keep_whose_lease_was_taken_away_is_listed_only_if_nothing_is_missing(tmp_path, monkeypatch):
    crate, real = Crate(tmp_path), storing._put

    def put(path: Path, sections) -> None:
        for each in (*tmp_path.glob("busy/*.lease"), *tmp_path.rglob("*.pack")):
            each.unlink()
        real(path, sections)
    monkeypatch.setattr(storing, "_put", put)
    with pytest.raises(CrateError, match="No backup was made"):
        crate.keep(record(card("ab")), card("ab"), Watch())
    assert crate.lanes() == []
