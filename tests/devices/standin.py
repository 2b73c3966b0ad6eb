"""A stand-in for the disk service on a private bus: a reader with two slots, and whatever answer a test wants."""

from __future__ import annotations

import os
import threading
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from jeepney import HeaderFields, MessageType, message_bus, new_error, new_method_return
from jeepney.io.blocking import DBusConnection, open_dbus_connection

NAME, ROOT = "org.freedesktop.UDisks2", "/org/freedesktop/UDisks2"
READER, EMPTY, CARD = f"{ROOT}/drives/reader", f"{ROOT}/drives/second", f"{ROOT}/block_devices/sdx"


@dataclass
class StandIn:
    """The service.

    Attributes:
        card: device file that is in its first slot.
        objects: {address: {interface: {property: (type, value)}}}.
        refusals: {method: name of the error}.
        calls: what it was asked, in order.
    """

    card: Path
    objects: dict[str, dict[str, dict[str, tuple[str, Any]]]] = field(default_factory=dict)
    refusals: dict[str, str] = field(default_factory=dict)
    calls: list[str] = field(default_factory=list)

    def __post_init__(self) -> None:
        number = self.card.stat().st_rdev
        drive = {"Vendor": ("s", "Wren"), "Model": ("s", "Double reader"), "Serial": ("s", "R-77"),
                 "ConnectionBus": ("s", "usb"), "MediaRemovable": ("b", True), "MediaAvailable": ("b", True),
                 "Ejectable": ("b", True), "CanPowerOff": ("b", True), "SiblingId": ("s", "usb1")}
        self.objects = {
            READER: {f"{NAME}.Drive": drive},
            EMPTY: {f"{NAME}.Drive": drive | {"MediaAvailable": ("b", False)}},
            CARD: {f"{NAME}.Block": {"Device": ("ay", os.fsencode(self.card) + b"\0"), "DeviceNumber": ("t", number),
                                     "Size": ("t", 512), "Drive": ("o", READER)}}}

    def answer(self, message: Any) -> Any:
        """One call."""
        method = message.header.fields[HeaderFields.member]
        self.calls.append(method)
        if method in self.refusals:
            return new_error(message, self.refusals[method], "s", ("No.",))
        if method == "GetManagedObjects":
            return new_method_return(message, "a{oa{sa{sv}}}", (self.objects,))
        return new_method_return(message)


@contextmanager
def standing_in(card: Path) -> Iterator[StandIn]:
    """Answers on the system bus until the end."""
    service, bus = StandIn(card), open_dbus_connection(bus="SYSTEM")
    bus.send_and_get_reply(message_bus.RequestName(NAME))
    ended = threading.Event()
    thread = threading.Thread(target=_serve, args=(bus, service, ended))
    thread.start()
    try:
        yield service
    finally:
        ended.set()
        thread.join()
        bus.close()


def _serve(bus: DBusConnection, service: StandIn, ended: threading.Event) -> None:
    while not ended.is_set():
        try:
            message = bus.receive(timeout=0.05)
        except TimeoutError:
            continue
        if message.header.message_type == MessageType.method_call:
            bus.send(service.answer(message))
