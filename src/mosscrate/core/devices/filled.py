"""A running device that is filled like a card; see TreeHome."""

from __future__ import annotations

import posixpath
from collections.abc import Iterator

from mosscrate.core.devices.connection import Device
from mosscrate.core.fill.tree_home import PART, is_left_over, part_of
from mosscrate.core.volumes import Entry, Kind, facts_for

UNKNOWN = 1 << 60                        # bytes, where a device does not say what is free


class DeviceHome:
    """The folder of a device's address. Names are made by the strictest rules, since nobody knows what is behind."""

    def __init__(self, device: Device) -> None:
        self.device, self.name = device, f"{device.address.host}{device.address.folder}"
        self.facts = facts_for("exfat")

    def begin(self) -> None:
        """See TreeHome; parts of other computers stay, which may be at work there."""
        for entry in self.device.tree(self.device.address.folder).entries:
            if entry.kind == Kind.FILE and is_left_over(posixpath.basename(entry.path)):
                self.device.remove(self._path(entry.path))

    def entries(self) -> list[Entry]:
        """See TreeHome."""
        entries = self.device.tree(self.device.address.folder).entries
        return [entry for entry in entries if not entry.path.endswith(PART)]

    def free(self) -> int:
        """See TreeHome."""
        free = self.device.free(self.device.address.folder)
        return UNKNOWN if free is None else free

    def read_at(self, entry: Entry, at: int, count: int) -> bytes:
        """See TreeHome."""
        return self.device.read(self._path(entry.path), at, count)

    def put(self, path: str, pieces: Iterator[bytes], modified: int | None, *,
            old: tuple[str, str] | None = None) -> None:
        """See TreeHome: written beside its place, then renamed."""
        target = self._path(path)
        part = posixpath.join(posixpath.dirname(target), part_of(posixpath.basename(target)))
        self.device.put(part, pieces, modified)
        if old is not None:
            self.device.rename(self._path(old[0]), self._path(old[1]))
        self.device.rename(part, target)

    def rename(self, path: str, new: str) -> None:
        """See TreeHome."""
        self.device.make_folders(posixpath.dirname(self._path(new)))
        self.device.rename(self._path(path), self._path(new))

    def _path(self, path: str) -> str:
        return posixpath.join(self.device.address.folder, path)
