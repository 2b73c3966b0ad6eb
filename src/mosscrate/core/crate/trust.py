"""Which packs were read through since they were written, and what of them is damaged: a table is not the data.

It is noted in one file beside the packs, each with its bytes and the time of its last change; who has changed since is
read again. The note only saves reading: what cannot be read of it is proven anew.
"""

from __future__ import annotations

import threading
from contextlib import suppress
from pathlib import Path

import msgspec
import numpy as np
from numpy.typing import NDArray

from mosscrate.core.durable import write_whole
from mosscrate.core.images.kept.packs import Names, Packs
from mosscrate.core.images.kept.proving import Proven, prove_pack
from mosscrate.core.there import below
from mosscrate.core.watch import Watch

NOTE = "proven"
PROVING = "Proving what the crate has of it"
LARGEST = 64 << 20                       # bytes of a note that is read


class Noted(msgspec.Struct, frozen=True, array_like=True):
    """Of a pack: its bytes, when it changed last in ns, names of chunks that cannot be read, whether all of it is
    as it was written."""

    size: int
    changed: int
    bad: list[bytes]
    is_whole: bool


_NOTES = msgspec.msgpack.Decoder(dict[str, Noted])


class Trust:
    """What was proven of the packs of a crate; for several threads. `watch` is told where one is read through."""

    def __init__(self, crate: Path, watch: Watch | None = None) -> None:
        self._watch, self._read = watch or Watch(), 0
        self._path = crate / "packs" / NOTE
        self._noted = _read(self._path)
        self._sure: dict[Path, Noted] = {}               # in this run
        self._new: dict[str, Noted] = {}
        self._lock = threading.Lock()

    def of(self, pack: Path) -> Noted:
        """What is true of a pack; it is read through where it was not since it was written. Raises OSError, Stopped."""
        with self._lock:
            if pack not in self._sure:
                status, noted = pack.stat(), self._noted.get(pack.name)
                if noted is None or (noted.size, noted.changed) != (status.st_size, status.st_mtime_ns):
                    self._watch.progress(PROVING, self._read, None)
                    noted = self._note(pack, status.st_size, status.st_mtime_ns, prove_pack(pack))
                    self._read += status.st_size
                self._sure[pack] = noted
            return self._sure[pack]

    def proved(self, pack: Path, proven: Proven | None = None) -> None:
        """Note that a pack was just read through; whole where nothing else is said. Raises OSError."""
        status = pack.stat()
        with self._lock:
            self._sure[pack] = self._note(pack, status.st_size, status.st_mtime_ns, proven or Proven())

    def sound(self, packs: Packs, names: Names) -> NDArray[np.bool_]:
        """Which of many chunks, all of them there by the tables, can be read; shape (n,)."""
        if all(self._is_clean(pack) for pack in packs.holders(names)):
            return np.ones(len(names), bool)
        return np.array([self._can_be_read(packs, name.tobytes()) for name in names], bool)

    def known_bad(self, packs: Packs) -> set[bytes]:
        """Chunks that were found damaged, and lie in no pack besides; nothing is read."""
        bad = {name for noted in self._noted.values() for name in noted.bad}
        return {name for name in bad if all(
            name in (self._noted[found.pack.name].bad if found.pack.name in self._noted else ())
            for found in packs.all_of(name))}

    def save(self) -> None:
        """Put it beside the packs, with what others have noted meanwhile. It is done without where that fails."""
        if self._new:
            noted = _read(self._path) | self._new
            with suppress(OSError):
                there = {path.name for path in below(self._path.parent, ".pack")}
                write_whole(self._path, msgspec.msgpack.encode({n: each for n, each in noted.items() if n in there}))

    def _note(self, pack: Path, size: int, changed: int, proven: Proven) -> Noted:
        noted = Noted(size, changed, list(proven.bad), not proven.bad and not proven.where)
        self._new[pack.name] = noted
        return noted

    def _is_clean(self, pack: Path) -> bool:
        try:
            return not self.of(pack).bad
        except OSError:
            return False

    def _can_be_read(self, packs: Packs, name: bytes) -> bool:
        for found in packs.all_of(name):
            with suppress(OSError):
                if name not in self.of(found.pack).bad:
                    return True
        return False


def _read(path: Path) -> dict[str, Noted]:
    try:
        return _NOTES.decode(path.read_bytes()) if path.stat().st_size <= LARGEST else {}
    except (OSError, ValueError):
        return {}
