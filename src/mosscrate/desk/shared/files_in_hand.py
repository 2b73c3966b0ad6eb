"""Files that are being dragged: from which partition of which medium, as they travel through the desktop."""

from __future__ import annotations

import msgspec
from PyQt6.QtCore import QMimeData

MIME = "application/x-mosscrate-files"


class FilesInHand(msgspec.Struct, frozen=True):
    """Paths on a partition of the medium with that key; of folders all that is in them."""

    key: str
    partition: int
    paths: tuple[str, ...]
    has_folders: bool = False

    def packed(self) -> QMimeData:
        """For a drag."""
        data = QMimeData()
        data.setData(MIME, msgspec.json.encode(self))
        return data

    @property
    def words(self) -> str:
        """What is in the hand."""
        return f"“{self.paths[0].rpartition('/')[2]}”" if len(self.paths) == 1 else f"{len(self.paths)} items"


def in_hand(data: QMimeData | None) -> FilesInHand | None:
    """What a drag carries; None where it is something else."""
    if data is None or not data.hasFormat(MIME):
        return None
    return msgspec.json.decode(data.data(MIME).data(), type=FilesInHand)
