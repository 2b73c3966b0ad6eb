"""Devices that were used here: their addresses, and the keys by which their servers are known again. No passwords."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

import msgspec

from mosscrate.core.durable import write_whole
from mosscrate.core.errors import MediumError


class _Noted(msgspec.Struct):
    """The file: host keys by server as OpenSSH writes them, addresses, the one used last first."""

    keys: dict[str, str] = {}
    addresses: list[str] = []


@dataclass(frozen=True)
class KnownDevices:
    """A file in the state folder."""

    path: Path

    @classmethod
    def of(cls, state: Path) -> KnownDevices:
        """Those of the person whose state folder it is."""
        return cls(state / "devices.json")

    def key_of(self, server: str) -> str:
        """The host key of a server; "" for one that was never trusted."""
        return self._read().keys.get(server, "")

    def trust(self, server: str, key: str) -> None:
        """Know a server by this key from now on. Raises MediumError where that cannot be noted."""
        noted = self._read()
        noted.keys[server] = key
        self._write(noted)

    def addresses(self) -> list[str]:
        """Devices that were used, the last one first."""
        return self._read().addresses

    def used(self, address: str) -> None:
        """Note that a device was used."""
        noted = self._read()
        noted.addresses = [address, *(other for other in noted.addresses if other != address)]
        self._write(noted)

    def forget(self, server: str, address: str) -> None:
        """Neither address nor key is remembered."""
        noted = self._read()
        noted.keys.pop(server, None)
        noted.addresses = [other for other in noted.addresses if other != address]
        self._write(noted)

    def _read(self) -> _Noted:
        try:
            return msgspec.json.decode(self.path.read_bytes(), type=_Noted)
        except FileNotFoundError:
            return _Noted()
        except (OSError, ValueError) as error:
            raise MediumError(f"The list of known devices, {self.path}, cannot be read: {error}. Remove it to begin "
                              "a new one; each device is asked for its key again then.") from error

    def _write(self, noted: _Noted) -> None:
        try:
            self.path.parent.mkdir(parents=True, exist_ok=True)
            write_whole(self.path, msgspec.json.format(msgspec.json.encode(noted), indent=2))
        except OSError as error:
            raise MediumError(f"It cannot be noted in {self.path}: {error.strerror}.") from error
