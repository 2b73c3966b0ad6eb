"""Streams and archives that hide a disk, and sets in parts: what is inside is read like any other disk.

A new format is its file and its line in `STREAMS` or `ARCHIVES`. Unpacking is for libraries.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from functools import partial
from pathlib import PurePosixPath

from mosscrate.core.blocks import Blocks
from mosscrate.core.errors import MediumError, NotReadYet
from mosscrate.core.images.packing import bzip2, filtered, gzip, xz, zstandard
from mosscrate.core.images.packing.disk import PackedDisk, Packing, Unreached, ends_in_footer, packed_in
from mosscrate.core.images.packing.members import Member, NothingInside, Wrapping, candidates, chosen
from mosscrate.core.images.packing.parts import Joined, Metered, join_with
from mosscrate.core.images.packing.remembered import Remembered, Way
from mosscrate.core.images.packing.seven_zip_rar import Rar, SevenZip
from mosscrate.core.images.packing.stream import Packed, Reach, Stream
from mosscrate.core.images.packing.tar import Tar
from mosscrate.core.images.packing.zip import Zip

DEEPEST = 6                             # wrappings within one another
MOST_OTHERS = 100                       # of what else may be meant that are named
FIRST = 512


def _by(magic: bytes) -> Callable[[bytes], bool]:
    return lambda first: first.startswith(magic)


STREAMS: tuple[tuple[Callable[[bytes], bool], type[Packed], str], ...] = (
    (_by(gzip.MAGIC), gzip.Gzip, ".gz"), (_by(xz.MAGIC), xz.Xz, ".xz"), (_by(bzip2.MAGIC), bzip2.Bzip2, ".bz2"),
    (zstandard.begins, zstandard.Zstandard, ".zst"), (_by(filtered.LZ4), filtered.Lz4, ".lz4"),
    (_by(filtered.LZIP), filtered.Lzip, ".lz"), (filtered.is_lzma, filtered.Lzma, ".lzma"))
ARCHIVES: tuple[Wrapping, ...] = (Zip(), SevenZip(), Rar(), Tar())

__all__ = ["PackedDisk", "Packing", "Reach", "Remembered", "ends_in_footer", "join_with", "kind_by", "packed_in",
           "unpacked"]


def kind_by(first: bytes) -> str:
    """What packs a file that begins like this; "" where nothing does."""
    streams = (packed.kind for begins, packed, _ in STREAMS if begins(first))
    return next(streams, None) or next((archive.kind for archive in ARCHIVES if archive.probe(first)), "")


@dataclass
class _Unwrapping:
    """On the way inwards."""

    blocks: Blocks
    name: str
    reach: Reach | None
    kinds: list[str] = field(default_factory=list)
    member: str = ""
    others: tuple[str, ...] = ()
    streams: list[Stream] = field(default_factory=list)
    way: Way = field(default_factory=Way)
    first: bytes = b""


def unpacked(file: Blocks, wanted: str = "", remembered: Remembered | None = None,
             reach: Reach | None = None, needs_end: Callable[[bytes, str], bool] = lambda first, name: False) -> Blocks:
    """The disk that a packed file hides; the file itself where nothing is packed.

    Args:
        file: what may be packed.
        wanted: the name of what is wanted inside; "" takes the likely one.
        remembered: what is known of it already.
        reach: how far may be unpacked to find it.
        needs_end: whether something that begins like this, and has this name, can only be used once its end is known.

    Raises MediumError, NotReadYet.
    """
    meter = Metered(file)
    if reach is not None:
        reach.measure(meter)
    remembered = remembered or Remembered()
    if remembered.nothing:
        raise NothingInside(remembered.nothing)
    on = _Unwrapping(meter, file.name, reach, way=remembered.way)
    try:
        while _goes_inwards(on, wanted):
            if len(on.kinds) > DEEPEST:
                raise MediumError(f"{file.name} holds archives in archives, more than {DEEPEST} deep. It is not "
                                  "opened.")
        if on.kinds and needs_end(on.first, on.name):
            _must_know_size(on)
    except NothingInside as error:
        if not on.streams:                               # of a stream a glance may have seen the first members only
            remembered.nothing = str(error)
        raise
    except NotReadYet as error:
        if not on.kinds:
            raise
        on.blocks = Unreached(on.blocks, error)
    if not on.kinds:
        if wanted:
            raise MediumError(f"{file.name} is no archive: there is no {wanted} in it.")
        return file
    parts = len(file.parts) if isinstance(file, Joined) else 1
    packing = Packing(tuple(on.kinds), PurePosixPath(on.name).name, on.member, on.others, file.size, parts)
    disk = PackedDisk(on.blocks, packing, tuple(on.streams), meter, remembered)
    disk.name, disk.head = file.name, on.first
    for stream in on.streams:
        stream.reach, stream.noting = None, None
    return disk


def _goes_inwards(on: _Unwrapping, wanted: str) -> bool:
    """One wrapping further; whether there was one."""
    first = on.first = _first_of(on.blocks)
    for begins, packed, suffix in STREAMS:
        if begins(first):
            stream = packed(on.blocks)
            name = PurePosixPath(on.name).name
            inner = name[:-len(suffix)] if name.lower().endswith(suffix) else name
            _step(on, stream.kind, Stream(on.blocks, stream, inner), inner)
            return True
    archive = next((a for a in ARCHIVES if a.probe(first)), None)
    if archive is None:
        return False
    if archive.needs_end:
        _must_know_size(on)
    members = archive.members(on.blocks)
    member = _picked(members, wanted, on)
    on.member = f"{on.member}/{member.name}" if on.member else member.name
    _step(on, archive.kind, member.open(), member.name)
    return True


def _picked(members: Sequence[Member], wanted: str, on: _Unwrapping) -> Member:
    rest = wanted.removeprefix(f"{on.member}/") if on.member else wanted
    exact = [m for m in members if rest == m.name or rest.startswith(f"{m.name}/")]
    member = exact[0] if exact else chosen(members, rest if rest != on.member else "", on.name)
    before = f"{on.member}/" if on.member else ""
    on.others = (*on.others, *(before + m.name for m in candidates(members, MOST_OTHERS) if m is not member))
    return member


def _step(on: _Unwrapping, kind: str, blocks: Blocks, name: str) -> None:
    on.kinds.append(kind)
    on.blocks, on.name = blocks, name
    if isinstance(blocks, Stream):
        blocks.reach = on.reach
        number = len(on.streams)
        blocks.known, blocks.noting = partial(on.way.fill, number), partial(on.way.note, number)
        if not blocks.is_size_known and number in on.way.sizes:
            blocks.settle(on.way.sizes[number])
        on.streams.append(blocks)


def _first_of(blocks: Blocks) -> bytes:
    if not isinstance(blocks, Stream):
        return blocks.read(0, min(FIRST, blocks.size))
    return blocks.first(FIRST)


def _must_know_size(on: _Unwrapping) -> None:
    """A stream around an archive with its list at the end has to be read to there."""
    blocks = on.blocks
    if isinstance(blocks, Stream) and not blocks.is_size_known:
        blocks.begin_again()
        blocks.read_to_end()
        blocks.settle(blocks.at)
        on.way.sizes[on.streams.index(blocks)] = blocks.at
