"""Making gz, xz and zst streams of a disk.

xz and zst get a stream or frame for every few MiB, so that reading can begin at any of them; gzip is one member, since
more would hide its size. Sources: as for reading them.
"""

from __future__ import annotations

import lzma
from collections.abc import Callable
from typing import BinaryIO

from backports import zstd

from mosscrate.core.blocks import Blocks
from mosscrate.core.images.pipeline import Pipeline
from mosscrate.core.watch import Watch

PIECE = 16 << 20
CHECKED: dict[int, int] = {zstd.CompressionParameter.compression_level: 3, zstd.CompressionParameter.checksum_flag: 1}
XZ_PRESET = 1


def write_gz(source: Blocks, file: BinaryIO, watch: Watch) -> str:
    """Returns the BLAKE3 of the disk. Raises MediumError, OSError, Stopped."""
    from isal import igzip  # slow to load

    pipeline = Pipeline(source, PIECE, bytes, watch)
    with igzip.IGzipFile(fileobj=file, mode="wb", compresslevel=2, mtime=0) as packer:  # type: ignore[no-untyped-call]
        for number, data in pipeline:
            data = data if data is not None else bytes(_length(source, number))
            packer.write(data)  # type: ignore[no-untyped-call]
    return pipeline.digest


def write_xz(source: Blocks, file: BinaryIO, watch: Watch) -> str:
    """See write_gz."""
    return _in_pieces(source, file, watch, lambda data: lzma.compress(data, preset=XZ_PRESET))


def write_zst(source: Blocks, file: BinaryIO, watch: Watch) -> str:
    """See write_gz."""
    return _in_pieces(source, file, watch, lambda data: zstd.compress(data, options=CHECKED))


def _in_pieces(source: Blocks, file: BinaryIO, watch: Watch, pack: Callable[[bytes], bytes]) -> str:
    pipeline = Pipeline(source, PIECE, pack, watch)
    empty: dict[int, bytes] = {}
    for number, data in pipeline:
        if data is None:
            length = _length(source, number)
            data = empty[length] = empty.get(length) or pack(bytes(length))
        file.write(data)
    return pipeline.digest


def _length(source: Blocks, number: int) -> int:
    return min(PIECE, source.size - number * PIECE)
