"""Real processes for tests: children that are forked from a small parent, do one thing to a card, and may be killed.

    python -m tests.processes kills SEED COUNT FOLDER [loop]
    python -m tests.processes pairs SEED COUNT FOLDER
    python -m tests.processes full SEED 30 FOLDER
    python -m tests.processes proofs SEED COUNT FOLDER

It is run as a program of its own, so that nothing is forked from a process with threads.
"""

from __future__ import annotations

import os
import random
import signal
import sys
import time
from collections.abc import Callable
from pathlib import Path

from mosscrate.core.blocks import MemoryBlocks
from mosscrate.core.contents import survey
from mosscrate.core.contents.survey import open_partition
from mosscrate.core.crate import Crate
from mosscrate.core.errors import MossError
from mosscrate.core.proof import job as proof
from mosscrate.core.sheet import steps as s
from mosscrate.core.sheet.bench import Bench, card_of
from mosscrate.core.sheet.running import recovering
from mosscrate.core.sheet.running import run as running
from mosscrate.core.sheet.running.job import Log
from mosscrate.core.sheet.running.performing import perform
from mosscrate.core.sheet.sheet import JobSheet, reference
from mosscrate.core.slots import Medium, Shelf
from mosscrate.core.watch import Watch
from tests.core.sheet.test_steps import CASES, card, shape, trees
from tests.loops import full_disk, loop
from tests.volumes import fresh

STEPS = tuple(case.step for case in CASES)


class Writes:
    """Counts the writes and syncs of a process, and kills it at one of them."""

    def __init__(self, kill_at: int = 0) -> None:
        self.count, self.kill_at = 0, kill_at
        for name in ("pwrite", "pwritev", "fsync"):
            setattr(os, name, self._counted(getattr(os, name)))

    def _counted(self, real: Callable[..., int]) -> Callable[..., int]:
        def call(*words: object) -> int:
            self.count += os.fstat(words[0]).st_nlink > 0     # what a view holds aside lies in a file without a name
            if self.count == self.kill_at:
                os.kill(os.getpid(), signal.SIGKILL)
            return real(*words)
        return call


def forked(work: Callable[[], str], *, kill_after: float | None = None, kill_at: int = 0) -> str | None:
    """What `work` said, done in a child; None where that was killed, after some time or at one of its writes."""
    here, there = os.pipe()
    pid = os.fork()
    if pid == 0:
        Writes(kill_at)
        try:
            said = work()
        except MossError as error:
            said = f"{type(error).__name__}: {error}"
        except BaseException as error:
            said = f"CRASH {type(error).__name__}: {error}"
        os.write(there, said.encode()[:4000])
        os._exit(0)
    os.close(there)
    if kill_after is not None:
        time.sleep(kill_after)
        os.kill(pid, signal.SIGKILL)
    with os.fdopen(here, "rb") as pipe:
        said = pipe.read().decode()
    os.waitpid(pid, 0)
    return said or None


def writes_of(work: Callable[[], object]) -> str:
    """How many writes and syncs some work makes in this process."""
    writes = Writes()
    work()
    return str(writes.count)


def bench_in(folder: Path) -> Bench:
    return Bench(Shelf(backups=folder / "crate"), Crate(folder / "crate"), folder / "state")


