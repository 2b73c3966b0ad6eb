"""Packed disks: how large one may be before it is unpacked, and reading one through."""

from __future__ import annotations

from collections.abc import Callable
from contextlib import suppress
from typing import TypeVar

from blake3 import blake3

from mosscrate.core.blocks import Blocks
from mosscrate.core.blocks.base import FullView
from mosscrate.core.contents.layout import Layout
from mosscrate.core.contents.straight import straight
from mosscrate.core.contents.survey import survey
from mosscrate.core.errors import Damaged, MediumError, MossError, Resized
from mosscrate.core.images import Compared, PackedDisk, packed_in
from mosscrate.core.images.packing.disk import FOOTER
from mosscrate.core.maps import MapKind, map_format, read_map
from mosscrate.core.volumes import claimed_size
from mosscrate.core.watch import Watch

SOON_READ = 64 << 20                   # bytes of an archive that are read through without being asked for
HEAD = 1 << 20                         # bytes by which a map is told
ENDLESS = 1 << 45                      # bytes: no card is larger
Made = TypeVar("Made")


class _Head(Blocks):
    """The first bytes of something of which nobody knows where it ends."""

    def __init__(self, data: bytes, name: str) -> None:
        super().__init__(ENDLESS, name=name)
        self.data = data

    def _read_into(self, offset: int, buffer: memoryview) -> None:
        if offset + len(buffer) > len(self.data):
            raise MediumError(f"{self.name} is only known up to byte {len(self.data)}.", offset)
        buffer[:] = self.data[offset:offset + len(buffer)]


def suppose_size(blocks: Blocks) -> None:
    """Let a packed disk have the size that it says of itself, where its file does not tell. Raises MediumError."""
    packed = packed_in(blocks)
    if packed is None or packed.is_size_known or not packed.is_reached:
        return
    head = _Head(packed.beginning(HEAD), packed.name)
    claimed = 0
    with suppress(MossError):
        view = straight(head)
        map_ = read_map(view)
        first = view.read(0, min(len(head.data), 64 << 10))
        claimed = claimed_size(view) if map_.kind == MapKind.NONE else map_format(map_.kind).claimed_size(first, map_)
    packed.suppose(claimed)


def in_full(blocks: Blocks, work: Callable[[], Made]) -> Made:
    """What is made of a disk; made once more where that showed that it was taken for longer or shorter than it is.

    Raises what the work does.
    """
    packed = packed_in(blocks)
    if packed is not None:
        packed.go_on()
    try:
        return work()
    except Resized:
        if packed is None or blocks.container != "raw":
            raise
        if isinstance(blocks, PackedDisk | FullView):        # a part of it stays as long as it is
            blocks.size = packed.size
        return work()


def confirm_packed(blocks: Blocks) -> None:
    """After a packed disk was used: its streams are read to their ends, where their checksums stand.

    Raises Damaged, MediumError.
    """
    if packed_in(blocks) is not None:
        blocks.confirm()


def prove_packed(blocks: Blocks, watch: Watch) -> None:
    """Before parts of a packed disk are used: it is read through, where it was not before. Raises Damaged, Stopped."""
    packed = packed_in(blocks)
    if packed is not None and not packed.remembered.is_read_through:
        read_through(blocks, watch)


def prove_for_files(blocks: Blocks, watch: Watch) -> None:
    """The same before files are taken out, where that is soon done or all in front has to be unpacked anyway."""
    packed = packed_in(blocks)
    if packed is not None and (packed.places <= 0 or packed.packing.packed <= SOON_READ):
        prove_packed(blocks, watch)


def doubt(blocks: Blocks) -> str:
    """What is to be said of files that were taken out, where nothing was compared with checksums; "" else."""
    packed = packed_in(blocks)
    if packed is None or packed.remembered.is_read_through:
        return ""
    return (f"{packed.packing.name or packed.name} was not read through: what came out of it has been compared with no "
            "checksum yet.")


def read_through(blocks: Blocks, watch: Watch) -> Layout:
    """Unpack all of a packed disk once: its checksums are compared, and what is on it is remembered.

    Raises MediumError, Stopped. That it is damaged is remembered too.
    """
    packed = packed_in(blocks)
    assert packed is not None, "only a packed disk is read through"
    hasher = blake3(max_threads=blake3.AUTO)
    comparison = blocks.begin() if isinstance(blocks, Compared) else None
    packed.look(None)
    seen, held = 0, b""

    def see(data: memoryview) -> None:
        nonlocal seen, held
        seen += len(data)
        if comparison is not None:
            comparison.see(data)
        if len(data) < FOOTER:
            held += bytes(data)
            return
        hasher.update(held)
        hasher.update(data[:-FOOTER])
        held = bytes(data[-FOOTER:])                     # what a fixed disk ends in is no part of it

    try:
        packed.read_through(watch, see)
        checked = comparison.finish() if comparison is not None else ()
    except Damaged as error:
        packed.remembered.settle(0, "", (), fault=str(error))
        raise
    finally:
        if comparison is not None:
            comparison.leave()
    hasher.update(held[:len(held) - (seen - packed.size)])
    packed.remembered.settle(packed.size, hasher.hexdigest(), checked)
    blocks.size = packed.size
    return survey(blocks)
