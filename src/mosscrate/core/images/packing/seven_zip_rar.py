"""7z and rar, unpacked by the system's libarchive.

Source: libarchive 3 (archive_read, archive_read_data). Its Python binding has no types, and swallows errors
of reading and of checksums, so the loop over the bytes is here.
"""
# ruff: noqa: ANN401

from __future__ import annotations

import contextlib
import ctypes
import logging
from collections.abc import Iterator, Sequence
from functools import cached_property
from typing import Any

from mosscrate.core.blocks import Blocks
from mosscrate.core.errors import MediumError, MossError
from mosscrate.core.images.packing.members import Member
from mosscrate.core.images.packing.parts import Joined, set_of
from mosscrate.core.images.packing.rar import stored_checksums
from mosscrate.core.images.packing.stream import DAMAGE, AsFile, Checked, Packed, Stream, Unpacking

SEVEN_ZIP, RAR = b"7z\xbc\xaf\x27\x1c", b"Rar!\x1a\x07"
SEVEN_ZIP_HEADER = 32                   # bytes; the directory stands where it says
BUFFER = 1 << 20
MOST = 1_000_000                        # members that are listed
MISSING = "7z and rar archives are read with the system's libarchive, which is not there. Install libarchive13."


class SevenZip:
    """See Wrapping."""

    kind = "7z"
    needs_end = True

    def probe(self, first: bytes) -> bool:
        """See Wrapping."""
        return first.startswith(SEVEN_ZIP)

    def members(self, file: Blocks) -> Sequence[Member]:
        """See Wrapping."""
        head = file.read(0, min(SEVEN_ZIP_HEADER, file.size))
        needed = SEVEN_ZIP_HEADER + sum(int.from_bytes(head[at:at + 8], "little") for at in (12, 20))
        if needed > file.size:
            joined = set_of(file)
            gone = f"the part behind {joined.paths[-1].name}" if joined is not None and joined.paths else \
                "a part of a set, or the rest of a download"
            raise MediumError(f"{needed - file.size} bytes are missing at its end, with the directory: {gone}.")
        return _members(file, self.kind)


class Rar:
    """See Wrapping."""

    kind = "rar"
    needs_end = False

    def probe(self, first: bytes) -> bool:
        """See Wrapping."""
        return first.startswith(RAR)

    def members(self, file: Blocks) -> Sequence[Member]:
        """See Wrapping."""
        return _members(file, self.kind)


def _members(file: Blocks, kind: str) -> list[Member]:
    found: list[Member] = []
    with _entries(file) as entries:
        for number, entry in enumerate(entries):
            if number == MOST:
                break
            if entry.isfile:
                opener = _opener(file, kind, number, entry.pathname, entry.size)
                found.append(Member(entry.pathname, entry.size, opener))
    return found


def _opener(file: Blocks, kind: str, number: int, name: str, size: int | None) -> Any:
    return lambda: Stream(file, _Entry(file, kind, number, size), name)


class _Entry(Packed):
    """One member; see Packed."""

    def __init__(self, file: Blocks, kind: str, number: int, size: int | None) -> None:
        super().__init__(file, size)
        self.kind, self._number = kind, number

    def begin(self, place: int) -> Unpacking:
        """See Packed."""
        opened = contextlib.ExitStack()
        entries = opened.enter_context(_entries(self.file))
        for _ in range(self._number + 1):
            next(entries)
        return _checked(_Reading(entries, self.size, opened), self._checksums, self._number, self.size)

    @cached_property
    def _checksums(self) -> list[int | None]:
        return stored_checksums(self.file)


def _checked(reading: Unpacking, checksums: list[int | None], number: int, size: int | None) -> Unpacking:
    """The library does not compare what a rar holds as it is."""
    wanted = checksums[number] if number < len(checksums) else None
    return reading if wanted is None or size is None else Checked(reading, size, wanted)


class _Reading:
    """The bytes of a member, in order; see Unpacking."""

    def __init__(self, entries: _Entries, size: int | None, opened: contextlib.ExitStack | None = None) -> None:
        self._archive, self._opened = entries.archive, opened       # held open as long as this is
        self._size, self._done = size, 0
        self._errors, self._name = entries.errors, entries.name

    def readinto(self, buffer: memoryview, /) -> int:
        """See Unpacking."""
        libarchive = _library()
        into = (ctypes.c_char * len(buffer)).from_buffer(buffer)
        try:
            count = int(libarchive.ffi.read_data(self._archive._pointer, into, len(buffer)))
        except libarchive.ArchiveError as error:
            raise self._errors[0] if self._errors else _told(self._name, error) from error
        if count < 0:
            raise self._errors[0] if self._errors else OSError("its data are damaged")
        if count == 0 and self._size is not None and self._done < self._size:
            raise EOFError
        self._done += count
        return count


