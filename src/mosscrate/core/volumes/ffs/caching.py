"""Directory caches (DOS\\4, DOS\\5): beside its hash table a folder keeps a chain of blocks that list it.

Machines list a folder from this chain and open its files by the hash table, so the two have to agree.
Source: "The .ADF format FAQ" 1.1, "Directory cache blocks": a block is its type, own number, folder, count
of records, next block, checksum; records of different length follow.
"""

from __future__ import annotations

import struct
from collections.abc import Callable, Iterator
from dataclasses import dataclass

import numpy as np

from mosscrate.core.errors import FormatError
from mosscrate.core.findings import Finding, Severity
from mosscrate.core.volumes.ffs import structures as s
from mosscrate.core.volumes.ffs.claiming import NEXT, chain_of
from mosscrate.core.volumes.ffs.structures import Longs
from mosscrate.core.volumes.ffs.volume import FfsVolume

FOLDER, COUNT = 2, 3                                   # longs from the start of a block
_RECORD = struct.Struct(">IIIHHHHHbB")                # up to the length of the name
LONGEST = _RECORD.size + s.MAX_NAME + 1 + s.MAX_COMMENT + 1


@dataclass(frozen=True)
class Record:
    """What a cache says of one entry; `kind` is its secondary type."""

    header: int
    size: int
    protection: int
    owner: tuple[int, int]
    stamp: tuple[int, int, int]
    kind: int
    name: str
    comment: str

    def build(self) -> bytes:
        """As it stands in a block, on an even number of bytes."""
        name, comment = self.name.encode("latin-1"), self.comment.encode("latin-1", "replace")
        raw = _RECORD.pack(self.header, self.size, self.protection, *self.owner, *(v & 0xFFFF for v in self.stamp),
                           self.kind, len(name))
        raw += name + bytes((len(comment),)) + comment
        return raw + bytes(len(raw) % 2)


def record_of(volume: FfsVolume, number: int, header: Longs) -> Record:
    """The record that the header of an entry calls for."""
    kind = s.signed(int(header[s.SEC_TYPE]))
    size = int(header[s.BYTE_SIZE]) if kind == s.ST_FILE else 0
    owner = divmod(int(header[s.OWNER]), 1 << 16)
    days, minutes, ticks = (int(v) for v in header[s.DAYS:s.TICKS + 1])
    return Record(number, size, int(header[s.PROTECT]), owner, (days, minutes, ticks), kind, volume.fields.name(header),
                  volume.fields.comment(header))


def records_in(volume: FfsVolume, chain: list[int]) -> Iterator[Record]:
    """Every record of a chain. Raises FormatError."""
    for number in chain:
        raw = volume.longs(number).tobytes()
        at = 4 * s.TABLE
        for _ in range(int.from_bytes(raw[4 * COUNT:4 * COUNT + 4], "big")):
            try:
                header, size, protection, uid, gid, days, minutes, ticks, kind, length = _RECORD.unpack_from(raw, at)
                at += _RECORD.size
                name, comment_length = raw[at:at + length], raw[at + length]
            except (struct.error, IndexError):
                raise FormatError("directory cache", "record", number * volume.block + at, "a record",
                                  "one that ends in its block") from None
            at += length + 1
            comment = raw[at:at + comment_length]
            at += comment_length + (at + comment_length) % 2
            yield Record(header, size, protection, (uid, gid), (days, minutes, ticks), kind, name.decode("latin-1"),
                         comment.decode("latin-1"))


def differences(volume: FfsVolume, folder: Longs, path: str) -> Iterator[Finding]:
    """Where the cache of a folder does not say what its headers say."""
    try:
        cached = {r.header: r for r in records_in(volume, chain_of(volume, folder))}
    except FormatError as error:
        yield Finding(Severity.PROBLEM, f"The cache of “{path or '/'}” cannot be read: {error}", path,
                      remedy="Its files are whole. The next change of the folder writes the cache anew.")
        return
    real = {number: record_of(volume, number, longs) for number, longs in volume.members(folder)}
    wrong = len(cached.keys() ^ real.keys()) + sum(cached[k] != real[k] for k in cached.keys() & real.keys())
    if wrong:
        yield Finding(Severity.PROBLEM, f"The cache of “{path or '/'}” differs from its headers in {wrong} places: its "
                      "machines show other names, sizes or dates than they open.", path,
                      remedy="The files are whole. The next change of the folder writes the cache anew.")


