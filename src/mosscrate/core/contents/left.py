"""What files a card held when a job left it, so that what was written since can be named.

Of every entry there is a digest of what its folder says of it. Of files that lie where a job has put something,
contents are noted too: all of saves and small files, and places of large ones, since a machine may write over a save in
its place.
"""

from __future__ import annotations

import zlib
from collections.abc import Iterable

import msgspec
from blake3 import blake3

from mosscrate.core.blocks import Extent
from mosscrate.core.blocks.stretches import Stretches
from mosscrate.core.contents.files import FileKind, kind_of
from mosscrate.core.contents.fingerprint import Part, State
from mosscrate.core.errors import FormatError, MediumError
from mosscrate.core.volumes import Entry, Kind

SMALL, SAVE, LARGE = 64 << 10, 8 << 20, 4096     # bytes that are read whole, of files and of saves; of a place
MOST, BUDGET, SAMPLES = 4096, 64 << 20, 3        # files and bytes that are read; places of a large file
SHORT = 8                                        # bytes of a digest: these lists are compared, never proven with
Name = tuple[int, str]                           # number of a partition, path


class Left(msgspec.Struct, frozen=True):
    """By partition and path: what the folders said of each entry, and of some their contents; where partitions lay."""

    lines: dict[int, dict[str, bytes]]
    contents: dict[int, dict[str, bytes]] = {}
    places: dict[int, tuple[int, int]] = {}

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
    return Left({part.partition.index: {e.path: _short(line) for e, line in
                                        zip(part.tree.entries, part.lines, strict=True)}
                 for part in state.parts if part.tree},
                places={part.partition.index: (part.partition.start, part.partition.length) for part in state.parts})


def with_contents(state: State, put: Stretches, before: Left | None) -> Left:
    """The same with contents of files that lie where something was put, as far as the budget goes; saves first.

    Where a partition lies as `before` only what its folders say otherwise is looked at. Raises MediumError.
    """
    now, budget, contents = left_on(state), BUDGET, dict[int, dict[str, bytes]]()
    for part in state.parts if put else ():
        index, here = part.partition.index, dict[str, bytes]()
        is_there_still = before is not None and before.places.get(index) == now.places[index]
        known = before.lines.get(index, {}) if before is not None and is_there_still else {}
        files = [e for e in (part.tree.entries if part.tree else ()) if e.kind == Kind.FILE and e.size
                 and known.get(e.path) != now.lines[index][e.path]]
        for entry in sorted(files, key=_rank):
            if len(here) < MOST and budget > 0 and room_of(part, entry) & put:
                here[entry.path] = _digest(part, entry)
                budget -= entry.size if _is_read_whole(entry) else SAMPLES * LARGE
        contents[index] = here
    return Left(now.lines, contents, now.places)


def since(left: Left, now: State) -> list[Name]:
    """What is new, other or gone by the folders of a card, and by contents that were noted. Raises MediumError."""
    lines, found = left_on(now).lines, set[Name]()
    for index in {*left.lines, *lines}:
        before, after = left.lines.get(index, {}), lines.get(index, {})
        found |= {(index, path) for path in {*before, *after} if before.get(path) != after.get(path)}
    for part in now.parts:
        noted = left.contents.get(part.partition.index, {})
        found |= {(part.partition.index, e.path) for e in (part.tree.entries if part.tree and noted else ())
                  if e.path in noted and e.kind == Kind.FILE and _digest(part, e) != noted[e.path]}
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


def _rank(entry: Entry) -> int:
    return 0 if kind_of(entry) == FileKind.SAVE else 1 if entry.size <= SMALL else 2


def _is_read_whole(entry: Entry) -> bool:
    return entry.size <= (SAVE if kind_of(entry) == FileKind.SAVE else SMALL)


def _digest(part: Part, entry: Entry) -> bytes:
    """Of all of a small file or save, of three places of a large one; b"" where it cannot be read."""
    volume = part.volume
    assert volume is not None, "it was walked"
    try:
        if _is_read_whole(entry):
            return _short(*volume.read_file(entry))
        return _short(*(volume.read_at(entry, (entry.size - LARGE) * k // (SAMPLES - 1), LARGE)
                        for k in range(SAMPLES)))
    except (FormatError, MediumError):
        return b""


def _short(*pieces: bytes | memoryview) -> bytes:
    hasher = blake3()
    for piece in pieces:
        hasher.update(piece)
    return hasher.digest(SHORT)
