"""Packed media in a shell: small ones are read through at once, large ones when it is asked for."""

from __future__ import annotations

from mosscrate.cli.progress import watching
from mosscrate.core.contents.unpacking import prove_for_files, read_through
from mosscrate.core.sheet.bench import Bench
from mosscrate.core.slots import Medium

SMALL = 2 << 30                         # bytes, packed and unpacked


def read_if_small(bench: Bench, medium: Medium) -> Medium:
    """The same medium; a small packed one is read through first. Raises MediumError."""
    if medium.packing is None or max(medium.size, medium.packing.packed) > SMALL:
        return medium
    return read_whole(bench, medium)


def read_for_files(bench: Bench, medium: Medium) -> Medium:
    """The same; also a large one is read through, unless its files can be reached without. Raises MediumError."""
    if medium.packing is None:
        return medium
    with medium.open() as blocks, watching() as watch:
        prove_for_files(blocks, watch)
    return bench.shelf.find(medium.address)


def read_whole(bench: Bench, medium: Medium) -> Medium:
    """The same; one that is packed is read through, if it was not before. Raises MediumError."""
    if medium.remembered is None or medium.remembered.is_read_through:
        return medium
    with medium.open() as blocks, watching() as watch:
        read_through(blocks, watch)
    return bench.shelf.find(medium.address)
