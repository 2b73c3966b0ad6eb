"""Making qcow2 files of a disk: version 3, clusters as they are or deflated; those of zeros take no room.

Source: as in `qcow2`. The header comes first, clusters follow in the order of the disk, and the tables stand behind
them, since only then it is known how long they are. Every host cluster is counted as often as something lies in it.
"""

from __future__ import annotations

import zlib

import numpy as np

from mosscrate.core.binary import Place, Record
from mosscrate.core.blocks import Blocks
from mosscrate.core.errors import FitError
from mosscrate.core.images.pipeline import Pipeline
from mosscrate.core.images.qcow2 import HEADER_3, IS_PACKED, MAGIC, MOST_L1, SECTOR
from mosscrate.core.sizes import binary
from mosscrate.core.watch import Watch

BITS = 16
CLUSTER = 1 << BITS
ENTRIES = CLUSTER // 8
COUNTS = CLUSTER // 2                  # of 16 bits, in a block of counts
COPIED = 1 << 63                       # counted once: it may be written where it stands
SPLIT = 62 - (BITS - 8)
LEVEL = 1
WINDOW = -12                           # raw deflate, as readers expect it


def largest_file(source: Blocks) -> int:
    """Bytes of the file at most. Raises FitError."""
    if source.size % SECTOR or source.size > MOST_L1 * ENTRIES * CLUSTER:
        raise FitError(f"A qcow2 file holds whole sectors; the source has {binary(source.size)}.")
    clusters = -(-source.size // CLUSTER)
    tables = clusters // ENTRIES + clusters // COUNTS + clusters // (COUNTS * ENTRIES) + 16
    return (clusters + 2 * tables + 16) * CLUSTER


def write(source: Blocks, file: Blocks, watch: Watch, *, packs: bool) -> tuple[str, int]:
    """The clusters that hold something; returns the BLAKE3 of the disk and the length of the file.

    Raises MediumError, Stopped.
    """
    writing = _Writing(file, -(-source.size // CLUSTER))
    pipeline = Pipeline(source, CLUSTER, _deflated if packs else _whole, watch)
    for number, data in pipeline:
        if data is not None:
            writing.add(number, data)
    return pipeline.digest, writing.finish(source.size)


def _whole(data: bytes) -> bytes:
    return data.ljust(CLUSTER, b"\0")


def _deflated(data: bytes) -> bytes:
    """A cluster, packed where that saves a sector; a whole cluster otherwise."""
    whole = _whole(data)
    packer = zlib.compressobj(LEVEL, zlib.DEFLATED, WINDOW)
    packed = packer.compress(whole) + packer.flush()
    return packed if len(packed) <= CLUSTER - SECTOR else whole


class _Writing:
    """Where clusters and tables go."""

    def __init__(self, file: Blocks, clusters: int) -> None:
        self._file, self._at = file, CLUSTER                     # behind the header
        self._entries = np.zeros(-(-clusters // ENTRIES) * ENTRIES, np.uint64)
        self._counts = np.zeros(COUNTS, np.uint16)
        self._count(0, CLUSTER)

    def add(self, number: int, data: bytes) -> None:
        """The next cluster of the disk that holds something."""
        if len(data) < CLUSTER:
            self._entries[number] = np.uint64(self._put_packed(data))
            return
        self._at = -(-self._at // CLUSTER) * CLUSTER
        self._entries[number] = np.uint64(self._at | COPIED)
        self._file.write(self._at, data)
        self._count(self._at, CLUSTER)
        self._at += CLUSTER

    def finish(self, size: int) -> int:
        """Tables, counts and the header; returns the length of the file."""
        self._at = -(-self._at // CLUSTER) * CLUSTER
        l1 = self._tables()
        l1_at = self._append(l1.astype(">u8").tobytes())
        counts_at, clusters = self._append_counts()
        raw: Record = np.zeros((), HEADER_3)
        Place("qcow2 header", HEADER_3, 0).put(
            raw, magic=MAGIC, version=3, cluster_bits=BITS, size=size, l1_size=len(l1), l1_table_offset=l1_at,
            refcount_table_offset=counts_at, refcount_table_clusters=clusters, refcount_order=4,
            header_length=HEADER_3.itemsize)
        self._file.write(0, raw.tobytes())
        return self._at

    def _put_packed(self, data: bytes) -> int:
        place = self._at
        sectors = (place % SECTOR + len(data) - 1) // SECTOR
        self._file.write(place, data)
        self._count(place, len(data))
        self._at += len(data)
        return IS_PACKED | sectors << SPLIT | place

    def _count(self, start: int, length: int) -> None:
        """Count the host clusters of a stretch once more."""
        first, last = start // CLUSTER, (start + length - 1) // CLUSTER
        while last >= len(self._counts):
            self._counts = np.append(self._counts, np.zeros(len(self._counts), np.uint16))
        self._counts[first:last + 1] += 1

    def _append(self, data: bytes) -> int:
        place = self._at
        padded = -(-len(data) // CLUSTER) * CLUSTER
        self._file.write(place, data.ljust(padded, b"\0"))
        self._count(place, padded)
        self._at += padded
        return place

    def _tables(self) -> np.ndarray[tuple[int], np.dtype[np.uint64]]:
        """Write the tables of the second level that name something; the table of the first."""
        tables = self._entries.reshape(-1, ENTRIES)
        l1 = np.zeros(len(tables), np.uint64)
        for number in np.flatnonzero(tables.any(axis=1)).tolist():
            l1[number] = np.uint64(self._append(tables[number].astype(">u8").tobytes()) | COPIED)
        return l1

    def _append_counts(self) -> tuple[int, int]:
        """Write the counts, which count themselves; the place of their table, and its clusters."""
        used, table = self._at // CLUSTER, 1
        while True:
            blocks = self._blocks(used, table)
            if -(-blocks // ENTRIES) <= table:
                break
            table += 1
        total = table + blocks
        self._count(self._at, total * CLUSTER)
        counts = self._counts[:blocks * COUNTS]
        counts = np.append(counts, np.zeros(blocks * COUNTS - len(counts), np.uint16))
        places = self._at + CLUSTER * (table + np.arange(blocks, dtype=np.uint64))
        self._file.write(self._at, places.astype(">u8").tobytes().ljust(table * CLUSTER, b"\0"))
        self._file.write(self._at + table * CLUSTER, counts.astype(">u2").tobytes())
        at, self._at = self._at, self._at + total * CLUSTER
        return at, table

    @staticmethod
    def _blocks(used: int, table: int) -> int:
        """Blocks of counts for a file of so many clusters, and for themselves."""
        blocks = 0
        while blocks * COUNTS < used + table + blocks:
            blocks += 1
        return blocks
