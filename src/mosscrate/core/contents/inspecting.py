"""The structures that a medium's map and volumes stand on, field by field: name, value, bytes."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import suppress
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from mosscrate.core.blocks import Blocks
from mosscrate.core.contents.straight import straight
from mosscrate.core.contents.survey import partition_window
from mosscrate.core.declared import Declared, Verdict
from mosscrate.core.errors import MossError
from mosscrate.core.maps import declared, read_map
from mosscrate.core.volumes import format_of, open_volume


@dataclass(frozen=True)
class Field:
    """One field. `offset` counts from the start of its structure; `value` is for people."""

    name: str
    offset: int
    raw: bytes
    value: str


@dataclass(frozen=True)
class Structure:
    """One structure on a medium.

    Attributes:
        offset: byte on the medium.
        data: its bytes.
        partition: whose it is; None for the map itself.
        owner: the name of its volume.
        verdict: what its checksum or signature says; "" where it has none; `is_wrong` where it does not fit.
    """

    title: str
    offset: int
    fields: tuple[Field, ...]
    data: bytes
    partition: int | None = None
    verdict: str = ""
    is_wrong: bool = False
    owner: str = ""

    @property
    def heading(self) -> str:
        """What it is and whose."""
        return f"{self.title} of {self.owner}" if self.owner else self.title


def inspect(blocks: Blocks) -> tuple[Structure, ...]:
    """Everything that is known by fields, the map first, then the volumes in the order of the map.

    What cannot be read is left out; the survey has said why. Raises MediumError, FormatError for the map.
    """
    blocks = straight(blocks)
    map_ = read_map(blocks)
    found = [_shown(blocks, structure) for structure in declared(blocks, map_)]
    for partition in map_.partitions:
        with suppress(MossError):
            window = partition_window(blocks, partition)
            own = [replace(_shown(window, structure), partition=partition.index)
                   for structure in format_of(window).declared(window)]
            owner = partition.label or (f"partition {partition.index}" if partition.index else "")
            with suppress(MossError):
                owner = open_volume(window).label or owner
            found += [replace(structure, owner=owner, offset=partition.start + structure.offset) for structure in own]
    return tuple(found)


def _shown(blocks: Blocks, declared: Declared) -> Structure:
    data = blocks.read(declared.at, declared.dtype.itemsize)
    whole = blocks.read(declared.at, 512) if declared.verdict and declared.dtype.itemsize < 512 else data
    verdict = declared.verdict(whole) if declared.verdict else Verdict("")
    return Structure(declared.title, declared.at, tuple(_fields(declared, declared.dtype, data, 0, "")), data,
                     verdict=verdict.sentence, is_wrong=verdict.is_wrong)


def _fields(declared: Declared, dtype: np.dtype[Any], data: bytes, base: int, prefix: str) -> Iterator[Field]:
    """Fields in their order; a table of records comes record by record."""
    assert dtype.fields is not None, "structures have fields"
    for name, (inner, offset, *_) in sorted(dtype.fields.items(), key=lambda item: item[1][1]):
        words, at = name.replace("_", " "), base + offset
        record, shape = inner.subdtype or (inner, ())
        if record.fields:
            for number in range(shape[0] if shape else 1):
                yield from _fields(declared, record, data, at + number * record.itemsize,
                                   f"{prefix}{words} {number + 1}: ")
        else:
            raw = data[at:at + inner.itemsize]
            yield Field(prefix + words, at, raw, declared.words.get(name, lambda raw, t=inner: _value(raw, t))(raw))


def _value(raw: bytes, dtype: np.dtype[Any]) -> str:
    """A number, numbers, or text where bytes read as such."""
    if dtype.base.kind in "iu":
        return "  ".join(str(v) for v in np.frombuffer(raw, dtype.base).tolist())
    if not any(raw):
        return "zeros"
    text = raw.rstrip(b"\0 ").decode("latin-1")
    return f"“{text}”" if text.isascii() and text.isprintable() else f"{len(raw)} bytes"