class Killed:
    """One card, one step, and what becomes of it under a random kill followed by another random act."""

    def __init__(self, rng: random.Random, folder: Path, path: Path, step: s.Step) -> None:
        self.rng, self.bench, self.path, self.step = rng, bench_in(folder), path, step
        self.before = MemoryBlocks(path.read_bytes() if path.is_file() else _device_bytes(path))
        self.after = MemoryBlocks(bytes(self.before.data))
        perform(step, self.after, None, Watch())

    def act(self, what: str) -> str:
        medium = self.bench.shelf.medium_at(self.path)
        if what == "run":
            sheet = JobSheet((self.step,), None, reference(medium))
            running.run(sheet, self.bench, Watch(), typed_tag=medium.tag)
            return "run"
        job = next(iter(Log(self.bench.state).jobs()), None)
        if job is None:
            return "no job"                                   # it was killed before it had one
        if what == "undo":
            return recovering.undo(job, self.bench, Watch(), typed_tag=medium.tag, card=medium)
        recovering.finish(job, self.bench, Watch(), typed_tag=medium.tag, card=medium)
        return "finish"

    def cost(self) -> tuple[float, int]:
        """Seconds and writes that a whole run takes."""
        begun = time.monotonic()
        said = forked(lambda: writes_of(lambda: self.act("run")))
        assert said is not None, "nobody killed it"
        return time.monotonic() - begun, int(said)

    def go(self, cost: tuple[float, int]) -> bool:
        """Kill a run, then something else, and again; at last let one come to its end and compare.

        Returns whether the card was in the middle of the job after the first kill.
        """
        self._kill("run", cost)
        was_between = bool(recovering.unfinished(self.bench))
        for _ in range(self.rng.randrange(3)):
            self._kill(self.rng.choice(("undo", "finish")), cost)
        job = next(iter(Log(self.bench.state).jobs()), None)
        last = self.rng.choice(("undo", "finish"))
        if job is None or not job.is_unfinished:
            last = "undo" if job is not None and job.status == "done" else ""
        said = forked(lambda: self.act(last)) if last else ""
        now = MemoryBlocks(self.path.read_bytes() if self.path.is_file() else _device_bytes(self.path))
        if said is not None and (said.startswith("CRASH") or "Error" in said or "Refusal" in said):
            raise AssertionError(f"{self.step}: {last} said {said}")
        left = [j.id for j in recovering.unfinished(self.bench)]
        is_done = last == "finish" or (not last and job is not None and job.status == "done")
        wanted = self.after if is_done else self.before
        if left or (trees(now), shape(survey(now))) != (trees(wanted), shape(survey(wanted))):
            raise AssertionError(f"{self.step}: after {last or 'nothing'} ({said}) the card is not as it says; {left}")
        if not is_done and self.step.is_undone_exactly and now.data != self.before.data:
            raise AssertionError(f"{self.step}: bytes differ after undo")
        return was_between

    def _kill(self, what: str, cost: tuple[float, int]) -> None:
        is_by_time = self.rng.random() < 0.25
        first = 1 if self.rng.random() < 0.3 else cost[1] // 2       # the card is written in the second half
        after = self.rng.uniform(0, cost[0]) if is_by_time else None
        said = forked(lambda: self.act(what), kill_after=after,
                      kill_at=0 if is_by_time else self.rng.randint(max(1, first), cost[1] + 1))
        if said is not None and said.startswith("CRASH"):
            raise AssertionError(f"{self.step}: {what} said {said}")


def kills(seed: int, count: int, folder: Path, *, on_loop: bool) -> None:
    """So many kills, each followed by another random act."""
    rng = random.Random(seed)
    costs: dict[type, tuple[float, int]] = {}
    between = 0
    for number in range(count):
        step = STEPS[(seed * count + number) % len(STEPS)]
        place = folder / f"{number}"
        place.mkdir()
        path = place / "card.img"
        path.write_bytes(bytes(card().data))
        if type(step) not in costs:
            probe = place / "probe"
            probe.mkdir()
            (probe / "card.img").write_bytes(path.read_bytes())
            costs[type(step)] = Killed(rng, probe, probe / "card.img", step).cost()
        if on_loop:
            with loop(path) as device:
                between += Killed(rng, place, device, step).go(costs[type(step)])
        else:
            between += Killed(rng, place, path, step).go(costs[type(step)])
        path.unlink()
    print(f"{count} kills, {between} of them in the middle of a change")
    if not between:
        raise AssertionError("no kill met a card in the middle of a change")


def pairs(seed: int, count: int, folder: Path) -> None:
    """Two processes at once on one image: none of the files of those that said “done” is missing."""
    rng = random.Random(seed)
    path, bench = folder / "card.img", bench_in(folder)
    path.write_bytes(bytes(fresh("fat16").data))
    wanted: set[str] = set()
    told = 0

    def put(name: str) -> str:
        medium = bench.shelf.medium_at(path)
        step = s.MakeFolder(0, name)
        running.run(JobSheet((step,), None, reference(medium)), bench, Watch(), typed_tag=medium.tag)
        return "done"

    for number in range(count):
        names = (f"A{number}", f"B{number}")
        delay = rng.uniform(0, 0.02)

        def first(name: str = names[0]) -> str:
            return put(name)

        def both(first: Callable[[], str] = first, second: str = names[1], delay: float = delay) -> str:
            here, there = os.pipe()
            if os.fork() == 0:
                time.sleep(delay)
                try:
                    said = put(second)
                except MossError as error:
                    said = str(error)
                os.write(there, said.encode())
                os._exit(0)
            os.close(there)
            try:
                mine = first()
            except MossError as error:
                mine = str(error)
            return f"{mine}\n{os.read(here, 4000).decode()}"
        answers = (forked(both) or "").splitlines()
        for name, said in zip(names, answers, strict=True):
            if said == "done":
                wanted.add(name)
            else:
                told += 1
                if not any(word in said for word in ("being written", "being read", "changed since", "held by")):
                    raise AssertionError(f"{name} was told: {said}")
        there = {e.path for e in open_partition(MemoryBlocks(path.read_bytes()), 0).tree().entries}
        if there != wanted:
            raise AssertionError(f"after pair {number}: {sorted(there ^ wanted)}")
    print(f"{count} pairs, {len(wanted)} done, {told} told")
    if not told:
        raise AssertionError("no two of them ever met")


