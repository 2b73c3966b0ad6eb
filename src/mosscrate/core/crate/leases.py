"""Who is at work on a crate: a file for each, so that room is only given back while nobody keeps anything.

A lease names its computer, its process and when that began; one whose process is gone counts no more and is taken away.
What another computer holds cannot be asked, so it counts until its file is removed.
"""

from __future__ import annotations

import os
import secrets
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from mosscrate.core.durable import sync_folder
from mosscrate.core.errors import CrateError

LEASE = ".lease"


@contextmanager
def lease(crate: Path, what: str) -> Iterator[None]:
    """Hold one while something is written. Raises CrateError where that cannot be noted."""
    path = crate / "busy" / f"{secrets.token_hex(8)}.{host()}-{os.getpid()}-{_begun(os.getpid())}{LEASE}"
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
        with path.open("x") as file:
            file.write(what)
            file.flush()
            os.fsync(file.fileno())
        sync_folder(path.parent)
    except OSError as error:
        raise CrateError(f"The crate {crate} cannot be written: {os.strerror(error.errno or 0)}. No backup was made.") \
            from error
    try:
        yield
    finally:
        path.unlink(missing_ok=True)


def at_work(crate: Path) -> list[str]:
    """What others, and this program, are doing with a crate now; leases of processes that are gone are removed."""
    found = []
    for path in crate.glob(f"busy/*{LEASE}"):
        where, process, begun = (path.suffixes[-2][1:].rsplit("-", 2) if len(path.suffixes) > 1 else ["", "", ""])
        if where == host() and process.isdecimal() and _begun(int(process)) != begun:
            path.unlink(missing_ok=True)
            continue
        try:
            what = path.read_text(errors="replace")[:200] or "something"
        except OSError:
            continue                                          # it has just ended
        found.append(what if where == host() else f"{what} on {where}")
    return found


def host() -> str:
    """This computer, as it stands in names of files."""
    return os.uname().nodename.replace(".", "_").replace("-", "_")


def _begun(process: int) -> str:
    """When a process began, as the kernel counts; "" for one that is not there."""
    try:
        return Path(f"/proc/{process}/stat").read_text().rpartition(")")[2].split()[19]
    except (OSError, IndexError):
        return ""
