"""By what a card is known to be as it was: its map, its volumes, every entry of their trees, and anchors in its files.

Left out is what mounting and reading alone may change: times of access, counts of mounts and of free blocks, hints and
flags of a clean ending. Two cards that are equal in all of this cannot be told apart here.
"""

from __future__ import annotations

import numpy as np
from blake3 import blake3

from mosscrate.core.blocks import Blocks, Window
from mosscrate.core.blocks.runs import distinct
from mosscrate.core.contents.straight import straight
from mosscrate.core.contents.survey import partition_window
from mosscrate.core.errors import FormatError, MediumError
from mosscrate.core.images import packed_in
from mosscrate.core.maps import MapKind, read_map
from mosscrate.core.maps.mbr import is_extended
from mosscrate.core.volumes import Entry, Kind, Volume, open_volume

ANCHORS, CLOSED_ANCHORS = 64, 256        # sectors of files of a volume; of a partition that cannot be opened
EDGE = 64 << 10
SECTOR = 512


def fingerprint(blocks: Blocks) -> bytes:
    """BLAKE3 over what a medium is known by, 32 bytes. Raises MediumError."""
    if packed_in(blocks) is not None:
        return known_by_its_file(blocks)
    hasher = blake3(f"{blocks.size}\n".encode())
    view = straight(blocks)
    hasher.update(view.container.encode())
    try:
        map_ = read_map(view)
    except FormatError:
        _closed(view, hasher)
        return hasher.digest()
    hasher.update(f"{map_.kind} {map_.id} {map_.sector}\n".encode())
    for partition in map_.partitions:
        hasher.update(f"{partition.index} {partition.start} {partition.length} {partition.type} {partition.flags} "
                      f"{partition.label}\n".encode())
        if map_.kind == MapKind.MBR and is_extended(partition):
            continue
        try:
            window = partition_window(view, partition)
        except MediumError:
            hasher.update(b"behind the end")
            continue
        _partition(window, hasher)
    return hasher.digest()


def known_by_its_file(blocks: Blocks) -> bytes:
    """Of a disk in a packed file, which would have to be unpacked for the rest: both ends of the file, and its times.

    What is written from it is compared with its checksums besides.
    """
    packed = packed_in(blocks)
    assert packed is not None, "only a packed disk is known by its file"
    file, member = packed.meter.inner, packed.packing.member
    edge = min(EDGE, file.size)
    hasher = blake3(f"{file.size} {member} {file.changed_at}\n".encode())
    hasher.update(file.read(0, edge))
    hasher.update(file.read(file.size - edge, edge))
    return hasher.digest()


def _partition(window: Window, hasher: blake3) -> None:
    try:
        volume = open_volume(window)
        hasher.update(f"{volume.variant} {volume.id} {volume.label} {volume.size} {volume.block}\n".encode())
        entries = volume.tree().entries
    except FormatError:
        _closed(window, hasher)
        return
    hasher.update("\n".join(map(_line, entries)).encode("utf-8", "surrogatepass"))
    _anchors(volume, window, entries, hasher)


def _line(e: Entry) -> str:
    return (f"{e.path}\t{e.kind}\t{e.size}\t{e.modified}\t{e.node}\t{e.target}\t{e.mode}\t{e.owner}\t{e.attributes}"
            f"\t{e.protection}\t{e.comment}\t{e.resource}")


def _anchors(volume: Volume, window: Window, entries: tuple[Entry, ...], hasher: blake3) -> None:
    """A sector in the middle of files that are spread over the tree."""
    files = [e for e in entries if e.kind == Kind.FILE and e.size]
    places = distinct(np.linspace(0, len(files) - 1, min(ANCHORS, len(files))).astype(int)).tolist() if files else []
    for entry in (files[k] for k in places):
        try:
            extents = volume.extents_of(entry)
        except FormatError:
            hasher.update(b"broken")
            continue
        if extents:
            middle = extents[len(extents) // 2]
            at = (middle.start + middle.length // 2) // SECTOR * SECTOR
            hasher.update(window.read(at, min(SECTOR, window.size - at)))


def _closed(blocks: Blocks, hasher: blake3) -> None:
    """Both ends and anchors of what cannot be opened."""
    edge = min(EDGE, blocks.size)
    hasher.update(blocks.read(0, edge))
    hasher.update(blocks.read(blocks.size - edge, edge))
    last = max(0, blocks.size - SECTOR) // SECTOR
    for sector in distinct(np.linspace(0, last, CLOSED_ANCHORS).astype(np.int64)).tolist():
        hasher.update(blocks.read(sector * SECTOR, min(SECTOR, blocks.size - sector * SECTOR)))