def proofs(seed: int, count: int, folder: Path) -> None:
    """Proofs of every kind, killed at any write, put back, killed in that too and put back: the card is as before."""
    rng = random.Random(seed)
    before = bytes(card().data)
    between = 0
    for number in range(count):
        place = folder / f"{number}"
        place.mkdir()
        path, bench = place / "card.img", bench_in(place)
        path.write_bytes(before)
        prove = (proof.prove, proof.prove_every_block, _written)[number % 3]

        def work(prove: Callable[..., object] = prove, path: Path = path, bench: Bench = bench) -> str:
            medium = bench.shelf.medium_at(path)
            prove(medium, bench, Watch(), typed_tag=medium.tag)
            return "done"

        def back(path: Path = path, bench: Bench = bench) -> str:
            medium = bench.shelf.medium_at(path)
            return proof.put_back_on(medium, bench, Watch(), typed_tag=medium.tag)
        said = forked(work, kill_at=rng.randint(1, 400 if prove is proof.prove else 160))
        between += path.read_bytes() != before
        if said is None and rng.random() < 0.5:
            forked(back, kill_at=rng.randint(1, 60))
        last = forked(back) or ""
        if path.read_bytes() != before or last.startswith("CRASH"):
            raise AssertionError(f"{prove.__name__}, number {number}: “{said}”, then “{last}”: it is not as before")
        path.unlink()
    print(f"{count} proofs, {between} of them killed with marks on the card")
    if not between:
        raise AssertionError("no kill met a card with marks on it")


def _written(medium: Medium, bench: Bench, watch: Watch, *, typed_tag: str) -> object:
    return proof.write(medium, bench, None, watch, typed_tag=typed_tag)


def full_disks(seed: int, folder: Path) -> None:
    """A state folder, and a crate, on disks of thirty sizes: done, refused with the card as it was, or taken back."""
    rng = random.Random(seed)
    path = folder / "card.img"
    before = card()
    for number in range(30):
        path.write_bytes(bytes(before.data))
        size = int(16384 * 1.42 ** number)
        step = rng.choice(STEPS)
        with full_disk(folder / "disk", size) as disk:
            bench = Bench(Shelf(), Crate(disk / "crate"), disk / "state")
            medium = bench.shelf.medium_at(path)
            sheet = JobSheet((step,), None, reference(medium))
            said = forked(lambda b=bench, m=medium, j=sheet: _ran(j, b, m))
            _must_be_told(said, step)
            now, jobs = path.read_bytes(), list(Log(bench.state).jobs())
            if said != "done":
                for job in recovering.unfinished(bench):
                    recovering.undo(job, bench, Watch(), typed_tag=medium.tag, card=medium)
                    now = path.read_bytes()
                is_back = trees(MemoryBlocks(now)) == trees(before)
                if not is_back or (not jobs and now != bytes(before.data)):
                    raise AssertionError(f"{step} on {size} bytes: {said}; the card is not as before")
        path.write_bytes(bytes(before.data))
        with full_disk(folder / "disk", size) as disk:
            crate = Crate(disk / "crate")
            said = forked(lambda c=crate, m=medium: _kept(c, m))
            _must_be_told(said, "keep")
            left = [p for p in disk.rglob("*") if p.is_file()]
            if (said == "done") != bool(crate.lanes()) or (said != "done" and left):
                raise AssertionError(f"keep on {size} bytes: {said}; {left} are left")
    print("30 sizes")


def _ran(sheet: JobSheet, bench: Bench, medium: Medium) -> str:
    running.run(sheet, bench, Watch(), typed_tag=medium.tag)
    return "done"


def _kept(crate: Crate, medium: Medium) -> str:
    with medium.open() as blocks:
        crate.keep(card_of(medium), blocks, Watch())
    return "done"


def _must_be_told(said: str | None, what: object) -> None:
    if said is None or said.startswith("CRASH"):
        raise AssertionError(f"{what}: {said}")


def _device_bytes(path: Path) -> bytes:
    with path.open("rb") as file:
        return file.read()


def main() -> None:
    what, seed, count, folder = sys.argv[1], int(sys.argv[2]), int(sys.argv[3]), Path(sys.argv[4])
    if what == "kills":
        kills(seed, count, folder, on_loop="loop" in sys.argv[5:])
    elif what == "full":
        full_disks(seed, folder)
    elif what == "proofs":
        proofs(seed, count, folder)
    else:
        pairs(seed, count, folder)


if __name__ == "__main__":
    main()
