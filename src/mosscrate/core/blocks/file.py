"""Image files and block devices, through one file descriptor.

ioctl numbers: include/uapi/linux/fs.h and falloc.h of the Linux kernel.
"""

from __future__ import annotations

import ctypes
import errno
import fcntl
import mmap
import os
import stat
import struct
from collections.abc import Callable, Iterator
from contextlib import suppress
from pathlib import Path

import numpy as np

from mosscrate.core.blocks.base import SECTOR, Blocks, Buffer, Extent
from mosscrate.core.blocks.proof_marks import first_mark
from mosscrate.core.errors import Gone, InProof, InUse, MediumError

BLKROGET = 0x125E
BLKSSZGET = 0x1268
BLKGETSIZE64 = 0x80081272
BLKZEROOUT = 0x127F
PUNCH_HOLE_KEEP_SIZE = 0x02 | 0x01
SYNC_FILE_RANGE_WRITE = 2
DIRECT = 1 << 20               # bytes of a direct read that has to go through a buffer of ours
PAGE = 4096
GONE = (errno.ENODEV, errno.ENXIO, errno.ENOMEDIUM)
_libc = ctypes.CDLL(None, use_errno=True)
_libc.fallocate.argtypes = [ctypes.c_int, ctypes.c_int, ctypes.c_int64, ctypes.c_int64]
_libc.sync_file_range.argtypes = [ctypes.c_int, ctypes.c_int64, ctypes.c_int64, ctypes.c_uint]


