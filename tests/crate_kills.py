"""A crate on which two work at once, one of them killed at any of its writes and renames, as processes of their own.

    python -m tests.crate_kills SEED COUNT FOLDER [KIND ...]

After each kill everything that is listed can be read and is what was kept, and the next one comes to its end.
"""

from __future__ import annotations

import json
import os
import random
import shutil
import signal
import sys
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from functools import partial
from pathlib import Path

from blake3 import blake3

from mosscrate.core.blocks import MemoryBlocks
from mosscrate.core.blocks.faulty import Bad, Faults, FaultyBlocks
from mosscrate.core.crate import Crate
from mosscrate.core.crate.mending import mend
from mosscrate.core.crate.parts import Choice
from mosscrate.core.devices import Device, KnownDevices
from mosscrate.core.devices.keeping import keep_device
from mosscrate.core.errors import InUse, MossError
from mosscrate.core.images.kept.manifest import CardRecord
from mosscrate.core.rescue import Wishes, finish, rescue
from mosscrate.core.sheet.running.forgetting import forget_on, reclaim
from mosscrate.core.sizes import MIB
from mosscrate.core.slots import Medium, Source
from mosscrate.core.watch import Watch
from mosscrate.demo.device import PASSWORD, StandIn, fill
from tests.cli.test_crating import rot
from tests.core.test_store import filled
from tests.processes import bench_in

CALLS = ("pwrite", "pwritev", "fsync", "rename", "replace", "unlink", "link", "symlink", "mkdir")
BAD = (Bad(200 * 512, 512), Bad(3000 * 512, 2048))
KINDS = ("keep", "forget", "reclaim", "mend", "rescue", "device")


class Calls:
    """Counts what a process does to its disk, and kills it at one of these calls."""

    def __init__(self, kill_at: int = 0) -> None:
        self.count, self.kill_at = 0, kill_at
        for name in CALLS:
            setattr(os, name, self._counted(getattr(os, name)))

    def _counted(self, real: Callable[..., object]) -> Callable[..., object]:
        def call(*words: object, **more: object) -> object:
            self.count += 1
            if self.count == self.kill_at:
                os.kill(os.getpid(), signal.SIGKILL)
            return real(*words, **more)
        return call


def started(work: Callable[[], object], kill_at: int = 0) -> Callable[[], str]:
    """A child at work; the result waits for what it says: "" where it was killed, its calls, or what went wrong."""
    here, there = os.pipe()
    pid = os.fork()
    if pid == 0:
        calls = Calls(kill_at)
        try:
            work()
            said = str(calls.count)
        except BaseException as error:
            said = f"{type(error).__name__}: {error}"
        os.write(there, said.encode()[:4000])
        os._exit(0)
    os.close(there)

    def wait() -> str:
        with os.fdopen(here, "rb") as pipe:
            said = pipe.read().decode()
        os.waitpid(pid, 0)
        return said
    return wait


def done(work: Callable[[], object]) -> None:
    """Let a child do it to its end: nothing is forked from a process with threads."""
    said = started(work)()
    if not said.isdecimal():
        raise AssertionError(said)