class InOrder:
    """The members of an archive one after the other, by their numbers among files; going back begins anew.

    What is packed in one piece is unpacked once that way, however many members are read. For one thread.
    """

    def __init__(self, file: Blocks) -> None:
        self._file, self._opened = file, contextlib.ExitStack()
        self._entries: _Entries | None = None
        self._at = self._entry = -1

    @cached_property
    def _checksums(self) -> list[int | None]:
        return stored_checksums(self._file)

    def read(self, number: int, size: int, most: int) -> Iterator[bytes]:
        """The bytes of a member in pieces. Raises MediumError, OSError, EOFError where they are damaged."""
        if self._entries is None or self._at >= number:
            self.close()
            self._entries = self._opened.enter_context(_entries(self._file))
        while self._at < number:
            self._at += bool(next(self._entries).isfile)
            self._entry += 1
        reading = _checked(_Reading(self._entries, size), self._checksums, self._entry, size)
        buffer, left = memoryview(bytearray(most)), size
        while left and (count := reading.readinto(buffer[:min(most, left)])):
            yield bytes(buffer[:count])
            left -= count
        if not left:
            reading.readinto(buffer[:1])                  # at its end the library compares its checksum

    def close(self) -> None:
        """Let go of the archive."""
        self._opened.close()
        self._opened, self._entries = contextlib.ExitStack(), None
        self._at = self._entry = -1


class _Entries:
    """The entries of an open archive, and what went wrong while its file was read."""

    def __init__(self, archive: Any, errors: list[MossError], name: str) -> None:
        self.archive, self.errors, self.name = archive, errors, name
        self._iterator = iter(archive)

    def __iter__(self) -> Iterator[Any]:
        return self

    def __next__(self) -> Any:
        try:
            return next(self._iterator)
        except StopIteration:
            raise
        except Exception as error:
            raise self.errors[0] if self.errors else _told(self.name, error) from error


def filtered(file: Blocks, filter_: str) -> Unpacking:
    """What a stream that one of the library's filters knows unpacks to. Raises MediumError, OSError."""
    opened = contextlib.ExitStack()
    entries = opened.enter_context(_entries(file, "raw", filter_))
    next(entries)
    return _Reading(entries, None, opened)


@contextlib.contextmanager
def _entries(file: Blocks, format_: str = "all", filter_: str = "all") -> Iterator[_Entries]:
    """Raises MediumError where the archive cannot be opened."""
    libarchive = _library()
    errors: list[MossError] = []
    try:
        with _opened(libarchive, file, errors, format_, filter_) as archive:
            yield _Entries(archive, errors, file.name)
    except libarchive.ArchiveError as error:
        raise errors[0] if errors else _list_unread(file, _told(file.name, error)) from error
    except MossError:
        raise
    except DAMAGE as error:
        raise _list_unread(file, error) from error


def _list_unread(file: Blocks, error: Exception) -> MediumError:
    return error if isinstance(error, MediumError) else MediumError(
        f"The list of what is in {file.name} cannot be read: {error}.")


def _told(name: str, error: Exception) -> Exception:
    """What the library says, as an error of its data; what it has no key or no filter for is not damaged."""
    said = str(getattr(error, "msg", None) or error)
    if any(word in said.lower() for word in ("encrypt", "passphrase", "password")):
        return MediumError(f"{name} is encrypted; it is not opened here. Unpack it with its password first.")
    if any(word in said.lower() for word in ("unsupported", "not supported", "unknown", "unexpected codec")):
        return MediumError(f"{name} is packed in a way that is not known here ({said}). Unpack it first.")
    return OSError(said)


def _opened(libarchive: Any, file: Blocks, errors: list[MossError], format_: str, filter_: str) -> Any:
    joined = set_of(file)
    if joined is not None and joined.paths and file.read(0, 6) == RAR:
        return _volumes(libarchive, joined)
    source, buffer = AsFile(file), ctypes.create_string_buffer(BUFFER)
    view = memoryview(buffer).cast("B")

    def read(_archive: Any, _client: Any, into: Any) -> int:
        try:
            count = source.readinto(view)
        except MossError as error:
            errors.append(error)
            return -1
        ctypes.cast(into, ctypes.POINTER(ctypes.c_void_p))[0] = ctypes.cast(buffer, ctypes.c_void_p)
        return count

    def seek(_archive: Any, _client: Any, offset: int, whence: int) -> int:
        return source.seek(offset, whence)

    return libarchive.custom_reader(read, format_, filter_name=filter_, seek_func=seek)


@contextlib.contextmanager
def _volumes(libarchive: Any, file: Joined) -> Iterator[Any]:
    """A rar in volumes: the library itself goes from one file to the next."""
    opener = libarchive.ffi.libarchive.archive_read_open_filenames
    opener.argtypes, opener.restype = [ctypes.c_void_p, ctypes.POINTER(ctypes.c_char_p), ctypes.c_size_t], ctypes.c_int
    names = (ctypes.c_char_p * (len(file.paths) + 1))(*(str(path).encode() for path in file.paths), None)
    with libarchive.read.new_archive_read() as pointer:
        if opener(pointer, names, BUFFER):
            raise libarchive.ArchiveError(libarchive.ffi.error_string(pointer) or "it cannot be opened")
        yield libarchive.read.ArchiveRead(pointer)


def _library() -> Any:
    try:
        import libarchive
    except Exception as error:                # the binding fails in several ways where the library is missing
        raise MediumError(MISSING) from error
    logging.getLogger("libarchive").setLevel(logging.CRITICAL)       # what it would log is raised here
    return libarchive