class Caches:
    """The caches of a volume that is being changed: room is taken as names come, blocks are written at the end.

    Does nothing on volumes without caches.
    """

    def __init__(self, volume: FfsVolume, take: Callable[[], int], give_back: Callable[[int], None]) -> None:
        self.volume, self._take, self._give_back = volume, take, give_back
        self._chains: dict[int, list[int]] = {}
        self._bytes: dict[int, int] = {}
        self.stale: set[int] = set()

    def make_room(self, folder: int, header: Longs, name: str, comment: str) -> None:
        """Take a block more where another record may need it. Raises FitError."""
        if not self.volume.is_cached:
            return
        chain = self._chain(folder, header)
        room = self.volume.block - 4 * s.TABLE - LONGEST          # filled at least so far before the next is begun
        size = self._bytes[folder] + _RECORD.size + len(name) + len(comment) + 2
        if len(chain) < -(-size // room):
            chain.append(self._take())
        self._bytes[folder] = size

    def touch(self, folder: int) -> None:
        """Something in a folder, or the folder's own record, has changed."""
        if self.volume.is_cached:
            self.stale.add(folder)

    def begin(self, folder: int, block: int) -> None:
        """A folder that has been made, with its first block."""
        self._chains[folder], self._bytes[folder] = [block], 0
        self.stale.add(folder)

    def drop(self, folder: int, header: Longs) -> None:
        """A folder that is removed."""
        if self.volume.is_cached:
            for block in self._chain(folder, header):
                self._give_back(block)
            self.stale.discard(folder)
            del self._chains[folder]

    def written(self, folder: int, header: Longs, records: list[Record]) -> dict[int, bytes]:
        """The blocks of a folder's chain, its header led to the first. Blocks that are not needed are given back."""
        chain = self._chain(folder, header)
        packed = _pack([r.build() for r in records], self.volume.block - 4 * s.TABLE)
        for block in chain[len(packed):]:
            self._give_back(block)
        del chain[len(packed):]
        while len(chain) < len(packed):
            chain.append(self._take())
        header[s.EXTENSION] = chain[0]
        self._bytes[folder] = sum(len(r) for part in packed for r in part)
        made = {}
        for block, part, following in zip(chain, packed, (*chain[1:], 0), strict=True):
            made[block] = _block(block, folder, part, following, self.volume.block)
        return made

    def _chain(self, folder: int, header: Longs) -> list[int]:
        """Its blocks, at least one; a chain that cannot be followed is given up, its blocks stay marked as used."""
        if folder not in self._chains:
            try:
                chain = chain_of(self.volume, header)
            except FormatError:
                chain = []
            self._bytes[folder] = sum(len(record_of(self.volume, n, m).build())
                                      for n, m in self.volume.members(header))
            self._chains[folder] = chain or [self._take()]
        return self._chains[folder]


def empty_cache(number: int, folder: int, size: int) -> bytes:
    """The cache block of a folder that holds nothing."""
    return _block(number, folder, [], 0, size)


def _block(number: int, folder: int, records: list[bytes], following: int, size: int) -> bytes:
    longs = np.zeros(size // 4, ">u4")
    longs[s.TYPE], longs[s.OWN_KEY], longs[FOLDER], longs[COUNT] = s.T_CACHE, number, folder, len(records)
    longs[NEXT] = following
    data = np.frombuffer(b"".join(records), np.uint8)
    longs.view(np.uint8)[4 * s.TABLE:4 * s.TABLE + len(data)] = data
    return s.seal(longs)


def _pack(records: list[bytes], room: int) -> list[list[bytes]]:
    """Records into blocks of `room` bytes, in their order; at least one block."""
    blocks, left = [list[bytes]()], room
    for record in records:
        if len(record) > left:
            blocks.append([])
            left = room
        blocks[-1].append(record)
        left -= len(record)
    return blocks
