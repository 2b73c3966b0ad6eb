"""What files a card held when a job left it, so that what was written since can be named.

Of every entry there is a digest of what its folder says of it. Where a job wrote the card over, contents are noted too:
all of saves and small files, and places of large ones, since a machine may write over a save in its place.
"""

from __future__ import annotations

import zlib
from collections.abc import Iterable, Iterator

import msgspec
from blake3 import blake3

from mosscrate.core.blocks import Extent
from mosscrate.core.blocks.stretches import Stretches
from mosscrate.core.contents.files import FileKind, kind_of
from mosscrate.core.contents.fingerprint import Part, State, line_of
from mosscrate.core.errors import FormatError, MediumError
from mosscrate.core.volumes import Entry, Kind

SMALL, SAVE, LARGE = 64 << 10, 8 << 20, 4096     # bytes that are read whole, of files and of saves; of a place
MOST, BUDGET, SAMPLES = 4096, 64 << 20, 3        # files and bytes that are read; places of a large file
SHORT = 8                                        # bytes of a digest: these lists are compared, never proven with
Name = tuple[int, str]                           # number of a partition, path


class Left(msgspec.Struct, frozen=True):
    """By partition and path: what the folders said of each entry, and of some their contents."""

    lines: dict[int, dict[str, bytes]]
    contents: dict[int, dict[str, bytes]] = {}

    def pack(self) -> bytes:
        """As it is stored."""
        return zlib.compress(msgspec.msgpack.encode(self), 1)

    @staticmethod
    def unpack(data: bytes) -> Left:
        """Raises ValueError."""
        try:
            return msgspec.msgpack.decode(zlib.decompress(data), type=Left)
        except (zlib.error, msgspec.DecodeError) as error:
            raise ValueError(str(error)) from error


def left_on(state: State) -> Left:
    """What the folders of a card say now. Raises MediumError."""
    return Left({part.partition.index: {e.path: _short(line_of(e).encode("utf-8", "surrogatepass"))
                                        for e in part.tree.entries} for part in state.parts if part.tree})


def with_contents(state: State) -> Left:
    """The same with contents of saves, small files, and places of large ones. Raises MediumError."""
    return Left(left_on(state).lines, {part.partition.index: dict(_contents(part)) for part in state.parts})


def since(left: Left, now: State) -> list[Name]:
    """What is new, other or gone by the folders of a card, and by contents that were noted. Raises MediumError."""
    found = set(_differing(left.lines, left_on(now).lines))
    if left.contents:
        found |= set(_differing(left.contents, with_contents(now).contents))
    return sorted(found)


def lying_at(places: Iterable[Extent], now: State) -> list[Name]:
    """Files that lie at places of a card. Raises MediumError."""
    wanted, found = Stretches.of(places), []
    for part in now.parts:
        for entry in part.tree.entries if part.tree and part.volume else ():
            if room_of(part, entry) & wanted:
                found.append((part.partition.index, entry.path))
    return found


def room_of(part: Part, entry: Entry) -> Stretches:
    """Where a file lies, in bytes of the medium; nothing where that cannot be told."""
    if part.volume is None or entry.kind != Kind.FILE:
        return Stretches()
    try:
        return Stretches.of(part.volume.extents_of(entry)).moved(part.partition.start)
    except FormatError:
        return Stretches()


def _contents(part: Part) -> Iterator[tuple[str, bytes]]:
    """Saves first, then small files, then places of large ones, as far as the budget goes."""
    volume, tree = part.volume, part.tree
    if volume is None or tree is None:
        return
    files = [e for e in tree.entries if e.kind == Kind.FILE and e.size]
    saves = [e for e in files if kind_of(e) == FileKind.SAVE and e.size <= SAVE]
    whole = [*saves, *(e for e in files if e.size <= SMALL and kind_of(e) != FileKind.SAVE)][:MOST]
    known, left = {e.path for e in whole}, BUDGET
    for entry in whole:
        if (left := left - entry.size) < 0:
            break
        try:
            yield entry.path, _short(*volume.read_file(entry))
        except (FormatError, MediumError):
            yield entry.path, b""
    for entry in [e for e in files if e.path not in known][:MOST // SAMPLES]:
        try:
            yield entry.path, _short(*(volume.read_at(entry, (entry.size - LARGE) * k // (SAMPLES - 1), LARGE)
                                       for k in range(SAMPLES)))
        except (FormatError, MediumError):
            yield entry.path, b""


def _differing(then: dict[int, dict[str, bytes]], now: dict[int, dict[str, bytes]]) -> Iterator[Name]:
    for index in {*then, *now}:
        before, after = then.get(index, {}), now.get(index, {})
        yield from ((index, path) for path in {*before, *after} if before.get(path) != after.get(path))


def _short(*pieces: bytes | memoryview) -> bytes:
    hasher = blake3()
    for piece in pieces:
        hasher.update(piece)
    return hasher.digest(SHORT)