class FileBlocks(Blocks):
    """An open image file or block device."""

    def __init__(self, fd: int, path: Path, *, writable: bool) -> None:
        self.is_device = stat.S_ISBLK(os.fstat(fd).st_mode)
        self.fd, self.path = fd, path
        size = _ioctl_int(fd, BLKGETSIZE64, "Q") if self.is_device else os.fstat(fd).st_size
        sector = _ioctl_int(fd, BLKSSZGET, "i") if self.is_device else SECTOR
        super().__init__(size, sector=sector, writable=writable, name=str(path))
        self._when_closed: list[Callable[[], None]] = []
        self._aligned: memoryview | None = None      # where direct reads go that nobody has aligned
        self._refuses_marks, self._flags = False, 0

    def when_closed(self, do: Callable[[], None]) -> None:
        """Do something once the medium is let go of."""
        self._when_closed.append(do)

    def zero(self, offset: int, length: int) -> None:
        """Punch a hole into a file, ask a device to clear itself, or write zeros."""
        self._within(offset, length)
        if length == 0:
            return
        if not self.writable or not (self._device_zero(offset, length) if self.is_device
                                     else self._punch(offset, length)):
            super().zero(offset, length)

    def extents(self) -> Iterator[Extent]:
        """Data and holes as the file system keeps them; a device is all data."""
        if self.is_device:
            yield from super().extents()
            return
        at = 0
        while at < self.size:
            data = self._seek(at, os.SEEK_DATA)
            if data > at:
                yield Extent(at, data - at, is_hole=True)
            at = data
            if at < self.size:
                hole = self._seek(at, os.SEEK_HOLE)
                yield Extent(at, hole - at)
                at = hole

    def flush(self) -> None:
        """See Blocks."""
        try:
            os.fsync(self.fd)
        except OSError as error:
            raise MediumError(f"{self.path} did not take all that was written, and does not say where: "
                              f"{self._reason(error)}. Read it through to find the place.") from error
        status = os.fstat(self.fd)
        if self.writable and not self.is_device and (status.st_size < self.size or status.st_nlink == 0):
            what = "was removed" if status.st_nlink == 0 else f"was cut to {status.st_size} bytes"
            raise MediumError(f"{self.path} {what} while it was written. What was written to it is lost with it.")

    def begin_flush(self, offset: int, length: int) -> None:
        """See Blocks; without it the system lets whole seconds of writing gather before it begins."""
        _libc.sync_file_range(self.fd, offset, length, SYNC_FILE_RANGE_WRITE)

    def drop_cache(self) -> None:
        """See Blocks."""
        os.posix_fadvise(self.fd, 0, 0, os.POSIX_FADV_DONTNEED)

    def refuse_marks(self) -> None:
        """See Blocks."""
        self._refuses_marks = True

    def read_directly(self) -> None:
        """See Blocks: of a device, so that one bad sector costs one sector."""
        if not self.is_device or self.writable:
            return
        with suppress(OSError):
            fcntl.fcntl(self.fd, fcntl.F_SETFL, fcntl.fcntl(self.fd, fcntl.F_GETFL) | os.O_DIRECT)
            self._aligned = memoryview(mmap.mmap(-1, DIRECT))

    def write_through(self) -> None:
        """See Blocks: the system's memory tells of an error only when everything is synced, and not where."""
        self._flags = os.RWF_DSYNC

    @property
    def changed_at(self) -> int:
        """See Blocks."""
        status = os.fstat(self.fd)
        return _written(status.st_rdev) if self.is_device else status.st_mtime_ns

    def will_need(self, offset: int, length: int) -> None:
        """See Blocks."""
        os.posix_fadvise(self.fd, offset, length, os.POSIX_FADV_WILLNEED)

    def close(self) -> None:
        """See Blocks."""
        if self.fd >= 0:
            os.close(self.fd)
            self.fd = -1
        while self._when_closed:
            self._when_closed.pop()()

    def __del__(self) -> None:
        if hasattr(self, "_when_closed"):
            self.close()

    def _read(self, offset: int, length: int) -> bytes:
        if self._aligned is not None:
            return super()._read(offset, length)
        try:
            data = os.pread(self.fd, length, offset)
        except OSError as error:
            raise self._error(error, "read", offset) from error
        if len(data) != length:
            return super()._read(offset, length)
        if self._refuses_marks:
            must_be_contents(data, offset, self.name)
        return data

    def _read_into(self, offset: int, buffer: memoryview) -> None:
        self._read_anything(offset, buffer)
        if self._refuses_marks:
            must_be_contents(buffer, offset, self.name)

    def _read_anything(self, offset: int, buffer: memoryview) -> None:
        if self._aligned is None or self._is_aligned(offset, buffer):
            self._fill(offset, buffer)
            return
        first, last = offset // self.sector * self.sector, -(-(offset + len(buffer)) // self.sector) * self.sector
        for at in range(first, last, DIRECT):
            part = self._aligned[:min(DIRECT, last - at)]
            self._fill(at, part)
            begin, end = max(at, offset), min(at + len(part), offset + len(buffer))
            buffer[begin - offset:end - offset] = part[begin - at:end - at]

    def _is_aligned(self, offset: int, buffer: memoryview) -> bool:
        """Whether a read can go straight to a buffer, as the system asks for it."""
        address = np.frombuffer(buffer, np.uint8).ctypes.data
        return not (offset % self.sector or len(buffer) % self.sector or address % PAGE)

    def _fill(self, offset: int, buffer: memoryview) -> None:
        done = 0
        while done < len(buffer):
            try:
                count = os.preadv(self.fd, [buffer[done:]], offset + done)
            except OSError as error:
                raise self._error(error, "read", offset + done) from error
            if count == 0:
                raise MediumError(f"{self.path} became shorter while it was read.", offset + done)
            done += count

    def _write(self, offset: int, data: Buffer) -> None:
        view = memoryview(data)
        while len(view):
            try:
                count = os.pwritev(self.fd, [view], offset, self._flags) if self._flags else \
                    os.pwrite(self.fd, view, offset)
            except OSError as error:
                raise self._error(error, "written", offset) from error
            view, offset = view[count:], offset + count

    def _seek(self, at: int, whence: int) -> int:
        try:
            return min(os.lseek(self.fd, at, whence), self.size)
        except OSError as error:
            if error.errno == errno.ENXIO:      # no data behind this place
                return self.size
            raise self._error(error, "read", at) from error

    def _punch(self, offset: int, length: int) -> bool:
        return punch(self.fd, offset, length)

    def _device_zero(self, offset: int, length: int) -> bool:
        if offset % self.sector or length % self.sector:
            return False
        try:
            fcntl.ioctl(self.fd, BLKZEROOUT, struct.pack("QQ", offset, length))
        except OSError:
            return False
        return True

    def _error(self, error: OSError, what: str, offset: int) -> MediumError:
        kind = Gone if error.errno in GONE else MediumError
        return kind(f"{self.path} cannot be {what} at byte {offset}: {self._reason(error)}.", offset)

    @staticmethod
    def _reason(error: OSError) -> str:
        return {errno.EIO: "the medium reports an error there",
                errno.ENOSPC: "there is no room left",
                errno.EPERM: "it is write-protected"}.get(error.errno or 0, os.strerror(error.errno or 0)) \
            if error.errno not in GONE else "it is no longer there"


