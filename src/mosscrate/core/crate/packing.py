"""Writing packs: files of chunks that are written once, synced, read back, and only then there under their names."""

from __future__ import annotations

import os
import secrets
import threading
import time
from concurrent.futures import Future, ThreadPoolExecutor
from contextlib import suppress
from pathlib import Path

import numpy as np
from backports import zstd
from blake3 import blake3

from mosscrate.core.crate.leases import Holder, locked
from mosscrate.core.durable import sync_folder
from mosscrate.core.errors import CrateError
from mosscrate.core.images.kept.frames import (
    FRAME,
    FRAME_MAGIC,
    PACK_END,
    PACK_HEAD,
    PACK_MAGIC,
    PLACE_BITS,
    PLAIN,
    ROW,
    TABLE_MAGIC,
    VERSION,
    ZSTD,
    check_of,
)
from mosscrate.core.there import below

PACK = 64 << 20                          # bytes after which the next one is begun
WORTH = 0.95                             # packed only where it becomes smaller than this
SMALL = 128 << 10                        # up to here it is simply tried
PROBE = 16 << 10
LEVEL = 1
PART = ".part"                           # of a pack that is being written, behind its computer and process


class Squeezer:
    """Packs chunks where that pays; one for each thread."""

    def __init__(self) -> None:
        self._packer = zstd.ZstdCompressor(level=LEVEL)

    def squeeze(self, data: bytes | memoryview) -> tuple[int, bytes | memoryview]:
        """Codec and the bytes to be stored."""
        if len(data) > SMALL and not self._is_worth_it(data):
            return PLAIN, data
        packed = self._packer.compress(data, zstd.ZstdCompressor.FLUSH_FRAME)
        return (ZSTD, packed) if len(packed) < WORTH * len(data) else (PLAIN, data)

    def _is_worth_it(self, data: bytes | memoryview) -> bool:
        view = memoryview(data)
        middle = len(view) // 2
        probe = b"".join((view[:PROBE], view[middle:middle + PROBE], view[-PROBE:]))
        return len(self._packer.compress(probe, zstd.ZstdCompressor.FLUSH_FRAME)) < WORTH * len(probe)


def left_over(crate: Path) -> list[Path]:
    """Packs that processes of this computer have begun and did not live to finish. Raises OSError."""
    return [part for part in below(crate / "packs", PART) if Holder.named(part).is_gone(part)]


class PackWriter:
    """Takes chunks from several threads. What is in it counts once `finish` has returned.

    Args:
        crate: its folder.
        verify: whether everything is read back.
    """

    def __init__(self, crate: Path, *, verify: bool) -> None:
        self.crate, self.verify = crate, verify
        self.added = 0                                   # bytes of finished packs
        self.paths: list[Path] = []                      # of these
        self._lock = threading.Lock()
        self._names: set[bytes] = set()                  # of this writing
        self._open: _Pack | None = None
        self._finisher = ThreadPoolExecutor(1, "packs")
        self._finished: list[Future[_Pack]] = []

    def claim(self, name: bytes) -> bool:
        """Whether a chunk has to be added: nobody has claimed it in this writing before."""
        with self._lock:
            if name in self._names:
                return False
            self._names.add(name)
            return True

    def add(self, name: bytes, codec: int, stored: bytes | memoryview, raw: int) -> None:
        """Write a chunk. Raises CrateError."""
        with self._lock:
            try:
                if self._open is None:
                    self._open = _Pack(self.crate)
                self._open.add(name, codec, stored, raw)
            except OSError as error:
                raise _cannot(self.crate, error) from error
            if self._open.size >= PACK:
                self._finish_one()

    def finish(self) -> None:
        """Return when every pack is whole, read back, and there under its name. Raises CrateError."""
        with self._lock:
            if self._open is not None:
                self._finish_one()
        self._finisher.shutdown()
        packs = [future.result() for future in self._finished]
        self.added, self.paths = sum(pack.size for pack in packs), [pack.path for pack in packs]

    def abandon(self) -> None:
        """What is not finished goes; finished packs stay, for the next time."""
        with self._lock:
            if self._open is not None:
                self._open.remove()
                self._open = None
        self._finisher.shutdown(cancel_futures=True)

    def _finish_one(self) -> None:
        pack, self._open = self._open, None
        if pack is not None:
            self._finished.append(self._finisher.submit(_finished, pack, self.verify))


