"""Letting go of a card: unmounted, ejected, and the truth about when it may be pulled."""

from __future__ import annotations

import ctypes
import errno
import fcntl
import os
from collections.abc import Iterator
from contextlib import suppress
from pathlib import Path

from mosscrate.core.errors import GuardRefusal, InUse, MediumError
from mosscrate.core.slots.kernel_tree import Tree, text_in
from mosscrate.core.slots.medium import Medium, Source
from mosscrate.core.slots.service import Service
from mosscrate.core.slots.service.bus import Busy
from mosscrate.core.slots.uses import System

BLKRRPART = 0x125F                       # include/uapi/linux/fs.h: read the map again
NAMED = 3                                # processes that a sentence names
MOST = 100                               # mounts of one card
_libc = ctypes.CDLL(None, use_errno=True)


class NotAllowed(MediumError):
    """This user may not do that without help."""


def unmount(medium: Medium, service: Service) -> tuple[str, ...]:
    """Unmount all that is mounted of a card; returns the places, none where nothing was.

    Raises GuardRefusal for the computer's own disks, InUse that names place and who is at work there, MediumError.
    """
    done: list[str] = []
    while (places := _places(medium, service)) and len(done) < MOST:
        number, place = places[-1]                              # what was mounted last lies on top
        _unmount(medium, service, number, place)
        done.append(place)
    return tuple(dict.fromkeys(done))


def eject(medium: Medium, service: Service) -> str:
    """Unmount it, put everything on it, and take leave of it; the sentence says whether it may be pulled.

    Raises GuardRefusal, InUse, MediumError.
    """
    if medium.source != Source.READER:
        return f"You can take {medium.name} away: nothing of it is open."
    unmount(medium, service)
    device = service.find(medium.path)
    drive = service.latest.drive_of(device)
    if drive is not None and drive.can_eject and drive.has_changing_media:
        service.eject(drive, medium.name)
        return f"{medium.name} is ejected. You can take it out now."
    if drive is not None and drive.can_power_off and not drive.has_changing_media:
        service.power_off(drive, medium.name)
        return f"{medium.name} is switched off. You can take it out now."
    if use := System(view=service.latest).of(medium.storage(), medium.path):
        raise InUse(f"Leave {medium.name} in its reader: {use}.")
    return f"{medium.name} is unmounted, and everything is written. You can take it out now."


def rescan(medium: Medium, service: Service) -> None:
    """Let the system see a map that was changed; where it cannot, it does so when the card is put in again."""
    if medium.source != Source.READER:
        return
    with suppress(MediumError):
        service.rescan(medium.path, medium.name)
        return
    with suppress(OSError):
        fd = os.open(medium.path, os.O_RDONLY | os.O_CLOEXEC)
        try:
            fcntl.ioctl(fd, BLKRRPART)
        finally:
            os.close(fd)


def at_work_on(place: str, tree: Tree | None = None) -> tuple[str, ...]:
    """Programs of this person, and of others as far as may be seen, that have something open below a place."""
    tree = tree or Tree()
    found = dict[str, None]()
    for process in tree.proc.glob("[0-9]*"):
        if any(_is_below(path, place) for path in _held(process)):
            found[f"{text_in(process / 'comm')} ({process.name})"] = None
    return tuple(found)


def _places(medium: Medium, service: Service) -> list[tuple[str, str]]:
    """(device number, place) of every mount that lies on a card, in the order in which they were mounted."""
    system = System(view=service.view())
    number = system.number_at(medium.path)
    if system.is_own(number):
        raise GuardRefusal(f"{medium.name} is one of the computer's own disks. It stays as it is.")
    storage = medium.storage()
    found = [(use.number, use.place) for use in system.uses if use.place and system.storage(use.number).meets(storage)]
    return list(dict.fromkeys(found))


def _unmount(medium: Medium, service: Service, number: str, place: str) -> None:
    device = service.latest.at(number)
    try:
        try:
            _unmount_directly(place)                       # who may, needs nobody else
        except NotAllowed:
            if device is None:
                raise
            service.unmount(device.path, medium.name)
    except Busy as error:
        who = at_work_on(place)
        named = f" {_listed(who)} {'has' if len(who) == 1 else 'have'} something open there." if who else ""
        raise InUse(f"{place} cannot be unmounted: it is in use.{named} Close that and try again.") from error


def _unmount_directly(place: str) -> None:
    if _libc.umount2(os.fsencode(place), 0) == 0:
        return
    number = ctypes.get_errno()
    if number == errno.EBUSY:
        raise Busy(f"{place} is in use.")
    if number == errno.EPERM:
        raise NotAllowed(f"This user may not unmount {place}, and this computer has no disk service that could do it. "
                         "Install UDisks2, or ask whoever looks after this computer.")
    raise MediumError(f"{place} cannot be unmounted: {os.strerror(number)}.")


def _held(process: Path) -> Iterator[str]:
    """What a process works in and has open."""
    with suppress(OSError):
        yield os.readlink(process / "cwd")
    with suppress(OSError):
        for name in os.listdir(process / "fd"):
            with suppress(OSError):
                yield os.readlink(process / "fd" / name)


def _is_below(path: str, place: str) -> bool:
    return path == place or path.startswith(place.rstrip("/") + "/")


def _listed(names: tuple[str, ...]) -> str:
    shown, more = names[:NAMED], len(names) - NAMED
    if more > 0:
        return ", ".join(shown) + f" and {more} more"
    return " and ".join(filter(None, (", ".join(shown[:-1]), shown[-1])))
