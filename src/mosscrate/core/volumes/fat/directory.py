"""Directories: entries to names and back.

Source: "FAT: General Overview of On-Disk Format" 1.03, §6 and §7. Long-name entries stand in
reverse order before the short entry that they belong to, each with its checksum.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from functools import lru_cache

import numpy as np

from mosscrate.core.binary import Packer
from mosscrate.core.volumes.fat import names
from mosscrate.core.volumes.fat.structures import (
    DIRECTORY_ENTRY,
    ENTRY_SIZE,
    IS_FOLDER,
    IS_LONG_NAME,
    LONG_NAME,
    VOLUME_LABEL,
    read_entries,
)

DELETED = 0xE5
REMEMBERED = 8 << 10                   # bytes of a directory whose entries are remembered
_ENTRY, _LONG = Packer(DIRECTORY_ENTRY), Packer(LONG_NAME)
LAST_LONG = 0x40
DOT, DOT_DOT = b".          ", b"..         "


@dataclass(frozen=True, slots=True)
class Row:
    """One live entry; `slot` and `slots` say which 32-byte entries it takes, long name included."""

    name: str
    short: bytes
    attributes: int
    cluster: int
    size: int
    modified: int | None
    slot: int
    slots: int

    @property
    def is_folder(self) -> bool:
        """Whether it names a folder."""
        return bool(self.attributes & IS_FOLDER)

    @property
    def is_dot(self) -> bool:
        """Whether it is one of the two links that every folder starts with."""
        return self.short in (DOT, DOT_DOT)


def rows(data: bytes) -> Iterator[Row]:
    """The live entries of a directory's bytes, labels left out."""
    used = len(read_entries(data)) * ENTRY_SIZE
    return iter(_again(data[:used])) if used <= REMEMBERED else _rows(data)


@lru_cache(512)
def _again(data: bytes) -> tuple[Row, ...]:
    """Those of a small directory: a job reads each one several times, most of them with the same bytes."""
    return tuple(_rows(data))


def _rows(data: bytes) -> Iterator[Row]:
    entries = read_entries(data)
    if len(entries) == 0:
        return
    raw = np.frombuffer(data, np.uint8, count=len(entries) * ENTRY_SIZE).reshape(-1, ENTRY_SIZE)
    attributes = entries["attributes"]
    is_long = (attributes & 0x3F) == IS_LONG_NAME
    is_live = (raw[:, 0] != DELETED) & ~is_long & ((attributes & VOLUME_LABEL) == 0)
    index = np.flatnonzero(is_live)
    live = entries[index]
    sums = names.checksums(raw[index, :11]).tolist()
    clusters = (live["cluster_high"].astype(np.int64) << 16 | live["cluster_low"]).tolist()
    units = np.concatenate((raw[:, 1:11], raw[:, 14:26], raw[:, 28:32]), axis=1).tobytes()
    orders, tied = raw[:, 0].tolist(), raw[:, 13].tolist()
    long_flags = is_long.tolist()
    columns = zip(index.tolist(), live["name"].tolist(), live["attributes"].tolist(), live["case"].tolist(),
                  clusters, live["size"].tolist(), live["written_date"].tolist(),
                  live["written_time"].tolist(), sums, strict=True)
    for slot, short, flags, case, cluster, size, date, clock, checksum in columns:
        first, count = slot, 0
        while first > 0 and long_flags[first - 1] and tied[first - 1] == checksum \
                and orders[first - 1] & ~LAST_LONG == count + 1:
            first, count = first - 1, count + 1
            if orders[first] & LAST_LONG:
                break
        name = ""
        if count and orders[first] & LAST_LONG:
            parts = b"".join(units[26 * row:26 * row + 26] for row in range(slot - 1, first - 1, -1))
            name = parts.decode("utf-16-le", "replace").partition("\0")[0]
        else:
            first = slot
        name = (name or names.short_name(short, case)).replace("/", "_")
        yield Row(name, short, flags, cluster, size, names.timestamp(date, clock), first, slot - first + 1)


