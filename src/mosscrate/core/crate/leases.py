"""Who is at work on a crate: a file for each, so that room is only given back while nobody keeps anything.

A lease names its computer, its process and when that began, and holds a number that goes up while it is held. One of
this computer counts no more once its process is gone. One of another computer is watched: once its number has stood
still for ten minutes of the watcher's own clock, it is broken, which is noted for good. Who was taken for dead and
wakes up again finds that, and what he puts then is listed only if everything it needs is there.
"""

from __future__ import annotations

import os
import secrets
import threading
import time
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from dataclasses import dataclass
from pathlib import Path

from blake3 import blake3

from mosscrate.core.durable import sync_folder
from mosscrate.core.errors import CrateError

LEASE, BROKEN, WATCHED = ".lease", ".broken", ".watched"
DIGITS, IN_NAMES = 16, 8                 # of the id of a lease; those of them that stand in the name of a list
BEAT_S, PATIENCE_S = 20.0, 600.0
MACHINE, BOOT = Path("/etc/machine-id"), Path("/proc/sys/kernel/random/boot_id")


@dataclass(frozen=True)
class Lease:
    """One that is held."""

    path: Path

    @property
    def id(self) -> str:
        """Digits that no other one has."""
        return self.path.name[:DIGITS]

    @property
    def is_broken(self) -> bool:
        """Whether somebody has taken this program for dead."""
        return (self.path.parent / f"{self.id}{BROKEN}").exists()


@contextmanager
def lease(crate: Path, what: str) -> Iterator[Lease]:
    """Hold one while something is written. Raises CrateError where that cannot be noted."""
    path = crate / "busy" / f"{secrets.token_hex(DIGITS // 2)}.{host()}-{os.getpid()}-{_begun(os.getpid())}{LEASE}"
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
        with path.open("x") as file:
            file.write(f"{0:016}\n{what}")
            file.flush()
            os.fsync(file.fileno())
        sync_folder(path.parent)
    except OSError as error:
        raise CrateError(f"The crate {crate} cannot be written: {os.strerror(error.errno or 0)}. No backup was made.") \
            from error
    is_over = threading.Event()
    beat = threading.Thread(target=_go_on, args=(path, is_over), name="lease", daemon=True)
    beat.start()
    try:
        yield Lease(path)
    finally:
        is_over.set()
        beat.join()
        path.unlink(missing_ok=True)


def at_work(crate: Path) -> list[str]:
    """What others, and this program, are doing with a crate now; leases of those that are gone are removed."""
    found = []
    for path in crate.glob(f"busy/*{LEASE}"):
        where, process, begun = (path.suffixes[-2][1:].rsplit("-", 2) if len(path.suffixes) > 1 else ["", "", ""])
        try:
            number, _, what = path.read_text(errors="replace")[:200].partition("\n")
        except OSError:
            continue                                          # it has just ended
        if where == host() and process.isdecimal():
            if _begun(int(process)) != begun:
                path.unlink(missing_ok=True)
            else:
                found.append(what or "something")
        elif not _is_dead(path, number):
            found.append(f"{what or 'something'} on {where.rpartition('_')[0] or where}; if that computer is gone, ask "
                         "again in ten minutes")
    return found


def broken_in(crate: Path) -> set[str]:
    """What stands in the names of lists that were put by programs which somebody took for dead."""
    return {path.name[:IN_NAMES] for path in crate.glob(f"busy/*{BROKEN}")}


def host() -> str:
    """This computer, as it stands in names of files: its name, and what tells it from another one of that name."""
    try:
        machine = blake3(MACHINE.read_bytes()).hexdigest()[:8]
    except OSError:
        machine = "0"
    return f"{os.uname().nodename.replace('.', '_').replace('-', '_')}_{machine}"


def _go_on(path: Path, is_over: threading.Event) -> None:
    number = 0
    while not is_over.wait(BEAT_S):
        number += 1
        with suppress(OSError), path.open("r+b", buffering=0) as file:       # never made anew: it may be broken
            file.write(f"{number:016}".encode())
            os.fsync(file.fileno())


def _is_dead(path: Path, number: str) -> bool:
    """Whether the lease of another computer is broken now; else what was seen of it is noted."""
    note = path.with_name(f"{path.name[:DIGITS]}.{host()}{WATCHED}")
    boot, now = BOOT.read_text().strip(), _uptime()
    try:
        then, since, seen = note.read_text().split()
        is_the_same = (then, seen) == (boot, number)
    except (OSError, ValueError):
        since, is_the_same = "0", False
    try:
        if not is_the_same:
            note.write_text(f"{boot} {now} {number}")
            return False
        if now - float(since) < PATIENCE_S:
            return False
        path.with_name(f"{path.name[:DIGITS]}{BROKEN}").touch()
        sync_folder(path.parent)
        path.unlink(missing_ok=True)
        note.unlink(missing_ok=True)
    except (OSError, ValueError):
        return False                                          # as long as that cannot be noted it counts
    return True


def _uptime() -> float:
    """Seconds since this computer was started, also those that it slept."""
    return time.clock_gettime(time.CLOCK_BOOTTIME)


def _begun(process: int) -> str:
    """When a process began, as the kernel counts; "" for one that is not there."""
    try:
        return Path(f"/proc/{process}/stat").read_text().rpartition(")")[2].split()[19]
    except (OSError, IndexError):
        return ""