class Bench:
    """A crate with some history, and two cards that people keep in it."""

    def __init__(self, folder: Path, rng: random.Random) -> None:
        self.folder, self.rng, self.bench = folder, rng, bench_in(folder)
        self.crate: Crate = self.bench.crate
        self.cards = [MemoryBlocks(bytes(_card(number).data), name=f"Card {number}") for number in range(2)]
        self.places: tuple[set[int], set[int]] = (set(), set())
        (folder / "worn").write_bytes(self.cards[0].data)
        (folder / "kept.json").write_text("{}")
        for number in (0, 1, 0, 1):
            self.change(number)
            done(partial(self.keep, number))
        done(self.must_be_whole)

    def change(self, number: int) -> None:
        """A few sectors, never twice of one chunk: the card holds all that was ever kept of it."""
        card, places = self.cards[number], self.places[number]
        place = self.rng.choice([k for k in range(card.size // MIB // 2, card.size // MIB, 2) if k not in places])
        places.add(place)
        card.write(place * MIB + self.rng.randrange(MIB - 4096) // 512 * 512, self.rng.randbytes(3000))

    def keep(self, number: int) -> None:
        card = self.cards[number]
        record = CardRecord(card.name, f"key{number}", f"CRD{number}", card.size)
        self.crate.keep(record, card, Watch(), every_byte=True)

    def forget(self) -> None:
        lane = self.rng.choice(self.crate.lanes())
        forget_on(self.rng.choice(lane.backups), self.bench, Watch())

    def mend(self) -> None:
        for backup in [b for lane in self.crate.lanes() for b in lane.backups]:
            for card in self.cards:
                mend(backup.path, card, Watch())

    def rescue(self) -> None:
        medium = _Failing("Worn card", self.folder / "worn", self.cards[0].size, Source.READER, serial="0x77")
        rescue(medium, self.bench, Wishes(seconds=30.0), Watch())
        finish(medium, self.bench, Watch())

    def device(self, known: KnownDevices, there: StandIn) -> None:
        with Device(there.address, known, password=PASSWORD, keys=[]) as device:
            device.connect()
            keep_device(self.crate, device, Choice(), Watch())

    def lose_one(self) -> None:
        """A list goes: its room is to be given back."""
        self.rng.choice(self.crate.lanes()).backups[0].path.unlink()

    def rot(self) -> None:
        """Some packs are damaged; what is listed is not checked until it is mended."""
        for pack in sorted(self.crate.root.rglob("*.pack"))[:2]:
            rot(pack, every=self.rng.choice((5000, 40_000)))

    def must_be_whole(self) -> None:
        """Everything that is listed can be read, and is what it was when it was listed first."""
        note = self.folder / "kept.json"
        kept = json.loads(note.read_text())
        bad = Crate(self.crate.root).check_all(Watch())
        if bad:
            raise AssertionError(f"{bad[:3]}")
        for lane in self.crate.lanes():
            for backup in lane.backups:
                with backup.open() as disk:
                    now = blake3(disk.read(0, disk.size)).hexdigest()
                if kept.setdefault(backup.id, now) != now:
                    raise AssertionError(f"{backup.path} holds something else than it did")
        note.write_text(json.dumps(kept))


class _Failing(Medium):
    """A card with places that cannot be read."""

    def _blocks(self) -> FaultyBlocks:
        return FaultyBlocks(MemoryBlocks(self.path.read_bytes(), name=self.name), Faults(bad=BAD))

    def open(self) -> FaultyBlocks:  # type: ignore[override]
        return self._blocks()

    def open_for_job(self, reach: object = None) -> FaultyBlocks:  # type: ignore[override]
        return self._blocks()

    open_to_look = open


def _card(number: int) -> MemoryBlocks:
    rnd = random.Random(number)
    return filled("fat16", {f"g{k}": random.Random(k % 9).randbytes(60_000) for k in range(12)},
                  block=4096, order=rnd.randrange(9))


def killed(kind: str, folder: Path, rng: random.Random, act: Callable[[Bench], Callable[[], object]]) -> bool:
    """One kill, with somebody else at work in two of three; returns whether it met the act."""
    place = Bench(folder, rng)
    place.change(0)
    place.change(1)
    if before := {"reclaim": place.lose_one, "mend": place.rot}.get(kind):
        done(before)
    work = act(place)
    other = started(lambda: place.keep(1)) if rng.random() < 0.66 and kind != "mend" else None
    said = started(work, rng.randint(1, rng.choice((10, 60, 250))))()
    theirs = other() if other else "0"
    if not theirs.isdecimal():
        raise AssertionError(f"beside {kind}: {theirs}")
    if said and not said.isdecimal() and not said.startswith("InUse"):
        raise AssertionError(f"{kind}: {said}")
    if kind != "mend":
        done(place.must_be_whole)
    done(act(place))
    done(place.must_be_whole)
    return not said


@contextmanager
def acts(folder: Path) -> Iterator[dict[str, Callable[[Bench], Callable[[], object]]]]:
    """What is killed, by name; a device runs beside."""
    fill(folder / "device")
    ready, stop = os.pipe(), os.pipe()
    known = KnownDevices(folder / "devices.json")
    there = StandIn(folder / "device")
    pid = os.fork()                                      # its threads are in a process of their own
    if pid == 0:
        with there:
            os.write(ready[1], f"{there.port}".encode())
            os.read(stop[0], 1)
        os._exit(0)
    there.port = int(os.read(ready[0], 20))
    known.trust(there.address.server, " ".join(there.key.export_public_key().decode().split()[:2]))
    try:
        yield {"keep": lambda b: lambda: b.keep(0), "forget": lambda b: b.forget,
               "reclaim": lambda b: lambda: reclaim(b.bench, Watch()), "mend": lambda b: b.mend,
               "rescue": lambda b: b.rescue, "device": lambda b: lambda: b.device(known, there)}
    finally:
        os.write(stop[1], b".")
        os.waitpid(pid, 0)


def main() -> None:
    seed, count, folder, kinds = int(sys.argv[1]), int(sys.argv[2]), Path(sys.argv[3]), sys.argv[4:] or list(KINDS)
    rng, met = random.Random(seed), 0
    with acts(folder) as known:
        for number in range(count):
            place = folder / f"{number}"
            place.mkdir()
            met += killed(kinds[number % len(kinds)], place, rng, known[kinds[number % len(kinds)]])
            shutil.rmtree(place)
    print(f"{count} acts on a crate, {met} of them killed")
    if not met:
        raise AssertionError("no kill met anything at work")


if __name__ == "__main__":
    try:
        main()
    except (MossError, InUse) as error:
        raise AssertionError(error) from error