def label_of(data: bytes) -> str:
    """The volume label that a root directory holds, "" for none."""
    entries = read_entries(data)
    if len(entries) == 0:
        return ""
    first = np.frombuffer(data, np.uint8, count=len(entries) * ENTRY_SIZE)[::ENTRY_SIZE]
    is_label = ((entries["attributes"] & 0x3F) != IS_LONG_NAME) & (first != DELETED) \
        & ((entries["attributes"] & (VOLUME_LABEL | IS_FOLDER)) == VOLUME_LABEL)
    found = np.flatnonzero(is_label)
    return names.short_label(entries[found[0]]["name"].item()) if len(found) else ""


def build(name: str, *, attributes: int, cluster: int, size: int, modified: int | None,
          taken: names.ShortNames) -> bytes:
    """The entries for one name: long ones where needed, then the short one, which joins `taken`."""
    short = names.as_short(name)
    needs_long = short is None or short in taken
    if short is None or short in taken:
        short = taken.alias(name)
    taken.add(short)
    stored = b"\x05" + short[1:] if short[0] == DELETED else short
    head = b"".join(_long_entries(name, stored)) if needs_long else b""
    return head + short_entry(stored, attributes=attributes, cluster=cluster, size=size, modified=modified)


def short_entry(short: bytes, *, attributes: int, cluster: int, size: int, modified: int | None) -> bytes:
    """One 32-byte entry; creation and access are set to the time of the last change."""
    date, clock = names.fields_of(modified)
    return _ENTRY.pack(name=short, attributes=attributes, created_time=clock, created_date=date, accessed_date=date,
                       cluster_high=cluster >> 16, written_time=clock, written_date=date,
                       cluster_low=cluster & 0xFFFF, size=size)


def _long_entries(name: str, short: bytes) -> list[bytes]:
    """The long-name entries in the order on disk: the last part first."""
    checksum = names.checksum(short)
    units = name.encode("utf-16-le")
    count = -(-len(units) // (2 * names.UNITS_A_ENTRY))
    if len(units) < count * 2 * names.UNITS_A_ENTRY:
        units += b"\0\0"
    units = units.ljust(count * 2 * names.UNITS_A_ENTRY, b"\xff")
    found = []
    for order in range(count, 0, -1):
        part = units[26 * (order - 1):26 * order]
        found.append(_LONG.pack(order=order | (LAST_LONG if order == count else 0), name_1=part[:10],
                                attributes=IS_LONG_NAME, checksum=checksum, name_2=part[10:22], name_3=part[22:]))
    return found


def label_bytes(data: bytes) -> bytes:
    """The 32-byte entry of the volume label in a root directory, b"" for none."""
    entries = read_entries(data)
    first = np.frombuffer(data, np.uint8, count=len(entries) * ENTRY_SIZE)[::ENTRY_SIZE]
    is_label = ((entries["attributes"] & 0x3F) != IS_LONG_NAME) & (first != DELETED) \
        & ((entries["attributes"] & (VOLUME_LABEL | IS_FOLDER)) == VOLUME_LABEL)
    found = np.flatnonzero(is_label)
    return bytes(entries[found[0]].tobytes()) if len(found) else b""


def renamed(name: str, entry: np.void, taken: names.ShortNames) -> bytes:
    """The entries for something under another name: dates, attributes and clusters stay; joins `taken`."""
    raw = build(name, attributes=0, cluster=0, size=0, modified=None, taken=taken)
    fresh = entry.copy()
    fresh["name"], fresh["case"] = np.void(raw[-ENTRY_SIZE:][:11]), 0
    return raw[:-ENTRY_SIZE] + bytes(fresh.tobytes())


def repointed(entry: bytes, cluster: int) -> bytes:
    """One entry with another first cluster."""
    fresh = np.frombuffer(bytearray(entry), DIRECTORY_ENTRY).reshape(())
    fresh["cluster_high"], fresh["cluster_low"] = cluster >> 16, cluster & 0xFFFF
    return bytes(fresh.tobytes())
