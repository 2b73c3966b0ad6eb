"""Every kind of file that a disk can be saved in: a new one is its module and its line in `KINDS`."""

from __future__ import annotations

import os
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import BinaryIO

from mosscrate.core.blocks import Blocks, begun_image, open_blocks
from mosscrate.core.blocks.streaming import copy, digest
from mosscrate.core.errors import JobError, MediumError
from mosscrate.core.images import disk_in, open_image, packed_in, qcow2_making, vhd_making
from mosscrate.core.images.drive_file import Facts
from mosscrate.core.images.drive_making import write as write_drive
from mosscrate.core.images.stream_making import write_gz, write_xz, write_zst
from mosscrate.core.sizes import binary
from mosscrate.core.watch import Watch

InOrder = Callable[[Blocks, BinaryIO, Facts, Watch], str]


@dataclass(frozen=True)
class Kind:
    """One of them.

    Attributes:
        key: what a shell calls it.
        suffix: of the file.
        words: what people call it.
        for_whom: what it is good for.
        make: writes a disk into a new file; returns the BLAKE3 of the disk. Raises FitError, MediumError, Stopped.
        write: the same without looking back, so that a pipe will do; None where the format needs to.
        open: the disk in such a file. Raises MediumError.
    """

    key: str
    suffix: str
    words: str
    for_whom: str
    make: Callable[[Blocks, Path, Facts, Watch], str]
    write: InOrder | None = None
    open: Callable[[Path], Blocks] = lambda path: disk_in(open_image(path))


def save(kind: Kind, source: Blocks, path: Path, facts: Facts, watch: Watch) -> str:
    """Write a disk into a file that was begun and read it back through it; returns a sentence.

    Raises MediumError, JobError.
    """
    try:
        written = kind.make(source, path, facts, watch)
    except OSError as error:
        raise MediumError(f"{path} cannot be written: {os.strerror(error.errno or 0)}.") from error
    if not any(_is_equal(kind, path, source.size, written, watch) for _ in range(2)):       # a bad read may pass
        raise JobError(f"{path} does not read back as it was written, twice; its disk may be failing.")
    taken = path.stat().st_blocks * 512
    return f"{binary(source.size)} in {_a(kind.words)} of {binary(taken)}, read back and equal."


def _is_equal(kind: Kind, path: Path, size: int, written: str, watch: Watch) -> bool:
    with kind.open(path) as disk:
        if (packed := packed_in(disk)) is not None:
            packed.suppose(size)
        disk.drop_cache()
        is_equal = disk.size == size and digest(disk, size, watch, phase="Reading it back") == written
        disk.confirm()
    return is_equal


def _a(words: str) -> str:
    return f"{'an' if words[0] in 'aeiox' else 'a'} {words}"


def _raw(source: Blocks, path: Path, facts: Facts, watch: Watch) -> str:
    with begun_image(path, source.size) as image:
        copied = copy(source, image, source.size, watch, phase="Writing the image")
        image.flush()
    return copied.digest


def _vhd_fixed(source: Blocks, path: Path, facts: Facts, watch: Watch) -> str:
    with begun_image(path, vhd_making.fixed_size(source)) as image:
        written = vhd_making.write_fixed(source, image, watch, _tracks(facts))
        image.flush()
    return written


def _vhd(source: Blocks, path: Path, facts: Facts, watch: Watch) -> str:
    with begun_image(path, vhd_making.dynamic_size(source)) as image:
        written, length = vhd_making.write_dynamic(source, image, watch, _tracks(facts))
        image.flush()
    os.truncate(path, length)
    return written


def _qcow2(*, packs: bool) -> Callable[[Blocks, Path, Facts, Watch], str]:
    def make(source: Blocks, path: Path, facts: Facts, watch: Watch) -> str:
        with begun_image(path, qcow2_making.largest_file(source)) as image:
            written, length = qcow2_making.write(source, image, watch, packs=packs)
            image.flush()
        os.truncate(path, length)
        return written
    return make


def _in_order(key: str, suffix: str, words: str, for_whom: str, write: InOrder) -> Kind:
    def make(source: Blocks, path: Path, facts: Facts, watch: Watch) -> str:
        with path.open("wb") as file:
            written = write(source, file, facts, watch)
            file.flush()
            os.fsync(file.fileno())
        return written
    return Kind(key, suffix, words, for_whom, make, write)


def _tracks(facts: Facts) -> tuple[int, int] | None:
    """(heads, sectors) of the drive's map, where it says them."""
    return (facts.heads, facts.sectors) if facts.heads and facts.sectors else None


_THIN = "for emulators that read it; holds only what is not empty"
KINDS: tuple[Kind, ...] = (
    Kind("raw", ".img", "image file", "as it is, byte for byte; empty stretches take no room", _raw,
         open=open_blocks),
    _in_order("drive", ".drive", "drive file", "put away: packed, each piece with its digest, geometry and layout",
              write_drive),
    Kind("vhd", ".vhd", "VHD file", _THIN, _vhd),
    Kind("vhd-fixed", ".vhd", "fixed VHD file", "for emulators that want all of it", _vhd_fixed),
    Kind("qcow2", ".qcow2", "qcow2 file", _THIN, _qcow2(packs=False)),
    Kind("qcow2-packed", ".qcow2", "packed qcow2 file", "the same, deflated", _qcow2(packs=True)),
    _in_order("gz", ".img.gz", "gzip file", "to pass on", lambda s, f, _, w: write_gz(s, f, w)),
    _in_order("xz", ".img.xz", "xz file", "to pass on, small", lambda s, f, _, w: write_xz(s, f, w)),
    _in_order("zst", ".img.zst", "Zstandard file", "to pass on, quick", lambda s, f, _, w: write_zst(s, f, w)))
KEYS = tuple(kind.key for kind in KINDS)


def kind_of(key: str) -> Kind:
    """The kind that a shell calls so. Raises KeyError."""
    return next(kind for kind in KINDS if kind.key == key)