PUT_BACK = ("Put back first what stood there: Proof, “Put back”; in a shell `mosscrate proof CARD --put-back`. Nothing "
            "was written.")


def must_be_contents(data: bytes | memoryview, offset: int, name: str) -> None:
    """Raises InProof where marks of an interrupted proof stand among bytes of a medium."""
    met = first_mark(data, offset)
    if met is not None:
        raise InProof(f"{name} is in the middle of a proof: at byte {met[0]:,} stands one of its marks, not what the "
                      f"card held. {PUT_BACK}", *met)


def open_blocks(path: Path | str, *, writable: bool = False, alone: bool = False) -> FileBlocks:
    """Open an image file or a block device. Raises MediumError; InUse where the system has it in use.

    A device opened for writing, or for reading `alone`, is held exclusively: the system refuses to mount it meanwhile.
    Only the guard opens for writing what a person owns.
    """
    path = Path(path)
    flags = (os.O_RDWR if writable else os.O_RDONLY) | os.O_CLOEXEC
    try:
        mode = path.stat().st_mode
        if not (stat.S_ISREG(mode) or stat.S_ISBLK(mode)):
            raise MediumError(f"{path} is neither an image file nor a drive.")
        if (writable or alone) and stat.S_ISBLK(mode):
            flags |= os.O_EXCL
        return FileBlocks(os.open(path, flags), path, writable=writable)
    except OSError as error:
        why = {errno.ENOENT: "There is no such file", errno.EBUSY: "It is in use by the system",
               errno.EROFS: "It is write-protected"}
        reason = why.get(error.errno or 0, os.strerror(error.errno or 0))
        kind = InUse if error.errno == errno.EBUSY else MediumError
        raise kind(f"{path} cannot be opened: {reason}.") from error


def may_open(path: Path, *, writable: bool) -> bool:
    """Whether this person may open a file or device without asking anybody."""
    return os.access(path, os.R_OK | (os.W_OK if writable else 0))


def create_image(path: Path | str, size: int) -> FileBlocks:
    """A new sparse image file of `size` zeros, open for writing. Raises MediumError if it exists."""
    return _zeros(Path(path), size, os.O_EXCL)


def begun_image(path: Path, size: int) -> FileBlocks:
    """An image of `size` zeros in a file that is being made, see `new_file`, open for writing. Raises MediumError."""
    return _zeros(path, size, os.O_TRUNC | os.O_NOFOLLOW)


def reopen_image(path: Path) -> FileBlocks:
    """An image file of our own that was begun before, open for writing; never a device, nor behind a link.

    Raises MediumError.
    """
    try:
        fd = os.open(path, os.O_RDWR | os.O_CLOEXEC | os.O_NOFOLLOW)
    except OSError as error:
        raise MediumError(f"{path} cannot be continued: {os.strerror(error.errno or 0)}.") from error
    if not stat.S_ISREG(os.fstat(fd).st_mode):
        os.close(fd)
        raise MediumError(f"{path} cannot be continued: it is no file.")
    return FileBlocks(fd, path, writable=True)


def _zeros(path: Path, size: int, how: int) -> FileBlocks:
    try:
        fd = os.open(path, os.O_RDWR | os.O_CREAT | os.O_CLOEXEC | how, 0o644)
        try:
            os.truncate(fd, size)
        except OSError:
            os.close(fd)
            raise
    except OSError as error:
        raise MediumError(f"{path} cannot be made: {os.strerror(error.errno or 0)}.") from error
    return FileBlocks(fd, path, writable=True)


def punch(fd: int, offset: int, length: int) -> bool:
    """Give the room of a range of a file back, so that it reads as zeros; whether the file's disk can do that."""
    return bool(_libc.fallocate(fd, PUNCH_HOLE_KEEP_SIZE, offset, length) == 0)


def is_write_protected(blocks: FileBlocks) -> bool:
    """Whether a device says of itself that it is write-protected."""
    return bool(blocks.is_device and _ioctl_int(blocks.fd, BLKROGET, "i"))


def _ioctl_int(fd: int, request: int, kind: str) -> int:
    answer = fcntl.ioctl(fd, request, bytes(struct.calcsize(kind)))
    return int(struct.unpack(kind, answer)[0])


def _written(device: int) -> int:
    """Sectors that were written to a device since it is there (the kernel's Documentation/block/stat.rst)."""
    try:
        return int(Path(f"/sys/dev/block/{os.major(device)}:{os.minor(device)}/stat").read_text("ascii").split()[6])
    except (OSError, ValueError, IndexError):
        return 0
