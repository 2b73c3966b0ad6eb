"""Histories of a card and its jobs: run, killed, cut off, undone, finished, exchanged, damaged; held against the truth.

The code that works for people is driven here over a card and a state folder in memory that lose, and tear, what was not
synced. After every act the word that was said is compared with what is true of the card, and after every cut what the
log says of it. Variants of the code that are broken on purpose must be found out by the same search.
"""

from __future__ import annotations

import random
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field, replace
from itertools import product
from typing import Any, NamedTuple

from blake3 import blake3

from mosscrate.core.blocks import Extent
from mosscrate.core.blocks.base import Blocks
from mosscrate.core.blocks.stretches import Stretches
from mosscrate.core.errors import JobError, MossError
from mosscrate.core.sheet.running.job import Job, Log, Status
from mosscrate.core.sheet.running.journal import journal as journal_module
from mosscrate.core.sheet.running.journal import stack as stack_module
from mosscrate.core.sheet.running.journal import states as states_module
from mosscrate.core.sheet.running.journal import structures as structures_module
from mosscrate.core.sheet.running.journal import writing as writing_module
from mosscrate.core.sheet.running.journal.journal import Journal
from mosscrate.core.sheet.running.journal.stack import LIVE, Stack, Undone
from mosscrate.core.sheet.running.journal.store import JOURNAL, RECORD, First
from mosscrate.core.sheet.running.journal.structures import Slot, Standing
from mosscrate.core.sheet.running.journal.writing import JournalledBlocks
from mosscrate.core.sheet.running.stamp import stamp_of
from mosscrate.core.sheet.sheet import JobSheet
from mosscrate.core.watch import Watch

SECTOR, CELLS, ROOM = 512, 8, 20 << 10
TABLE = 5                                   # the cell whose first byte has a bit for every cell that belongs to nobody
SEEN = (0, TABLE)                           # cells that the fingerprint covers
MAY_BE_FREE = (1, 2, 3, 4, 6, 7)
ROOMY, BRIM_FULL = 0b1100_0000, 0
Plan = list[list[dict[int, int]]]           # steps of groups; a group fills cells from what others hold, the table anew
SMALL: dict[str, Plan] = {"j1": [[{1: 2, 6: 1, TABLE: 0b1000_0100}], [{1: 0, 0: 1}]],
                          "j2": [[{2: 0, TABLE: 0b1000_0000}], [{6: 3}, {4: 2}]]}


class Cut(BaseException):
    """The process was killed here."""


class Wrong(Exception):
    """A wrong byte or a wrong word."""


