"""Damaged containers, streams and archives by the thousand: `./moss fuzz packs`.

Each case damages one file of one kind: bytes, extreme values in fields, stretches copied over one another, a cut;
mostly where its tables stand, at both ends. Then the disk in it is opened, supposed, surveyed and read through.
"""

from __future__ import annotations

import contextlib
import random
import signal
import sys
import tempfile
from collections import Counter
from pathlib import Path

import numpy as np

from mosscrate.core.blocks import MemoryBlocks
from mosscrate.core.contents import survey
from mosscrate.core.contents.unpacking import read_through, suppose_size
from mosscrate.core.errors import MossError
from mosscrate.core.images import disk_in, open_image, packed_in
from mosscrate.core.images.drive_file import Facts
from mosscrate.core.images.making import KINDS
from mosscrate.core.watch import Watch
from tests.cards import MIB, handheld
from tests.packs import PACKERS

SECONDS, MEMORY = 20, 300 * MIB
EXTREMES = (b"\0" * 4, b"\xff" * 4, b"\x7f\xff\xff\xff", b"\xff\xff\xff\x7f", b"\x80\0\0\0", b"\0\0\0\x80", b"\xff" * 8)
EDGE = 700                         # bytes at both ends in which most tables stand
MOST_READ = 24 * MIB


def whole(folder: Path) -> dict[str, list[tuple[str, bytes]]]:
    """{kind: names and bytes of its files}, of a small card in every kind of file."""
    disk = handheld(40 * MIB).data[:2 * MIB]
    disk[MIB:MIB + 65536] = np.random.default_rng(1).bytes(65536)
    made: dict[str, list[tuple[str, bytes]]] = {}
    for kind in KINDS:
        path = folder / f"card{kind.suffix}"
        kind.make(MemoryBlocks(disk), path, Facts(), Watch())
        made[kind.key] = [(path.name, path.read_bytes())]
        path.unlink()
    for name, pack in PACKERS.items():
        own = folder / name
        own.mkdir()
        first = pack(own, bytes(disk))
        files = sorted(own.iterdir(), key=lambda p: (p.name != first.name, p.name))
        made[name] = [(p.name, p.read_bytes()) for p in files]
    return made


def damaged(data: bytes, rnd: random.Random) -> bytes:
    """One file, damaged in one to three ways."""
    bad = bytearray(data)
    for _ in range(rnd.choice((1, 1, 2, 3))):
        size = max(1, len(bad))
        at = rnd.choice((rnd.randrange(min(EDGE, size)), max(0, size - 1 - rnd.randrange(min(EDGE, size))),
                         rnd.randrange(size)))
        match rnd.randrange(5):
            case 0:
                bad[at:at + 1] = bytes([rnd.randrange(256)])
            case 1:
                value = rnd.choice(EXTREMES)
                bad[at:at + len(value)] = value
            case 2:
                other = rnd.randrange(size)
                bad[at:at + 16] = bad[other:other + 16]
            case 3:
                bad[at:at + 1] = bytes([(bad[at] if at < len(bad) else 0) ^ 1 << rnd.randrange(8)])
            case _:
                del bad[at:]
    return bytes(bad)


def run(count: int, seed: int, only: str = "") -> Counter[str]:
    """How many cases ended in which way. Raises what must not happen, with the case's number."""
    rnd, ended = random.Random(seed), Counter[str]()
    with tempfile.TemporaryDirectory(prefix="mosscrate-fuzz-") as folder:
        made = {name: files for name, files in whole(Path(folder)).items() if only in ("", name)}
        if not made:
            sys.exit(f"There is no file called “{only}”; these are damaged: {', '.join(whole(Path(folder)))}.")
        most = 0
        signal.signal(signal.SIGALRM, _on_alarm)
        for number in range(count):
            name = list(made)[number % len(made)]
            case = Path(folder) / f"case {number}"
            case.mkdir()
            victim = rnd.randrange(len(made[name]))
            for k, (file, data) in enumerate(made[name]):
                (case / file).write_bytes(damaged(data, rnd) if k == victim else data)
            before = _fresh_peak()
            signal.alarm(SECONDS)
            try:
                ended[_read(case / made[name][0][0])] += 1
            except Exception as error:
                raise AssertionError(f"case {number} of seed {seed} ({name}): {error!r}") from error
            finally:
                signal.alarm(0)
            most = max(most, _memory("VmHWM") - before)
            if most > MEMORY:
                raise AssertionError(f"case {number} of seed {seed} ({name}) took {most // MIB} MiB")
            for file in case.iterdir():
                file.unlink()
            case.rmdir()
    ended["MiB at most in one case"] = most // MIB
    return ended


def _fresh_peak() -> int:
    """Bytes at work; the peak counts from here.

    Of each case by itself: the library that notes places in gzip loses 39 KB with each stream that breaks off inside.
    """
    Path("/proc/self/clear_refs").write_text("5")
    return _memory("VmRSS")


def _memory(which: str) -> int:
    lines = Path("/proc/self/status").read_text().splitlines()
    return 1024 * next(int(line.split()[1]) for line in lines if line.startswith(which))


def _read(path: Path) -> str:
    try:
        with disk_in(open_image(path)) as disk:
            suppose_size(disk)
            with contextlib.suppress(MossError):
                survey(disk)
            if packed_in(disk) is not None:
                read_through(disk, Watch())
                return "read through"
            list(disk.extents())
            for at in range(0, min(disk.size, MOST_READ), MIB):
                disk.read(at, min(MIB, disk.size - at))
            return "read"
    except MossError as error:
        return type(error).__name__


def _on_alarm(_number: int, _frame: object) -> None:
    raise TimeoutError(f"not done after {SECONDS} s")
