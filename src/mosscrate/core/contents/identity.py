"""By what a card without a serial number is known again: what is on it."""

from __future__ import annotations

import numpy as np
from blake3 import blake3

from mosscrate.core.blocks import Blocks
from mosscrate.core.contents.straight import straight
from mosscrate.core.contents.survey import partition_window
from mosscrate.core.errors import FormatError, InProof, MossError
from mosscrate.core.maps import MapKind, read_map
from mosscrate.core.volumes import open_volume

EDGE = 64 << 10
_TAG_LETTERS = "ACDEFHJKLMNPRTUVWXY3479"        # none that is read as another


def tag_of(key: str) -> str:
    """The four characters of a card, by the hexadecimal key that knows it again."""
    number, letters = int(key, 16), []
    for _ in range(4):
        number, index = divmod(number, len(_TAG_LETTERS))
        letters.append(_TAG_LETTERS[index])
    return "".join(letters)


def mark_of(blocks: Blocks) -> str:
    """The ids of its map and volumes, else its first bytes; "" where nothing is on it. Raises MediumError, InProof."""
    view = straight(blocks)
    first = view.read(0, min(EDGE, view.size))
    if not np.frombuffer(first, np.uint8).any():
        return ""
    ids: list[str] = []
    try:
        map_ = read_map(view)
        ids = [map_.id] if map_.kind != MapKind.NONE else []
        for partition in map_.partitions:
            try:
                volume = open_volume(partition_window(view, partition))
                ids.append(f"{volume.kind} {volume.id}")
            except InProof:                              # it is known by what stood there, not by marks
                raise
            except MossError:
                continue
    except FormatError:
        ids = []
    return " ".join(ids) or blake3(first).hexdigest()