class Bytes:
    """Bytes in units. What was written since the last sync may be lost, each unit for itself."""

    def __init__(self, data: bytes) -> None:
        self.now, self.loose, self.is_damaged = bytearray(data), dict[int, tuple[bytes, ...]](), False

    def write(self, at: int, data: bytes) -> None:
        for unit in range(at // SECTOR, -(-(at + len(data)) // SECTOR)):
            here = slice(unit * SECTOR, (unit + 1) * SECTOR)
            self.loose[unit] = (*self.loose.get(unit, ()), bytes(self.now[here]))
        self.now[at:at + len(data)] = data

    def copy(self) -> Bytes:
        other = Bytes(self.now)
        other.loose, other.is_damaged = dict(self.loose), self.is_damaged
        return other


@dataclass
class World:
    """Cards, the one at hand, and the state folder: `names` lead to `files`; unsynced names may be lost as well."""

    cards: dict[str, Bytes]
    at_hand: str = "A"
    names: dict[tuple[str, str], int] = field(default_factory=dict)
    loose_names: dict[tuple[str, str], tuple[int, ...]] = field(default_factory=dict)
    files: list[Bytes] = field(default_factory=list)
    is_full: bool = False
    is_locked: bool = False
    on_tick: Callable[[], None] = lambda: None

    def tick(self) -> None:
        self.on_tick()

    def copy(self) -> World:
        return World({n: c.copy() for n, c in self.cards.items()}, self.at_hand, dict(self.names),
                     dict(self.loose_names), [f.copy() for f in self.files], self.is_full)

    def key(self) -> bytes:
        hasher = blake3(repr((self.at_hand, sorted(self.names.items()), sorted(self.loose_names.items()))).encode())
        for store in (*self.cards.values(), *self.files):
            hasher.update(bytes(store.now))
            hasher.update(repr(sorted(store.loose.items())).encode())
        return hasher.digest()

    @property
    def card(self) -> Bytes:
        return self.cards[self.at_hand]

    def contents(self) -> list[bytes]:
        return cells_of(self.card.now)


class Card(Blocks):
    """The card at hand."""

    def __init__(self, world: World) -> None:
        super().__init__(CELLS * SECTOR, writable=True, name="Card")
        self.world = world

    def flush(self) -> None:
        self.world.tick()
        self.world.card.loose = {}

    def _read_into(self, offset: int, buffer: memoryview) -> None:
        buffer[:] = self.world.card.now[offset:offset + len(buffer)]

    def _write(self, offset: int, data) -> None:
        for at in range(0, len(data), SECTOR):
            self.world.tick()
            self.world.card.write(offset + at, bytes(data[at:at + SECTOR]))


class File:
    """See StoredFile."""

    inode = 1

    def __init__(self, world: World, number: int) -> None:
        self.world, self.number = world, number

    @property
    def _bytes(self) -> Bytes:
        return self.world.files[self.number]

    @property
    def size(self) -> int:
        return len(self._bytes.now)

    def read(self, at: int, length: int) -> bytes:
        return bytes(self._bytes.now[at:at + length])

    def write(self, at: int, data) -> None:
        self.world.tick()
        self._bytes.write(at, bytes(data))

    def write_parts(self, at: int, parts) -> None:
        self.write(at, b"".join(parts))

    def sync(self) -> None:
        self.world.tick()
        self._bytes.loose = {}

    def release(self, at: int, length: int) -> None:
        pass

    def close(self) -> None:
        pass


class Folder:
    """See the protocol of that name; every name that changes is certain only after `sync_names`."""

    def __init__(self, world: World) -> None:
        self.world = world

    def jobs(self) -> list[str]:
        return sorted({job for job, _ in self.world.names})

    def claim(self, job: str) -> bool:
        return True

    def has(self, job: str, name: str) -> bool:
        return (job, name) in self.world.names

    def create(self, job: str, name: str, size: int, first: First | None = None) -> File:
        self._must_have_room()
        self.world.tick()
        self.world.files.append(Bytes(bytes(size)))
        file = File(self.world, len(self.world.files) - 1)
        for at, data in first(file.inode) if first else ():
            file.write(at, data)
        file.sync()
        self._name((job, name), file.number)
        self.sync_names()
        return file

    def open(self, job: str, name: str) -> File:
        return File(self.world, self.world.names[job, name])

    def read(self, job: str, name: str) -> bytes:
        if not self.has(job, name):
            raise JobError(f"no {name} of {job}")
        return bytes(self.world.files[self.world.names[job, name]].now).rstrip(b"\0")

    def replace(self, job: str, name: str, data: bytes) -> None:
        self._must_have_room()
        self.world.tick()
        self.world.files.append(Bytes(data))
        self._name((job, name), len(self.world.files) - 1)
        self.sync_names()

    def remove(self, job: str, name: str) -> None:
        if self.has(job, name):
            self.world.tick()
            self._name((job, name), -1)
            self.sync_names()

    def sync(self, job: str) -> None:
        for name in (JOURNAL, RECORD):
            if self.has(job, name):
                File(self.world, self.world.names[job, name]).sync()
        self.sync_names()

    def sync_names(self) -> None:
        self.world.tick()
        self.world.loose_names = {}

    def _name(self, key: tuple[str, str], number: int) -> None:
        world = self.world
        world.loose_names[key] = (*world.loose_names.get(key, ()), world.names.get(key, -1))
        world.names.pop(key, None)
        if number >= 0:
            world.names[key] = number

    def _must_have_room(self) -> None:
        if self.world.is_full:
            raise JobError("the disk is full")


def cells_of(data: bytes) -> list[bytes]:
    return [bytes(data[k * SECTOR:(k + 1) * SECTOR]) for k in range(CELLS)]


def fresh(mark: str, different: tuple[int, ...] = (), free: int = ROOMY) -> Bytes:
    cells = [value("fresh", mark if k in different else "", k) for k in range(CELLS)]
    cells[TABLE] = bytes([free]) + cells[TABLE][1:]
    return Bytes(b"".join(cells))


def value(*what: object) -> bytes:
    return blake3(repr(what).encode()).digest(SECTOR)


def free_in(table: bytes) -> set[int]:
    return {c for c in MAY_BE_FREE if table[0] >> c & 1}


class Seen:
    """What the program makes of a card: cells that it knows it by, and what it takes for free."""

    def __init__(self, card: Blocks) -> None:
        self.digest = blake3(b"".join(card.read(c * SECTOR, SECTOR) for c in SEEN)).digest()
        free = free_in(card.read(TABLE * SECTOR, SECTOR))
        self.free = Stretches.of(Extent(c * SECTOR, SECTOR) for c in free)


def filled(job: str, step: int, group: dict[int, int], read: Callable[[int], bytes]) -> dict[int, bytes]:
    """What a group puts into its cells: values that depend on what was read, so that a step done twice shows.

    What is free is not read, and is taken into use only where it is filled. The table comes first.
    """
    free = free_in(read(TABLE))
    new = {c: value(job, step, c, b"" if source in free else read(source))
           for c, source in group.items() if c != TABLE}
    if TABLE not in group:
        return new
    left = sum(1 << c for c in free - set(new))
    return {TABLE: bytes([group[TABLE] | left]) + value(job, step, TABLE)[1:], **new}


class Program:
    """What people ask for, with the words that they are told."""

    def __init__(self, world: World, plans: dict[str, Plan]) -> None:
        self.world, self.plans, self.doubt = world, plans, ""
        folder = Folder(world)
        self.log = Log(folder)
        self.stack = Stack(folder, self.log, Card(world), Seen)

    def said(self, job: str) -> Standing | None:
        return self.stack.said(job)

    def run(self, job: str) -> str:
        self.stack.settle()
        self.stack.must_be_free(name="Card")
        self.log.save(Job(job, JobSheet(()), "", nonce=f"{0:032x}"))
        journal = self.stack.begin(job, room=ROOM)
        return self._forward(job, journal, 0)

    def undo(self, job: str) -> str:
        self.log.load(job)
        self.stack.settle()
        return self.stack.undo(job, Watch(), name="Card")

    def finish(self, job: str) -> str:
        self.log.load(job)
        self.stack.settle()
        if self.said(job) not in (Standing.OPEN, Standing.BACK):
            raise JobError("there is nothing to finish")
        journal = self.stack.go_on(job, Watch(), name="Card")
        if journal is None:                         # it had changed nothing
            journal = self.stack.begin(job, room=ROOM)
        return self._forward(job, journal, journal.slot.steps)

    def overwrite(self, job: str) -> str:
        """A whole write, as `running` does it."""
        self.stack.settle()
        record = Job(job, JobSheet(()), "", has_written=True, nonce=f"{9:032x}")
        self.log.save(record)
        self.stack.close_all(but=job)
        card = self.stack.card
        card.write(0, stamp_of(job, record.nonce))
        card.flush()
        for cell in (*range(1, CELLS), 0):
            card.write(cell * SECTOR, value("whole", job, cell))
        card.flush()
        record.status, record.seen = Status.DONE, Seen(card).digest.hex()
        self.log.save(record)
        return "written"

    def _forward(self, job: str, journal: Journal, first: int) -> str:
        over = JournalledBlocks(self.stack.card, journal, first, Seen)
        for number, step in enumerate(self.plans[job]):
            if number < first:
                continue
            for group in step:
                new = filled(job, number, group, lambda cell: over.read(cell * SECTOR, SECTOR))
                for cell, data in new.items():
                    over.forgo(list(Seen(over).free))
                    over.write(cell * SECTOR, data)
                over.flush()
            over.end_step(number + 1)
        self.doubt = self.stack.settle_done(journal)
        self.stack.last_word(job, Standing.DONE)
        return str(Standing.DONE.word)


class Past(NamedTuple):
    """What is true of a job: its card, and the contents before and after it."""

    job: str
    card: str
    before: list[bytes]
    after: list[bytes]


@dataclass
class Truth:
    """What really happened; the program does not see it."""

    plans: dict[str, Plan]
    first: list[bytes]
    jobs: list[Past] = field(default_factory=list)
    is_clean: bool = True               # nobody else has written, exchanged or damaged anything
    foreign: dict[tuple[str, int], bytes] = field(default_factory=dict)     # what somebody else wrote to a card's cell

    def began(self, world: World, job: str) -> Truth:
        before = world.contents()
        after = list(before)
        for number, step in enumerate(self.plans[job]):
            for group in step:
                for c, v in filled(job, number, group, after.__getitem__).items():
                    after[c] = v
        return replace(self, jobs=[*(p for p in self.jobs if p.job != job), Past(job, world.at_hand, before, after)])

    def top(self, world: World) -> tuple[str, Standing | None]:
        """The job that lies on the others by what the program says, and what it says of it."""
        program = Program(world, self.plans)
        said = [(p.job, program.said(p.job)) for p in reversed(self.jobs)]
        return next(((j, s) for j, s in said if s not in (None, Standing.UNDONE)), ("", None))

    def check_state(self, world: World) -> None:
        """With nobody else about, what the program says of a card is what the card is, but for what was free."""
        job, standing = self.top(world)
        past = next((p for p in self.jobs if p.job == job), None)
        wanted = past.after if past and standing == Standing.DONE else self.first if not past else None
        if self.is_clean and wanted is not None:
            used = set(range(CELLS)) - free_in(wanted[TABLE])
            bad = [c for c in used if world.contents()[c] != wanted[c]]
            if bad:
                raise Wrong(f"job {job} is “{standing}”, but cells {bad} are not so")
        stack = Program(world, self.plans).stack
        for past in self.jobs if self.is_clean else ():
            if stack.folder.has(past.job, JOURNAL) and Journal.glance(stack.folder, past.job) is None:
                raise Wrong(f"the journal of {past.job} is damaged, and nobody has damaged it")

    def check_word(self, world: World, job: str, word: str) -> None:
        """A word that was just said is true of all that it claims: the job's cells and what the fingerprint sees."""
        past = next(p for p in self.jobs if p.job == job)
        cells = {c for step in self.plans[job] for g in step for c in g} | set(SEEN)
        is_done = word == Standing.DONE.word
        wanted, now = past.after if is_done else past.before, cells_of(world.cards[past.card].now)
        used = set(range(CELLS)) - free_in(wanted[TABLE])
        bad = [c for c in used if now[c] != wanted[c] and (self.is_clean or c in cells)
               and now[c] != self.foreign.get((past.card, c))]
        shown = [c for c in bad if now[c] == past.after[c]]
        if (bad and (is_done or word == Undone.NOW)) or (shown and word == Undone.HAD_NOT_BEGUN):
            raise Wrong(f"said “{word}” of job {job}, but cells {bad} are not so")

    def act(self, world: World, what: str, job: str, *, is_legal: bool,
            meanwhile: Callable[[int], None] | None = None, snapshots: bool = True) -> tuple[str, list[World]]:
        """One thing done to its end in `world`: the word, and the worlds at which it could have been cut."""
        if world.is_locked and not Rules.lock_is_broken:
            return "held by another process", []
        others = {n: bytes(c.now) for n, c in world.cards.items()}
        theirs = self._of_others(world)
        cuts: list[World] = []
        ticks = 0

        def on_tick() -> None:
            nonlocal ticks
            ticks += 1
            if snapshots:
                cuts.append(world.copy())
            if meanwhile:
                meanwhile(ticks)

        world.is_locked, world.on_tick = True, on_tick
        program = Program(world, self.plans)
        try:
            word = str(getattr(program, what)(job))
        except MossError as why:
            if bytes(world.card.now) != others[world.at_hand] and not meanwhile and not world.is_full:
                raise Wrong(f"{what} {job} was refused ({why}) after it had written") from why
            if is_legal and self.is_clean and not world.is_full:
                raise Wrong(f"{what} {job} was refused without a reason: {why}") from why
            return f"refused: {why}", cuts
        finally:
            world.is_locked, world.on_tick = False, lambda: None
        owner = next((p.card for p in self.jobs if p.job == job), world.at_hand)
        if owner != world.at_hand and bytes(world.card.now) != others[world.at_hand]:
            raise Wrong(f"{what} {job} wrote to another card")
        if program.doubt and self.is_clean:
            raise Wrong(f"{what} {job}: done, and it could not be taken back: {program.doubt}")
        if what == "overwrite":
            left = [p.job for p in self.jobs if self.is_clean and program.said(p.job) in LIVE
                    and not program.stack.had_not_begun(p.job)]
            if left:
                raise Wrong(f"jobs {left} are open under a whole write")
        else:
            self.check_word(world, job, word)
            own = {c for step in self.plans[job] for g in step for c in (*g, *(MAY_BE_FREE if TABLE in g else ()))}
            left = self._of_others(world)
            gone = [c for c in theirs if c not in left and (what == "undo" or c not in own)]
            if gone:
                raise Wrong(f"{what} {job} said “{word}”; what somebody else wrote into cells {gone} is gone")
        return word, cuts

    def _of_others(self, world: World) -> dict[int, bytes]:
        """What somebody else has written to the card at hand, and stands there in use."""
        now = world.contents()
        return {c: v for (card, c), v in self.foreign.items()
                if card == world.at_hand and now[c] == v and c not in free_in(now[TABLE])}


def power_cuts(world: World, rng: random.Random | None = None) -> Iterator[World]:
    """The worlds after a power cut: all that there can be, or one by chance."""
    stores = [*world.cards.values(), *world.files]
    choices: list[list[tuple[Any, ...]]] = [
        [(number, unit, data) for data in dict.fromkeys((*older, bytes(store.now[unit * SECTOR:(unit + 1) * SECTOR])))]
        for number, store in enumerate(stores) for unit, older in store.loose.items()]
    choices += [[(-1, key, number) for number in dict.fromkeys((*older, world.names.get(key, -1)))]
                for key, older in world.loose_names.items()]
    for picked in [tuple(rng.choice(c) for c in choices)] if rng else product(*choices):
        other = world.copy()
        found = [*other.cards.values(), *other.files]
        for number, place, what in picked:
            if number >= 0:
                found[number].now[place * SECTOR:(place + 1) * SECTOR] = what
            elif what >= 0:
                other.names[place] = what
            else:
                other.names.pop(place, None)
        for store in found:
            store.loose = {}
        other.loose_names = {}
        yield other


def exhaustive(crashes: int, acts: int) -> int:
    """Every history of two jobs with that many crashes, none of them disturbed by anybody. Raises Wrong."""
    known: set[Any] = set()
    card = fresh("")
    queue = [(World({"A": card}), Truth(SMALL, cells_of(card.now)), crashes, acts)]
    while queue:
        world, truth, left, more = queue.pop()
        job, standing = truth.top(world)
        todo = [("undo", job), ("finish", job)] if standing in (Standing.OPEN, Standing.BACK) else \
            [("undo", job)] if standing == Standing.DONE else []
        program = Program(world, SMALL)
        unused = [j for j in SMALL if program.said(j) is None and (j, JOURNAL) not in world.names]
        todo += [("run", j) for j in unused[:1]] if standing not in (Standing.OPEN, Standing.BACK) else []
        for what, name in todo if more else ():
            after = world.copy()
            past = truth.began(after, name) if what == "run" else truth
            cuts = past.act(after, what, name, is_legal=True, snapshots=bool(left))[1]
            found = [(after, left)]
            for cut in cuts if left else ():
                found += [(killed, left - 1) for killed in (cut, *power_cuts(cut))]
            for each, still in found:
                key = each.key(), still, more - 1
                if key not in known:
                    known.add(key)
                    past.check_state(each)
                    queue.append((each, past, still, more - 1))
    return len(known)


def _some_free(rng: random.Random) -> int:
    return sum(1 << c for c in rng.sample(MAY_BE_FREE, rng.randint(0, 4)))


def _group(rng: random.Random, own: list[int]) -> dict[int, int]:
    """Some cells of a job from others of it; one in two gives room free or takes it into use."""
    group = {c: rng.choice(own) for c in rng.sample([*own, 6], rng.randint(1, len(own)))}
    return {**group, TABLE: _some_free(rng)} if rng.random() < 0.5 else group


def chance(seed: int) -> None:
    """One longer history with everything that can happen to a card and its journals. Raises Wrong."""
    rng = random.Random(seed)
    plans: dict[str, Plan] = {}
    is_held = rng.random() < 0.5            # the first group holds all cells of a job, so that foreign writes show
    kinds = (*("flip", "cut") * 2, "remove", "full", "room",
             *(("write", "write", "exchange", "return") if is_held else ()))
    for number in range(1, 6):
        own = rng.sample(range(5), rng.randint(1, 3))
        steps = [[_group(rng, own) for _ in range(rng.randint(1, 2))] for _ in range(rng.randint(1, 3))]
        plans[f"j{number}"] = [[{c: c for c in own}], *steps] if is_held else steps
    free = rng.choice((ROOMY, BRIM_FULL, _some_free(rng)))
    world = World({"A": fresh("", free=free), "B": fresh("b", (5,), free), "C": fresh("c", (0, 1, 2, 3, 4), free)})
    truth, is_quiet = Truth(plans, world.contents()), rng.random() < 0.4
    for turn in range(rng.randint(4, 12)):
        if not is_quiet and rng.random() < 0.4:
            disturb(world, truth, rng, turn, rng.choice(kinds))
        job, standing = truth.top(world)
        what = rng.choice(["run", "run", "undo", "finish", "undo", "finish", "overwrite"][:7 if turn > 5 else 6])
        program = Program(world, plans)
        unused = [j for j in plans if program.said(j) is None and not program.stack.folder.has(j, JOURNAL)
                  and not any(p.job == j for p in truth.jobs)]
        if what == "run" and unused:
            job, past = unused[0], truth.began(world, unused[0])
        else:
            job = rng.choice([p.job for p in truth.jobs] or [""]) if rng.random() < 0.3 else job
            slot = Journal.slot_of(program.stack.folder, job) if job else None
            has_begun = slot is None or slot.groups > 0         # else it starts anew, over what is there now
            past = truth if has_begun or what != "finish" else truth.began(world, job)
        if (not job and what != "overwrite") or (what == "run" and not unused):
            continue
        legal = what == "undo" and (job, standing) == truth.top(world) and standing in LIVE
        second = Second(world, past, rng.choice(["undo", "finish"]), job, rng.randint(1, 60))

        word, cuts = past.act(world, what, job if what != "overwrite" else "w9", is_legal=legal,
                              meanwhile=second if rng.random() < 0.3 and what != "overwrite" else None)
        truth = past if not word.startswith("refused") or what != "run" else truth
        if cuts and rng.random() < 0.6:
            world = rng.choice(cuts)
            truth = past
            world = next(power_cuts(world, rng)) if rng.random() < 0.6 else world
        if what == "overwrite":
            return
        truth.check_state(world)


@dataclass
class Second:
    """Another process that wants something of the same card, in the middle of an act."""

    world: World
    truth: Truth
    what: str
    job: str
    at: int

    def __call__(self, number: int) -> None:
        if number == self.at:
            on_tick, was_locked = self.world.on_tick, self.world.is_locked
            self.world.on_tick = lambda: None
            self.truth.act(self.world, self.what, self.job, is_legal=False, meanwhile=lambda _: None, snapshots=False)
            self.world.is_locked, self.world.on_tick = was_locked, on_tick


def disturb(world: World, truth: Truth, rng: random.Random, turn: int, kind: str) -> None:
    """Somebody writes to the card or exchanges it; a journal is damaged; the disk is full."""
    journals = [n for (_, name), n in world.names.items() if name == JOURNAL]
    world.is_full = kind == "full" or (world.is_full and kind != "room")
    truth.is_clean = truth.is_clean and kind in ("full", "room", "return")
    if kind == "write":
        lately = {c for past in truth.jobs[-1:] for step in truth.plans[past.job] for g in step for c in g}
        cell = rng.choice((rng.randrange(CELLS), *lately))
        mask = world.contents()[TABLE][0]
        if cell == TABLE:
            _write_foreign(world, truth, cell, bytes([mask]) + value("foreign", turn)[1:])
            return
        _write_foreign(world, truth, cell, value("foreign", turn))
        if mask >> cell & 1 and rng.random() < 0.7:         # it takes free room into use
            _write_foreign(world, truth, TABLE, bytes([mask & ~(1 << cell)]) + world.contents()[TABLE][1:])
    elif kind == "exchange":
        world.at_hand = rng.choice("BC")
    elif kind == "return":
        world.at_hand = "A"
    elif kind in ("flip", "cut") and journals:
        store = world.files[rng.choice(journals)]
        if not store.is_damaged:                # one damage a journal is what two slots are for
            slots = [at + k for at in (4096, 8192) for k in range(120)]
            filled = [at for at in range(len(store.now)) if store.now[at]]
            at = rng.choice([0, *filled]) if rng.random() < 0.6 else rng.choice(slots)
            if kind == "flip":
                store.now[at] ^= 1 << rng.randrange(8)
            else:
                del store.now[at:]
            store.loose, store.is_damaged = {}, True
    elif world.names and kind == "remove":
        del world.names[rng.choice(sorted(world.names))]


def _write_foreign(world: World, truth: Truth, cell: int, data: bytes) -> None:
    world.card.now[cell * SECTOR:(cell + 1) * SECTOR] = data
    truth.foreign[world.at_hand, cell] = data


class Rules:
    """Variants of the code that are broken on purpose."""

    lock_is_broken = ""

    @staticmethod
    @contextmanager
    def without(rule: str) -> Iterator[None]:
        """Break one rule while this lasts."""
        kept: list[tuple[Any, str, Any]] = []

        def patch(owner: Any, name: str, new: Any) -> None:
            kept.append((owner, name, owner.__dict__[name] if isinstance(owner, type) else getattr(owner, name)))
            setattr(owner, name, new)

        _BROKEN[rule](patch)
        try:
            yield
        finally:
            for owner, name, old in reversed(kept):
                setattr(owner, name, old)


def _removal_first(patch) -> None:
    def last_word(self: Stack, job: str, standing: Standing) -> None:
        if standing != Standing.DONE:
            self.folder.remove(job, JOURNAL)
        self.records.mark(job, standing)

    def take_back(self: Stack, journal: Journal, watch: Watch) -> None:
        self.folder.remove(journal.head.job, JOURNAL)
        self.walk_back(journal, 0, Standing.BACK, watch)
        self._uncover(journal.head)
        last_word(self, journal.head.job, Standing.UNDONE)
    patch(Stack, "take_back", take_back)


def _slot_late(patch) -> None:
    put = Journal.put_slot

    def put_slot(self: Journal, **changes: Any) -> None:
        is_settled = changes.get("low") == changes.get("high")
        if is_settled or "low" not in changes:
            put(self, **changes)
    patch(Journal, "put_slot", put_slot)


def _unsettled(patch) -> None:
    def flush(self: JournalledBlocks) -> None:
        self._seal()
        self._settled = len(self.journal.groups)
    patch(JournalledBlocks, "flush", flush)


def _unchained(patch) -> None:
    def groups(file: File, head: Any, slot: Slot, job: str) -> Iterator[Any]:
        at = head.first_group
        for number in range(1, slot.groups + 1):
            raw = file.read(at, 1 << 20)
            head = journal_module.np.frombuffer(raw, journal_module.s.GROUP, count=1)[0]
            heads = journal_module.np.frombuffer(raw, journal_module.s.STRETCH, count=int(head["stretches"]),
                                                 offset=journal_module.s.GROUP.itemsize)
            group = journal_module.Group(number, int(head["step"]), at, int(head["length"]),
                                         raw[int(head["length"]) - 32:int(head["length"])],
                                         tuple(journal_module._placed(at, heads)))
            yield group
            at = group.end
    patch(journal_module, "_groups", groups)


def _one_step_more(patch) -> None:
    go_on = Stack.go_on

    def skips(self: Stack, job: str, watch: Watch, *, name: str) -> Journal | None:
        journal = go_on(self, job, watch, name=name)
        if journal is not None:
            journal.slot = replace(journal.slot, steps=journal.slot.steps + 1)
        return journal
    patch(Stack, "go_on", skips)


def _named_first(patch) -> None:
    def create(self: Folder, job: str, name: str, size: int, first: First | None = None) -> File:
        self._must_have_room()
        self.world.files.append(Bytes(bytes(size)))
        file = File(self.world, len(self.world.files) - 1)
        self._name((job, name), file.number)
        self.sync_names()
        for at, data in first(file.inode) if first else ():
            file.write(at, data)
        file.sync()
        return file
    patch(Folder, "create", create)


def _downwards(patch) -> None:
    back = states_module.taken_back
    for module in (stack_module, states_module):
        patch(module, "taken_back", lambda journal, layers, *rest: back(journal, layers[::-1], *rest))


def _free_as_of_the_job(patch) -> None:
    def begin_step(self: JournalledBlocks) -> None:
        if self._may_go is None:
            self._may_go = Stretches()
            self._may_go = self._look(self).free
    patch(JournalledBlocks, "_begin_step", begin_step)


def _oldest_slot(patch) -> None:
    def oldest(file: File, head: Any) -> Slot | None:
        found = (structures_module.parse_slot(file.read(place, structures_module.SLOT.itemsize))
                 for which in (0, 1) for place in journal_module._places(head, which))
        return min((slot for slot in found if slot), key=lambda slot: slot.number, default=None)
    patch(journal_module, "_newest", oldest)


def _without_free(patch) -> None:
    patch(stack_module, "misfits", lambda journal, card, low, high, with_free=False, **_:
          states_module.misfits(journal, card, low, high, with_free=False))


_BROKEN: dict[str, Callable[[Any], None]] = {
    "named last": _named_first,
    "back upwards": _downwards,
    "free as of the stack": _free_as_of_the_job,
    "free room compared": _without_free,
    "newest slot": _oldest_slot,
    "groups before slots": lambda patch: patch(Journal, "sync", lambda self: None),
    "uppermost": lambda patch: patch(Stack, "_must_be_uppermost", lambda self, job, name: None),
    "uncovered": lambda patch: patch(Stack, "_uncover", lambda self, head: None),
    "let go once": lambda patch: patch(JournalledBlocks, "_fill", lambda self, extents: None),
    "put is claimed": lambda patch: patch(writing_module, "saved_and_put", lambda groups: (Stretches(), Stretches())),
    "free below": lambda patch: patch(Stack, "_let_go_by", lambda self, job: Stretches.of(
        [Extent(0, CELLS * SECTOR)])),
    "forgotten behind": lambda patch: patch(Journal, "forget_behind", lambda self, state: None),
    "steps counted": _one_step_more,
    "mark before removal": _removal_first,
    "digest of new": lambda patch: patch(stack_module, "misfits", lambda *a, **k: []),
    "identity": lambda patch: patch(Stack, "_is_as_before", lambda self, journal: True),
    "slot first": _slot_late,
    "slot twice": lambda patch: patch(journal_module, "_places", lambda head, which: (
        journal_module.s.SLOT_PLACES[which],)),
    "chained": _unchained,
    "settle": _unsettled,
    "sync names": lambda patch: patch(Folder, "sync_names", lambda self: None),
    "sync found": lambda patch: patch(Stack, "settle", lambda self: None),
    "covered": lambda patch: (patch(Stack, "_cover", lambda self, job, above: None),
                              patch(Stack, "below", lambda self, job: ())),
    "open blocks": lambda patch: patch(Stack, "must_be_free", lambda self, name: None),
    "whole closes": lambda patch: patch(Stack, "close_all", lambda self, but: None),
    "lock": lambda patch: patch(Rules, "lock_is_broken", "yes"),
}
RULES = tuple(_BROKEN)
SHOWS = {"identity": 2443, "free room compared": 1259, "uppermost": 529, "uncovered": 160, "let go once": 100,
         "free below": 54, "slot twice": 918, "covered": 184, "chained": 83}
NEAR = 20                                   # seeds from there on; then the search is as for all others


def caught(rule: str, *, histories: int = 2500) -> str:
    """What shows that a variant is broken; "" where nothing does. What needs long is begun with where it shows."""
    first = SHOWS.get(rule)
    with Rules.without(rule):
        try:
            for seed in () if first is None else range(first, first + NEAR):
                chance(seed)
            if rule == "sync found":                    # it takes a kill, new work, and then a power cut
                exhaustive(2, 3)
            exhaustive(1, 3)
            for seed in range(histories):
                chance(seed)
        except (Wrong, KeyError, ValueError, AssertionError, JobError) as error:
            return str(error) or type(error).__name__
    return ""

