"""Who is at work on a crate: a file for each, so that room is only given back while nobody keeps anything.

A lease is locked while it is held, and holds a number that goes up. Its name says which computer, start of it, PID
namespace and process hold it, and when that began. Who can take the lock knows that its holder is gone, in whichever
namespace it was; where a folder knows no locks, a process of this namespace is asked for. One of another computer is
watched: once its number has stood still for ten minutes of the watcher's own clock, it is broken, which is noted for
good. Who was taken for dead and wakes up again finds that, and what he puts then is listed only if everything it needs
is there.
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

from mosscrate.core.durable import lock, sync_folder
from mosscrate.core.errors import CrateError
from mosscrate.core.there import entries, is_there

LEASE, BROKEN, WATCHED = ".lease", ".broken", ".watched"
DIGITS, IN_NAMES = 16, 8                 # of the id of a lease; those of them that stand in the name of a list
BEAT_S, PATIENCE_S = 20.0, 600.0
MACHINE, BOOT = Path("/etc/machine-id"), Path("/proc/sys/kernel/random/boot_id")
NAMESPACE = Path("/proc/self/ns/pid")
NEW = ".new"                             # of a file that is not locked yet


@dataclass(frozen=True)
class Holder:
    """Who holds a file, as its name says: digits of the start of the computer and of the namespace, or "" for either
    of an earlier version."""

    host: str
    boot: str
    namespace: str
    process: str
    begun: str

    @classmethod
    def me(cls) -> Holder:
        """This process."""
        return cls(host(), _boot(), _namespace(), str(os.getpid()), _begun(os.getpid()))

    @classmethod
    def named(cls, path: Path) -> Holder:
        """Of a file whose name was made by `within`."""
        parts = path.suffixes[-2][1:].split("-") if len(path.suffixes) > 1 else []
        if len(parts) in (2, 3):
            return cls(parts[0], "", "", parts[1], "".join(parts[2:]))
        return cls(*parts) if len(parts) == 5 else cls("", "", "", "", "")

    def within(self, stem: str, ending: str) -> str:
        """A name that says it."""
        return f"{stem}.{self.host}-{self.boot}-{self.namespace}-{self.process}-{self.begun}{ending}"

    def is_gone(self, path: Path) -> bool | None:
        """Whether nobody holds its file any more; None where that cannot be told from here."""
        if self.host != host():
            return None
        is_free = _can_be_locked(path) if self.boot else None
        if is_free is not None:
            return is_free
        return self._has_ended() if self.boot in ("", _boot()) and self.namespace in ("", _namespace()) else None

    def _has_ended(self) -> bool | None:
        """Of a process of this namespace: another one that has its number by now began later."""
        if not self.process.isdecimal():
            return None
        try:
            os.kill(int(self.process), 0)                     # also told of a process that may not be looked at
        except ProcessLookupError:
            return True
        except OSError:
            pass
        begun = _begun(int(self.process))
        return bool(begun and self.begun) and begun != self.begun


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
        """Whether somebody has taken this program for dead. Raises OSError."""
        return is_there(self.path.parent / f"{self.id}{BROKEN}") or not is_there(self.path)


@contextmanager
def lease(crate: Path, what: str) -> Iterator[Lease]:
    """Hold one while something is written. Raises CrateError where that cannot be noted."""
    path = crate / "busy" / Holder.me().within(secrets.token_hex(DIGITS // 2), LEASE)
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
        file = locked(path)
        os.pwrite(file, f"{0:016}\n{what}".encode(), 0)
        os.fsync(file)
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
        with suppress(OSError):
            path.unlink(missing_ok=True)
        os.close(file)


def locked(path: Path) -> int:
    """Make a file that has its name only once it is locked; returns its descriptor. Raises OSError."""
    new = path.with_name(path.name + NEW)
    fd = os.open(new, os.O_RDWR | os.O_CREAT | os.O_EXCL | os.O_CLOEXEC, 0o644)
    try:
        lock(fd)                                              # a network folder may know none
        new.rename(path)
    except OSError:
        os.close(fd)
        with suppress(OSError):
            new.unlink()
        raise
    return fd


def at_work(crate: Path) -> list[str]:
    """What others, and this program, are doing with a crate now; leases of those that are gone are removed.

    One that may not be read counts. Raises OSError where it cannot be told who there is.
    """
    found = []
    for path in entries(crate / "busy", LEASE):
        holder = Holder.named(path)
        try:
            number, _, what = path.read_text(errors="replace")[:200].partition("\n")
        except FileNotFoundError:
            continue                                          # it has just ended
        except PermissionError:
            number, what = "", ""
        is_gone = holder.is_gone(path)
        if is_gone:
            with suppress(OSError):
                path.unlink()
        elif is_gone is False or not number:
            found.append(what or f"somebody whose note {path.name} may not be read")
        elif not _is_dead(path, number):
            found.append(f"{what or 'something'} on {holder.host.rpartition('_')[0] or holder.host}; if that computer "
                         "or container is gone, ask again in ten minutes")
    return found


def broken_in(crate: Path) -> set[str]:
    """What stands in the names of lists that were put by programs which somebody took for dead. Raises OSError."""
    return {path.name[:IN_NAMES] for path in entries(crate / "busy", BROKEN)}


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


def _can_be_locked(path: Path) -> bool | None:
    """Whether nobody has a file locked; None where no lock could be asked for. One that is gone has none."""
    try:
        fd = os.open(path, os.O_RDWR | os.O_CLOEXEC)
    except FileNotFoundError:
        return True
    except OSError:
        return None
    try:
        return lock(fd)
    finally:
        os.close(fd)


def _boot() -> str:
    """Digits that every start of this computer has others of."""
    try:
        return BOOT.read_text().strip().replace("-", "")[:8]
    except OSError:
        return "0"


def _namespace() -> str:
    """The PID namespace of this process: the same number is another process in another one."""
    try:
        return str(NAMESPACE.stat().st_ino)
    except OSError:
        return "0"


def _uptime() -> float:
    """Seconds since this computer was started, also those that it slept."""
    return time.clock_gettime(time.CLOCK_BOOTTIME)


def _begun(process: int) -> str:
    """When a process began, as the kernel counts; "" for one that is not there."""
    try:
        return Path(f"/proc/{process}/stat").read_text().rpartition(")")[2].split()[19]
    except (OSError, IndexError):
        return ""
