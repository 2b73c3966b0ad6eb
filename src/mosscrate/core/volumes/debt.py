"""Room that changed folders will still need when they are written.

Editors hold folders in memory until the end. So that a full volume is noticed when a file is added,
and not when its folder finds no room, every new entry is noted here first.
"""

from __future__ import annotations

from collections import Counter

from mosscrate.core.errors import FitError
from mosscrate.core.sizes import binary


class FolderDebt:
    """Bytes promised to folders, by any name for them.

    Args:
        unit: bytes allocated at once.
        usable: bytes of it that entries fill for certain, where they must not cross its end.
        spare: units more for each changed folder.
    """

    def __init__(self, unit: int, *, usable: int | None = None, spare: int = 0) -> None:
        self.unit, self.usable, self.spare = unit, usable or unit, spare
        self._bytes: Counter[object] = Counter()
        self._units = 0

    def must_fit(self, folder: object, entry_bytes: int, units: int, free: int) -> None:
        """Raises FitError where `units` of data and what all folders need are more than `free` units."""
        before, after = self._of(self._bytes.get(folder)), self._of(self._bytes.get(folder, 0) + entry_bytes)
        if units + self._units - before + after > free:
            raise FitError(f"There is no room: {binary(max(1, units) * self.unit)} are needed, "
                           f"{binary(max(0, free - self._units) * self.unit)} are free.")

    def note(self, folder: object, entry_bytes: int) -> None:
        """An entry that a folder has taken."""
        before = self._of(self._bytes.get(folder))
        self._bytes[folder] += entry_bytes
        self._units += self._of(self._bytes[folder]) - before

    def settle(self) -> None:
        """All folders were written."""
        self._bytes.clear()
        self._units = 0

    def _of(self, count: int | None) -> int:
        return 0 if count is None else count // self.usable + 1 + self.spare
