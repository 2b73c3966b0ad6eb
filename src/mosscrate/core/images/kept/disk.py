"""A card as it was kept: any byte is read from its chunk; room that was free reads as zeros."""

from __future__ import annotations

from collections import OrderedDict
from collections.abc import Iterator
from pathlib import Path

import numpy as np

from mosscrate.core.blocks import Blocks, Extent, FileBlocks
from mosscrate.core.blocks.runs import with_holes
from mosscrate.core.errors import CrateError, Damaged
from mosscrate.core.images.container import ContainedDisk
from mosscrate.core.images.kept.frames import UNREAD
from mosscrate.core.images.kept.manifest import Manifest
from mosscrate.core.images.kept.packs import Packs

CACHED = 24                              # chunks


class KeptDisk(ContainedDisk):
    """See above.

    Attributes:
        manifest: what it is made of.
        packs: where its chunks are.
    """

    kind = "backup"

    def __init__(self, file: Blocks, manifest: Manifest, packs: Packs) -> None:
        super().__init__(file, manifest.about.card.size)
        self.manifest, self.packs = manifest, packs
        self.sector = manifest.about.sector
        self.container = "raw"                            # what is on it stands there as it stood on the card
        self._chunks: OrderedDict[int, bytes] = OrderedDict()
        runs = manifest.runs
        self._starts, self._ends = runs["card"].astype(np.int64), (runs["card"] + runs["length"]).astype(np.int64)
        packs.refresh()

    @property
    def path(self) -> Path:
        """Of its manifest."""
        assert isinstance(self.file, FileBlocks), "a manifest is a file"
        return self.file.path

    def extents(self) -> Iterator[Extent]:
        """See Blocks: what was not kept is a hole."""
        return with_holes(zip(self._starts.tolist(), self._ends.tolist(), strict=True), self.size)

    def drop_cache(self) -> None:
        """See Blocks."""
        self._chunks.clear()
        self.file.drop_cache()

    def _read(self, offset: int, length: int) -> bytes:
        """See Blocks: what one chunk holds is had without a copy."""
        number = int(np.searchsorted(self._ends, offset, "right"))
        if number < len(self._starts) and self._starts[number] <= offset and offset + length <= self._ends[number]:
            run = self.manifest.runs[number]
            if run["tape"] != UNREAD:
                chunk, at = self._at(int(run["tape"]) + offset - int(self._starts[number]))
                data = self._chunk(chunk)
                if at + length <= len(data):
                    return data if length == len(data) else data[at:at + length]
        return super()._read(offset, length)

    def _at(self, place: int) -> tuple[int, int]:
        """The chunk of a byte of the tape, and where in it that is."""
        tape = self.manifest.tape
        number = int(np.searchsorted(tape, place, "right")) - 1
        return number, place - int(tape[number])

    def _read_into(self, offset: int, buffer: memoryview) -> None:
        end, done = offset + len(buffer), offset
        number = int(np.searchsorted(self._ends, offset, "right"))
        while number < len(self._starts) and self._starts[number] < end:
            run = self.manifest.runs[number]
            start, stop = max(int(self._starts[number]), offset), min(int(self._ends[number]), end)
            part = buffer[start - offset:stop - offset]
            _zero(buffer[done - offset:start - offset])
            if run["tape"] == UNREAD:
                _zero(part)
            else:
                self._from_tape(int(run["tape"]) + start - int(self._starts[number]), part)
            done, number = stop, number + 1
        _zero(buffer[done - offset:])

    def _from_tape(self, place: int, into: memoryview) -> None:
        (number, at), done = self._at(place), 0
        while done < len(into):
            data = self._chunk(number)
            count = min(len(data) - at, len(into) - done)
            into[done:done + count] = memoryview(data)[at:at + count]
            done, number, at = done + count, number + 1, 0

    def _chunk(self, number: int) -> bytes:
        data = self._chunks.get(number)
        if data is None:
            try:
                data = self.packs.read(self.manifest.names[number].tobytes())
            except CrateError as error:
                raise Damaged(f"A part of the backup of {self.manifest.about.card.name} is damaged: {error} Everything "
                              "else of it can be read.") from error
            self._chunks[number] = data
            if len(self._chunks) > CACHED:
                self._chunks.popitem(last=False)
        return data


def _zero(part: memoryview) -> None:
    part[:] = bytes(len(part))
