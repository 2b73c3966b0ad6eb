"""What the service is asked to do."""

from __future__ import annotations

import os
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from mosscrate.core.errors import Gone, MediumError
from mosscrate.core.slots.service.bus import (
    NAME,
    NO_QUESTIONS,
    PATIENT,
    ROOT,
    ServiceGone,
    call,
    connection,
)
from mosscrate.core.slots.service.view import Attached, Drive, View, view_of

NO_VIEW = View({})


@dataclass
class Service:
    """The disk service of this computer. Every act takes a connection of its own: it may be asked from any thread."""

    latest: View = field(default=NO_VIEW, repr=False)

    def view(self) -> View:
        """What is attached now; nothing where there is no service."""
        try:
            with connection() as bus:
                objects, = call(bus, ROOT, "org.freedesktop.DBus.ObjectManager", "GetManagedObjects")
        except MediumError:
            self.latest = NO_VIEW
        else:
            self.latest = view_of(objects)
        return self.latest

    @property
    def is_there(self) -> bool:
        """Whether it answers."""
        try:
            with connection() as bus:
                call(bus, f"{ROOT}/Manager", "org.freedesktop.DBus.Peer", "Ping")
        except MediumError:
            return False
        return True

    def open(self, device: Path, name: str, *, writable: bool, exclusive: bool, may_ask: bool) -> int:
        """A descriptor of a device. Raises MediumError, MustAsk, Busy.

        Args:
            device: its path.
            name: of the card, for the sentence.
            writable: for reading only, where it is False.
            exclusive: nothing can mount it, and nobody else open it so, until the descriptor is closed.
            may_ask: whether a person may be asked for permission.
        """
        flags = os.O_CLOEXEC | (os.O_EXCL if exclusive else 0)
        options: dict[str, tuple[str, Any]] = {"flags": ("i", flags)} | ({} if may_ask else NO_QUESTIONS)
        answer, = self._block(device, name, "Block", "OpenDevice", "sa{sv}", "rw" if writable else "r", options)
        fd: int = answer.to_raw_fd()
        os.set_inheritable(fd, False)            # noqa: FBT003 - takes no keyword
        return fd

    def unmount(self, device: Path, name: str) -> None:
        """Unmount what a device holds, once. Raises MediumError, Busy."""
        self._block(device, name, "Filesystem", "Unmount", "a{sv}", {})

    def rescan(self, device: Path, name: str) -> None:
        """Let the system read a map that was changed. Raises MediumError."""
        self._block(device, name, "Block", "Rescan", "a{sv}", NO_QUESTIONS)

    def eject(self, drive: Drive, name: str) -> None:
        """Raises MediumError, Busy."""
        self._drive(drive, name, "Eject")

    def power_off(self, drive: Drive, name: str) -> None:
        """Raises MediumError, Busy."""
        self._drive(drive, name, "PowerOff")

    def find(self, device: Path) -> Attached | None:
        """A device as the service sees it now."""
        try:
            number = os.stat(device).st_rdev
        except OSError:
            return None
        return self.view().at(f"{os.major(number)}:{os.minor(number)}")

    def _block(self, device: Path, name: str, interface: str, method: str, signature: str,
               *arguments: Any) -> tuple[Any, ...]:  # noqa: ANN401
        found = self.find(device)
        if found is None:
            if not self.is_there:
                raise ServiceGone(f"{name} ({device}) may not be opened by this user, and this computer has no disk "
                                  "service that could open it. Install UDisks2, or ask whoever looks after this "
                                  "computer to let you use its card readers.")
            raise Gone(f"{name} is no longer there.")
        with connection() as bus:
            return call(bus, found.address, f"{NAME}.{interface}", method, signature, *arguments, patience=PATIENT,
                        name=name)

    def _drive(self, drive: Drive, name: str, method: str) -> None:
        with connection() as bus:
            call(bus, drive.address, f"{NAME}.Drive", method, "a{sv}", {}, patience=PATIENT, name=name)