class _Pack:
    """One that is being written."""

    def __init__(self, crate: Path) -> None:
        self.id = secrets.token_bytes(16)
        name = self.id.hex()
        self.path = crate / "packs" / name[:2] / f"{name}.pack"
        self.part = self.path.with_name(Holder.me().within(name, PART))
        self.path.parent.mkdir(parents=True, exist_ok=True)
        self.fd = locked(self.part)
        self.rows: list[tuple[bytes, int, int, int]] = []
        self.checks: list[bytes] = []
        head = np.zeros(1, PACK_HEAD)
        head["magic"], head["version"], head["pack"] = PACK_MAGIC, VERSION, np.void(self.id)
        head["made"] = time.time_ns()
        head["check"] = np.void(check_of(head.tobytes()[:-8]))
        self.size = 0
        self._write(head.tobytes())

    def add(self, name: bytes, codec: int, stored: bytes | memoryview, raw: int) -> None:
        frame = np.zeros(1, FRAME)
        check = check_of(stored)
        frame["magic"], frame["codec"], frame["stored"], frame["raw"] = FRAME_MAGIC, codec, len(stored), raw
        frame["name"], frame["check"] = np.void(name), np.void(check)
        frame["head_check"] = np.void(check_of(frame.tobytes()[:-4], 4))
        self.rows.append((name, self.size | codec << PLACE_BITS, len(stored), raw))
        self.checks.append(check)
        self._write(frame.tobytes(), stored)

    def end(self) -> None:
        table = np.array([(np.void(name), *rest) for name, *rest in self.rows], ROW).tobytes()
        end = np.zeros(1, PACK_END)
        end["magic"], end["rows"], end["table"] = TABLE_MAGIC, len(self.rows), self.size
        end["digest"] = np.void(blake3(table).digest())
        end["check"] = np.void(check_of(end.tobytes()[:-8]))
        self._write(table, end.tobytes())

    def prove(self) -> None:
        """Raises CrateError where what was written does not read back."""
        os.posix_fadvise(self.fd, 0, 0, os.POSIX_FADV_DONTNEED)
        for (_, place, stored, _), check in zip(self.rows, self.checks, strict=True):
            at = (place & ((1 << PLACE_BITS) - 1)) + FRAME.itemsize
            if check_of(os.pread(self.fd, stored, at)) != check:
                raise CrateError("What was written to the crate does not read back as it was. The disk of the crate "
                                 "may be failing; the card itself is untouched.")

    def remove(self) -> None:
        os.close(self.fd)
        with suppress(OSError):
            self.part.unlink()

    def _write(self, *parts: bytes | memoryview) -> None:
        wanted = sum(len(part) for part in parts)
        done = os.pwritev(self.fd, parts, self.size)
        if done != wanted:                               # a full disk takes what fits
            rest = b"".join(parts)[done:]
            while rest:
                count = os.pwrite(self.fd, rest, self.size + done)
                done, rest = done + count, rest[count:]
        self.size += wanted


def _finished(pack: _Pack, verify: bool) -> _Pack:  # noqa: FBT001 - handed to an executor
    """Synced, read back, and under its name."""
    try:
        pack.end()
        os.fsync(pack.fd)
        if verify:
            pack.prove()
        pack.part.rename(pack.path)                      # to a name that nobody else uses; it is locked until then
        sync_folder(pack.path.parent)
        sync_folder(pack.path.parent.parent)
    except OSError as error:
        with suppress(OSError):
            pack.part.unlink()
        raise _cannot(pack.path.parents[2], error) from error
    finally:
        os.close(pack.fd)
    return pack


def _cannot(crate: Path, error: OSError) -> CrateError:
    return CrateError(f"The crate {crate} cannot take more: {os.strerror(error.errno or 0)}. No backup was made; what "
                      "was kept before is untouched, and what was read now is used again next time.")
