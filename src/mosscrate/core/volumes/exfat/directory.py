"""Entry sets of exFAT folders, in both directions.

Source: "exFAT file system specification" 1.00, §6.3 (sets) and §7.4 to §7.7.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass

import numpy as np

from mosscrate.core.binary import Packer
from mosscrate.core.volumes.exfat.structures import (
    CAN_ALLOCATE,
    ENTRY_SIZE,
    FILE,
    FILE_ENTRY,
    FILE_NAME,
    IS_FOLDER,
    NAME_UNITS,
    NO_FAT_CHAIN,
    STREAM,
    STREAM_ENTRY,
    set_checksum,
    set_checksums,
)

_FILE, _STREAM = Packer(FILE_ENTRY), Packer(STREAM_ENTRY)
MOST = (1 << 63) - 1                    # bytes: what says that it is longer is no less wrong
UTC_OFFSET = 0x80                       # "valid, no minutes east of UTC"


@dataclass(frozen=True, slots=True)
class Row:
    """One file or folder: its entry set, and what the set says."""

    name: str
    attributes: int
    first_cluster: int
    data_length: int
    valid_length: int
    is_contiguous: bool                 # NoFatChain
    modify: tuple[int, int, int]        # timestamp, tens of milliseconds, offset from UTC
    slot: int                           # number of its first 32-byte entry
    slots: int

    @property
    def is_folder(self) -> bool:
        """Whether it names a folder."""
        return bool(self.attributes & IS_FOLDER)


def rows(data: bytes) -> Iterator[Row]:
    """The files and folders of a directory's bytes; sets that are cut or not in order are passed over."""
    count = len(data) // ENTRY_SIZE
    types = np.frombuffer(data, np.uint8, count=count * ENTRY_SIZE)[::ENTRY_SIZE]
    ends = np.flatnonzero(types == 0)
    if len(ends):
        types = types[:ends[0]]
    kinds = types.tolist()
    starts = np.flatnonzero(types == FILE).tolist()
    files = np.frombuffer(data, FILE_ENTRY, count=count)
    streams = np.frombuffer(data, STREAM_ENTRY, count=count)
    inside = [s for s in starts if s + 2 < len(kinds) and kinds[s + 1] == STREAM and kinds[s + 2] == FILE_NAME]
    if not inside:
        return
    heads, bodies = files[inside], streams[[s + 1 for s in inside]]
    columns = zip(inside, heads["secondary_count"].tolist(), heads["attributes"].tolist(), heads["modify"].tolist(),
                  heads["modify_10ms"].tolist(), heads["modify_offset"].tolist(), bodies["flags"].tolist(),
                  bodies["name_length"].tolist(), bodies["first_cluster"].tolist(), bodies["data_length"].tolist(),
                  bodies["valid_data_length"].tolist(), strict=True)
    for slot, secondary, attributes, stamp, tens, offset, flags, length, first, size, valid in columns:
        entries = -(-length // NAME_UNITS)
        last = slot + 2 + entries
        if secondary < entries + 1 or last > len(kinds) or any(k != FILE_NAME for k in kinds[slot + 2:last]):
            continue
        raw = b"".join(data[at + 2:at + 32] for at in range((slot + 2) * ENTRY_SIZE, last * ENTRY_SIZE, ENTRY_SIZE))
        name = raw[:2 * length].decode("utf-16-le", "replace").replace("/", "_").replace("\0", "_")
        if name:
            yield Row(name, attributes, first, min(size, MOST), min(valid, MOST), bool(flags & NO_FAT_CHAIN),
                      (stamp, tens, offset), slot, min(1 + secondary, len(kinds) - slot))


def damaged(data: bytes, found: Sequence[Row]) -> int:
    """How many entry sets of a directory are cut, not in order, or do not agree with their checksums.

    Args:
        data: the directory.
        found: its rows.
    """
    count = len(data) // ENTRY_SIZE
    entries = np.frombuffer(data, np.uint8, count=count * ENTRY_SIZE).reshape(count, ENTRY_SIZE)
    ends = np.flatnonzero(entries[:, 0] == 0)
    wrong = int((entries[:ends[0] if len(ends) else count, 0] == FILE).sum()) - len(found)
    slots, starts = np.array([row.slots for row in found], np.int64), np.array([row.slot for row in found], np.int64)
    for length in np.unique(slots).tolist():
        places = starts[slots == length][:, None] + np.arange(length)
        sets = entries[places].reshape(-1, length * ENTRY_SIZE)
        stored = sets[:, 2].astype(np.uint16) | sets[:, 3].astype(np.uint16) << 8
        wrong += int((set_checksums(sets) != stored).sum())
    return wrong


def build(name: str, *, hash: int, attributes: int, first_cluster: int, size: int, is_contiguous: bool,
          stamp: tuple[int, int]) -> bytes:
    """A whole entry set; creation and access are set to the time of the last change."""
    units = name.encode("utf-16-le", "surrogatepass")
    entries = -(-len(units) // (2 * NAME_UNITS))
    head = _FILE.pack(type=FILE, secondary_count=1 + entries, attributes=attributes, create=stamp[0], modify=stamp[0],
                      access=stamp[0], create_10ms=stamp[1], modify_10ms=stamp[1], create_offset=UTC_OFFSET,
                      modify_offset=UTC_OFFSET, access_offset=UTC_OFFSET)
    body = _STREAM.pack(type=STREAM, flags=CAN_ALLOCATE | (NO_FAT_CHAIN if is_contiguous and first_cluster else 0),
                        name_length=len(units) // 2, name_hash=hash, valid_data_length=size,
                        first_cluster=first_cluster, data_length=size)
    padded = units.ljust(entries * 2 * NAME_UNITS, b"\0")
    names = b"".join(bytes((FILE_NAME, 0)) + padded[at:at + 30] for at in range(0, len(padded), 30))
    return sealed(head + body + names)


def sealed(entry_set: bytes) -> bytes:
    """An entry set with its checksum."""
    return entry_set[:2] + set_checksum(entry_set).to_bytes(2, "little") + entry_set[4:]


def placed(entry_set: bytes, first_cluster: int, *, is_contiguous: bool, length: int | None = None) -> bytes:
    """An entry set that leads to other clusters, and for a folder says another length."""
    raw = bytearray(entry_set)
    body = np.frombuffer(raw, STREAM_ENTRY, count=1, offset=ENTRY_SIZE).reshape(())
    body["first_cluster"] = first_cluster
    flags = int(body["flags"]) & ~NO_FAT_CHAIN
    body["flags"] = flags | (NO_FAT_CHAIN if is_contiguous and first_cluster else 0)
    if length is not None:
        body["data_length"] = body["valid_data_length"] = length
    return sealed(bytes(raw))


