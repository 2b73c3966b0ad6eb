"""A running device that is filled like a card; see TreeHome."""

from __future__ import annotations

import posixpath
from collections.abc import Iterator

from mosscrate.core.devices.connection import Device
from mosscrate.core.fill.tree_home import PART
from mosscrate.core.volumes import Entry, facts_for

UNKNOWN = 1 << 60                        # bytes; SFTP does not say what is free


class DeviceHome:
    """The folder of a device's address. Names are made by the strictest rules, since nobody knows what is behind."""

    def __init__(self, device: Device) -> None:
        self.device, self.name = device, f"{device.address.host}{device.address.folder}"
        self.facts = facts_for("exfat")

    def begin(self) -> None:
        """See TreeHome: nobody knows who else is at work there; a part is written over by the next filling."""

    def entries(self) -> list[Entry]:
        """See TreeHome."""
        return [entry for entry in self.device.tree(self.device.address.folder) if not entry.path.endswith(PART)]

    def free(self) -> int:
        """See TreeHome."""
        return UNKNOWN

    def read_at(self, entry: Entry, at: int, count: int) -> bytes:
        """See TreeHome."""
        return self.device.read(self._path(entry.path), at, count)

    def put(self, path: str, pieces: Iterator[bytes], modified: int | None) -> None:
        """See TreeHome: written beside its place, then renamed."""
        self.device.put(self._path(path) + PART, pieces, modified)
        self.device.rename(self._path(path) + PART, self._path(path))

    def rename(self, path: str, new: str) -> None:
        """See TreeHome."""
        self.device.make_folders(posixpath.dirname(self._path(new)))
        self.device.rename(self._path(path), self._path(new))

    def _path(self, path: str) -> str:
        return posixpath.join(self.device.address.folder, path)
