"""Being told when a card comes or goes: signals of the disk service, events of the kernel, else a look at folders.

Sources: org.freedesktop.DBus.ObjectManager and .Properties of the D-Bus specification; netlink(7), family
NETLINK_KOBJECT_UEVENT, group 1: events of the kernel itself, which every user may receive.
"""

from __future__ import annotations

import os
import select
import socket
import threading
import time
from collections.abc import Callable
from contextlib import suppress
from pathlib import Path
from typing import Any

from jeepney import MatchRule, message_bus
from jeepney.io.blocking import DBusConnection, open_dbus_connection

from mosscrate.core.slots.service.bus import NAME, ROOT

NETLINK_KOBJECT_UEVENT = 15
KERNEL_EVENTS = 1                        # group
LOOK = 0.5                               # seconds between looks at a folder
SETTLED = 0.1                            # a reader tells the same thing several times
PATIENCE = 1.0                           # but not for longer than this
AGAIN = 5.0                              # seconds until the service is tried again


class Watcher:
    """Calls `changed`, on its own thread, soon after anything may have come or gone; until `stop`.

    Args:
        changed: must not raise; it looks for itself what is different.
        folder: of simulated cards.
    """

    def __init__(self, changed: Callable[[], None], folder: Path | None = None) -> None:
        self._changed, self._folder = changed, folder
        self._stop_read, self._stop_write = os.pipe()
        self._kernel = _kernel_events()
        self._mounts = _mount_table()
        self._bus: DBusConnection | None = None
        self._next_try = 0.0
        self._thread = threading.Thread(target=self._run, name="slots", daemon=True)
        self._thread.start()

    def stop(self) -> None:
        """Return when it has ended."""
        os.write(self._stop_write, b".")
        self._thread.join()
        for fd in (self._stop_read, self._stop_write):
            os.close(fd)
        if self._kernel is not None:
            self._kernel.close()
        if self._mounts is not None:
            os.close(self._mounts)
        self._hang_up()

    def _run(self) -> None:
        seen, since = self._folder_now(), 0.0              # since when something is known to have changed
        last = 0.0
        while True:
            self._connect()
            sources = list(filter(None, (self._stop_read, self._kernel, self._bus and self._bus.sock)))
            ready, mounted = _ready(sources, self._mounts, SETTLED if since else LOOK)
            if self._stop_read in ready:
                return
            now = time.monotonic()
            heard = self._drain(ready)
            if mounted and self._mounts is not None:
                os.pread(self._mounts, 1, 0)               # takes the event away
                heard = True
            if (there := self._folder_now()) != seen:
                seen, heard = there, True
            if heard:
                since, last = since or now, now
            if since and (now - last >= SETTLED or now - since >= PATIENCE):
                since = 0.0
                self._changed()

    def _drain(self, ready: list[object]) -> bool:
        """Whether anything was heard."""
        heard = False
        if self._kernel in ready and self._kernel is not None:
            with suppress(OSError):
                while event := self._kernel.recv(1 << 16):
                    heard = heard or b"SUBSYSTEM=block" in event
        if self._bus is not None and self._bus.sock in ready:
            heard = True
            try:
                while True:
                    self._bus.receive(timeout=0)
            except TimeoutError:
                pass
            except (OSError, EOFError, ValueError):
                self._hang_up()                            # the service or the bus has gone: look without it
        return heard

    def _connect(self) -> None:
        if self._bus is not None or time.monotonic() < self._next_try:
            return
        self._next_try = time.monotonic() + AGAIN
        try:
            bus = open_dbus_connection(bus="SYSTEM")
        except (OSError, ValueError, KeyError, EOFError, RuntimeError):
            return
        try:
            rule = MatchRule(type="signal", sender=NAME, path_namespace=ROOT)
            bus.send_and_get_reply(message_bus.AddMatch(rule), timeout=PATIENCE)
            self._bus = bus
        except (OSError, EOFError, TimeoutError):
            bus.close()

    def _hang_up(self) -> None:
        if self._bus is not None:
            with suppress(OSError):
                self._bus.close()
            self._bus = None

    def _folder_now(self) -> tuple[tuple[str, int], ...]:
        """Names and times of descriptions in the folder."""
        if self._folder is None:
            return ()
        with suppress(OSError), os.scandir(self._folder) as entries:
            return tuple(sorted((e.name, e.stat().st_mtime_ns) for e in entries if e.name.endswith(".toml")))
        return ()


def _ready(sources: list[Any], mounts: int | None, seconds: float) -> tuple[list[object], bool]:
    """Which of them have something to be read, and whether the table of mounts has changed; files of any number."""
    looked_at = select.poll()
    for each in sources:
        looked_at.register(each, select.POLLIN)
    if mounts is not None:
        looked_at.register(mounts, select.POLLPRI)
    told = {fd for fd, _event in looked_at.poll(seconds * 1000)}
    return [each for each in sources if (each if isinstance(each, int) else each.fileno()) in told], mounts in told


def _mount_table() -> int | None:
    """The kernel's table of mounts, which tells when something is mounted or unmounted (proc(5), mountinfo)."""
    try:
        return os.open("/proc/self/mountinfo", os.O_RDONLY | os.O_CLOEXEC)
    except OSError:
        return None


def _kernel_events() -> socket.socket | None:
    try:
        events = socket.socket(socket.AF_NETLINK, socket.SOCK_RAW | socket.SOCK_NONBLOCK | socket.SOCK_CLOEXEC,
                               NETLINK_KOBJECT_UEVENT)
        events.bind((0, KERNEL_EVENTS))
    except OSError:
        return None
    return events
