"""Calls over the system bus, and refusals as sentences."""

from __future__ import annotations

import errno
import os
from collections.abc import Iterator
from contextlib import contextmanager
from typing import Any

from jeepney import DBusAddress, HeaderFields, MessageType, new_method_call
from jeepney.io.blocking import DBusConnection, open_dbus_connection

from mosscrate.core.errors import Gone, InUse, MediumError

NAME = "org.freedesktop.UDisks2"
ROOT = "/org/freedesktop/UDisks2"
QUICK = 10.0                             # seconds for what needs nobody's answer
PATIENT = 300.0                          # for what a person may be asked about first
NO_QUESTIONS = {"auth.no_user_interaction": ("b", True)}
_GONE = ("org.freedesktop.DBus.Error.ServiceUnknown", "org.freedesktop.DBus.Error.NameHasNoOwner",
         "org.freedesktop.DBus.Error.NoReply", "org.freedesktop.DBus.Error.Disconnected",
         "org.freedesktop.DBus.Error.Spawn.ExecFailed", "org.freedesktop.DBus.Error.Spawn.ChildExited",
         "org.freedesktop.DBus.Error.TimedOut")
_UNKNOWN = ("org.freedesktop.DBus.Error.UnknownObject", "org.freedesktop.DBus.Error.UnknownMethod",
            "org.freedesktop.DBus.Error.UnknownInterface")
_AWAY = (errno.ENOMEDIUM, errno.ENXIO, errno.ENODEV, errno.ENOENT)


class ServiceGone(MediumError):
    """There is no such service, or it ended while it was asked."""


class MustAsk(MediumError):
    """A person would have to be asked for permission, and this call must not do that."""


class Busy(InUse):
    """Something that runs holds the device, or a file on it."""


@contextmanager
def connection() -> Iterator[DBusConnection]:
    """A connection of its own for one thread and a few calls. Raises ServiceGone where there is no bus."""
    try:
        made = open_dbus_connection(bus="SYSTEM", enable_fds=True)
    except (OSError, ValueError, KeyError, EOFError, RuntimeError) as error:
        raise ServiceGone("This computer has no system bus to ask for its drives.") from error
    with made:
        yield made


def call(bus: DBusConnection, path: str, interface: str, method: str, signature: str = "", *arguments: Any,  # noqa: ANN401
         patience: float = QUICK, name: str = "The card") -> tuple[Any, ...]:
    """What a method answers. Raises ServiceGone, MustAsk, Busy, MediumError.

    Args:
        bus: the connection of this thread.
        path, interface, method, signature, arguments: the call, as its introspection has it.
        patience: seconds.
        name: of the card that it is about, for the sentence.
    """
    message = new_method_call(DBusAddress(path, NAME, interface), method, signature or None, arguments)
    try:
        answer = bus.send_and_get_reply(message, timeout=patience)
    except (OSError, EOFError, TimeoutError) as error:
        raise ServiceGone("The computer's disk service does not answer any more.") from error
    if answer.header.message_type != MessageType.error:
        body: tuple[Any, ...] = answer.body
        return body
    kind = str(answer.header.fields.get(HeaderFields.error_name, ""))
    said = str(answer.body[0]) if answer.body else ""
    raise _refusal(kind, said, name)


def _refusal(kind: str, said: str, name: str) -> MediumError:
    """The sentence for an error of the service."""
    short = kind.rpartition(".")[2]
    if kind in _GONE:
        return ServiceGone("The computer's disk service has ended, or is not installed.")
    if kind in _UNKNOWN or any(os.strerror(number) in said for number in _AWAY):
        return Gone(f"{name} is no longer there.")
    if short == "NotAuthorizedCanObtain":
        return MustAsk(f"Permission is needed for {name}, and nobody could be asked for it: no password dialog of the "
                       "desktop runs here. Run this from the desktop itself, or ask whoever looks after this computer.")
    if short == "NotAuthorizedDismissed":
        return MediumError(f"The question for permission was closed without an answer. Nothing was done to {name}.")
    if short in ("NotAuthorized", "AccessDenied"):
        return MediumError(f"This computer does not let you use {name}: its rules (polkit) refuse it to this user. Ask "
                           "whoever looks after it.")
    if short == "DeviceBusy" or os.strerror(errno.EBUSY) in said:
        return Busy(f"{name} is in use by the system.")
    if short in ("AlreadyUnmounting", "NotMounted", "AlreadyMounted"):
        return MediumError(f"{name} was unmounted or mounted by somebody else just now.")
    if short == "TimedOut":
        return MediumError(f"{name} did not answer in time.")
    return MediumError(f"{name} cannot be used: {said or kind}.")
