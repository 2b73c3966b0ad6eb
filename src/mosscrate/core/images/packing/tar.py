"""tar: members one behind the other, each with a header in front of it.

Source: POSIX.1-2017, pax; GNU's sparse files. Headers are read by the standard library.
"""

from __future__ import annotations

import tarfile
from bisect import bisect_right
from collections.abc import Callable, Iterable, Sequence
from typing import Self, cast

from mosscrate.core.blocks import Blocks, Window
from mosscrate.core.errors import MediumError, MossError
from mosscrate.core.images.packing.members import Member, is_disk_by_name
from mosscrate.core.images.packing.stream import DAMAGE, Stream, as_file

MOST = 1_000_000                        # members that are listed


class Tar:
    """See Wrapping."""

    kind = "tar"
    needs_end = False

    def probe(self, first: bytes) -> bool:
        """See Wrapping."""
        return first[257:262] == b"ustar" or _is_old(first)

    def members(self, file: Blocks) -> Sequence[Member]:
        """See Wrapping: in a stream no further than the first disk, for the rest has to be unpacked to be seen."""
        found: list[Member] = []
        try:
            archive = tarfile.open(fileobj=as_file(file), mode="r:", tarinfo=_Header)  # noqa: SIM115 - it reads on
            while len(found) < MOST and (info := archive.next()) is not None:
                if info.isfile():
                    found.append(Member(info.name, info.size, _opener(file, info)))
                    if isinstance(file, Stream) and is_disk_by_name(info.name):
                        break
        except MossError:
            if not found:
                raise
        except DAMAGE as error:
            if not found:
                raise MediumError(f"The headers of {file.name} cannot be read: {error}.") from error
        return found


class _Header(tarfile.TarInfo):
    """A header, of which no more is read than is asked for here where it is that of an ordinary file."""

    @classmethod
    def frombuf(cls, buf: bytes | bytearray, encoding: str, errors: str) -> Self:
        """See TarInfo: of ordinary files, whose they are and when they were made takes most of its time."""
        first = bytes(buf)
        name, _, _ = first[:100].partition(b"\0")
        size = _octal(first[124:136])
        is_plain = len(first) == tarfile.BLOCKSIZE and first[156] in b"\x000" and not first[345]
        if size is None or not is_plain or name.endswith(b"/") or not _is_summed(first):
            return super().frombuf(buf, encoding, errors)
        header = cls(name.decode(encoding, errors))
        header.size = size
        return header


def _octal(field: bytes) -> int | None:
    digits = field.strip(b"\0 ")
    return int(digits, 8) if digits and not digits.strip(b"01234567") else None


def _is_summed(header: bytes) -> bool:
    """Whether its checksum is right: that of its bytes, with spaces where it stands itself."""
    return _octal(header[148:156]) == sum(header) - sum(header[148:156]) + 8 * 0x20


def _is_old(first: bytes) -> bool:
    """A header of before POSIX has no magic: a name, octal numbers, and their checksum."""
    if len(first) < tarfile.BLOCKSIZE or not first[0] or first[156] not in b"\x000125":
        return False
    fields = (first[100:108], first[124:136])
    return all(_octal(field) is not None for field in fields) and _is_summed(first[:tarfile.BLOCKSIZE])


def _opener(file: Blocks, info: tarfile.TarInfo) -> Callable[[], Blocks]:
    def opened() -> Blocks:
        runs = cast("Iterable[tuple[int, int]] | None", info.sparse)
        end = info.offset_data + (info.size if runs is None else sum(length for _, length in runs))
        if isinstance(file, Stream) and not file.is_size_known:
            there = max(file.size, end)
            file.suppose(there, there)
        if end > file.size:
            raise MediumError(f"{info.name} goes on behind the end of {file.name}: the archive is cut short.")
        return Window(file, info.offset_data, info.size) if runs is None else _Sparse(file, info)
    return opened


class _Sparse(Blocks):
    """A member whose holes are not in the archive."""

    def __init__(self, file: Blocks, info: tarfile.TarInfo) -> None:
        super().__init__(info.size, name=info.name)
        self._file = file
        self._runs: list[tuple[int, int, int]] = []      # byte of the disk, length, byte of the archive
        at, runs = info.offset_data, cast(Iterable[tuple[int, int]], info.sparse)
        for start, length in runs:
            if length:
                self._runs.append((start, length, at))
                at += length
        self._starts = [start for start, _, _ in self._runs]

    def close(self) -> None:
        """See Blocks."""
        self._file.close()

    def _read_into(self, offset: int, buffer: memoryview) -> None:
        done = 0
        while done < len(buffer):
            at = offset + done
            number = bisect_right(self._starts, at) - 1
            start, length, where = self._runs[number] if number >= 0 else (0, 0, 0)
            if start <= at < start + length:
                count = min(len(buffer) - done, start + length - at)
                self._file.read_into(where + at - start, buffer[done:done + count])
            else:
                ends = self._starts[number + 1] if number + 1 < len(self._starts) else self.size
                count = min(len(buffer) - done, ends - at)
                buffer[done:done + count] = bytes(count)
            done += count
