"""Keeping a card: its tape read in stretches, each chunk known or packed; at the end the file that lists the backup.

A backup is there once its manifest is; what was packed before that is used again by whoever keeps the same data next.
"""

from __future__ import annotations

import os
import secrets
import threading
import time
from bisect import bisect_right
from collections import deque
from collections.abc import Iterator
from concurrent.futures import Future, ThreadPoolExecutor
from dataclasses import dataclass
from datetime import datetime
from pathlib import Path
from typing import Any

import msgspec
import numpy as np
from backports import zstd
from blake3 import blake3

from mosscrate.core.blocks import Blocks, Extent
from mosscrate.core.blocks.runs import joined
from mosscrate.core.blocks.streaming import read_around
from mosscrate.core.blocks.witnesses import Witnesses
from mosscrate.core.contents.layout import Layout
from mosscrate.core.crate.checking import is_all_there
from mosscrate.core.crate.leases import IN_NAMES, Lease, lease
from mosscrate.core.crate.packing import PackWriter, Squeezer, left_over
from mosscrate.core.crate.taping import Tape, role_of, tape_of
from mosscrate.core.durable import sync_folder
from mosscrate.core.errors import CrateError, MediumError
from mosscrate.core.images.kept.frames import (
    FILE,
    KEPT_HEAD,
    KEPT_MAGIC,
    NO_TIME,
    RUN,
    SECTION,
    VERSION,
    ZSTD,
    check_of,
)
from mosscrate.core.images.kept.manifest import About, CardRecord, root_of
from mosscrate.core.images.kept.packs import Packs, as_names, packs_of, table_of
from mosscrate.core.images.kept.proving import stored_chunks
from mosscrate.core.watch import Watch

STRETCH = 4 << 20                        # bytes of the tape that one worker takes
WORKERS = 2
PACKED = (b"RUNS", b"FILE", b"PATH", b"HEAD")


@dataclass(frozen=True)
class Stored:
    """What keeping came to: the manifest and what it says of the whole."""

    path: Path
    about: About


def store(crate: Path, card: CardRecord, blocks: Blocks, layout: Layout | None, watch: Watch, *, kept_at: datetime,
          described: dict[str, Any], since: int, verify: bool = True, every_byte: bool = False) -> Stored:
    """Keep what is in use on a card.

    Args:
        crate: its folder.
        card: which.
        blocks: open for reading.
        layout: of it; None keeps all of it.
        watch: is told.
        kept_at: with its zone.
        described: the layout in the shape of `look --json`.
        since: `changed_at` when its layout was read.
        verify: whether what is new is read back.
        every_byte: whether free room is kept too.

    Raises:
        CrateError: it cannot be written, does not read back, or the card was written to meanwhile.
        MediumError: the card is gone.
        Stopped.
    """
    with lease(crate, f"{card.name} is being kept") as held:
        return _store(crate, card, blocks, tape_of(blocks, layout, every_byte=every_byte), watch, kept_at, described,
                      held=held, since=since, verify=verify, every_byte=every_byte)


def _store(crate: Path, card: CardRecord, blocks: Blocks, tape: Tape, watch: Watch, kept_at: datetime,
           described: dict[str, Any], *, held: Lease, since: int, verify: bool, every_byte: bool) -> Stored:
    begun = time.monotonic()
    packs, writer = packs_of(crate.resolve()), PackWriter(crate, verify=verify)
    packs.refresh()
    try:
        _use_again(left_over(crate), packs, writer, watch)
        reader = _Reader(tape, blocks, packs, writer)
        names, unreadable = _read(reader, watch)
        writer.finish()
    except BaseException:
        writer.abandon()
        raise
    packs.refresh()
    if not packs.has(names).all():
        raise CrateError(f"The crate {crate} lost packs while {card.name} was kept. No backup was made; keep it again.")
    must_belong_together(card, blocks, since)
    lengths = np.diff(np.array([*tape.cuts, tape.size], np.int64)).astype(np.uint32)
    runs = _runs_of(tape)
    about = About(card, kept_at.isoformat(timespec="milliseconds"), blocks.sector, tape.size, writer.added,
                  round(time.monotonic() - begun, 3), verify, root_of(names, lengths, runs), every_byte, unreadable,
                  described, reader.fresh)
    path = crate / "backups" / card.key / f"{kept_at:%Y-%m-%d %H.%M.%S} {held.id[:IN_NAMES]}.kept"
    files, paths = _files_of(tape)
    _put(path, {b"HEAD": msgspec.msgpack.encode(about), b"NAME": names.tobytes(),
                b"CLEN": lengths.astype("<u4").tobytes(), b"RUNS": runs.tobytes(), b"FILE": files.tobytes(),
                b"PATH": paths})
    if held.is_broken and not is_all_there(path):
        path.unlink()
        raise CrateError(f"This computer slept while {card.name} was kept, and another one gave back room that was "
                         "needed. No backup was made; keep it again.")
    return Stored(path, about)


def must_belong_together(card: CardRecord, blocks: Blocks, since: int) -> None:
    """Raises CrateError where a card was written to since then."""
    if blocks.changed_at != since:
        raise CrateError(f"{card.name} was written to while it was kept, so that what was read does not belong "
                         "together. No backup was made. Unmount it, or close what uses it, and keep it again.")


def _use_again(parts: list[Path], packs: Packs, writer: PackWriter, watch: Watch) -> None:
    """Chunks of packs that were never finished go into one of this keeping; then those files go."""
    for part in parts:
        for chunk in stored_chunks(part, table_of(part)):
            watch.progress("Using what an interrupted backup has left", 0, None)
            if chunk.is_proven and packs.find(chunk.name) is None and writer.claim(chunk.name):
                writer.add(chunk.name, chunk.codec, chunk.stored, chunk.raw)
        part.unlink(missing_ok=True)


def _read(reader: _Reader,
          watch: Watch) -> tuple[np.ndarray[Any, np.dtype[np.uint8]], list[tuple[int, int]]]:
    """Names in tape order, and what could not be read as [start, length]."""
    tape = reader.tape
    names: list[bytes] = []
    pending: deque[Future[list[bytes]]] = deque()
    with ThreadPoolExecutor(WORKERS, "keep") as workers:
        try:
            for first, last in _stretches(tape):
                watch.progress("Keeping the card", tape.cuts[first], tape.size)
                pending.append(workers.submit(reader.take, first, last))
                if len(pending) > 2 * WORKERS:
                    names += pending.popleft().result()
            while pending:
                names += pending.popleft().result()
        finally:
            for future in pending:
                future.cancel()
    return as_names(names), [(e.start, e.length) for e in joined(reader.unreadable)]


def _stretches(tape: Tape) -> Iterator[tuple[int, int]]:
    """Chunks [first, last) that lie within 4 MiB of the tape."""
    first = 0
    while first < len(tape.cuts):
        last = max(first + 1, bisect_right(tape.cuts, tape.cuts[first] + STRETCH) - 1)
        if last >= len(tape.cuts) - 1 and tape.size - tape.cuts[first] <= STRETCH:
            last = len(tape.cuts)
        yield first, last
        first = last


class _Reader:
    """Takes stretches of the tape, on several threads."""

    def __init__(self, tape: Tape, card: Blocks, packs: Packs, writer: PackWriter) -> None:
        self.tape, self.card, self.packs, self.writer = tape, card, packs, writer
        self.unreadable: list[Extent] = []
        self.fresh = 0
        self._witnesses = Witnesses(card)
        self._at = np.concatenate([[0], np.cumsum([length for _, length in tape.places], dtype=np.int64)]).tolist()
        self._ends = [*tape.cuts[1:], tape.size]
        self._card_lock = threading.Lock()                # one reader at a time: a card has one head, or acts like it
        self._own = threading.local()

    def take(self, first: int, last: int) -> list[bytes]:
        """Read some chunks and see to it that they are in the crate; returns their names."""
        start, end = self.tape.cuts[first], self._ends[last - 1]
        data = memoryview(bytearray(end - start))
        self._fill(start, data)
        cut = [data[self.tape.cuts[k] - start:self._ends[k] - start] for k in range(first, last)]
        names = [blake3(chunk).digest() for chunk in cut]
        is_known = self.packs.has(as_names(names)).tolist()
        with self._card_lock:
            self.fresh += sum(len(chunk) for chunk, known in zip(cut, is_known, strict=True) if not known)
        for name, chunk, known in zip(names, cut, is_known, strict=True):
            if not known and self.writer.claim(name):
                codec, stored = self._squeezer().squeeze(chunk)
                self.writer.add(name, codec, stored, len(chunk))
        return names

    def _fill(self, start: int, data: memoryview) -> None:
        number, done = bisect_right(self._at, start) - 1, 0
        with self._card_lock:
            while done < len(data):
                place, length = self.tape.places[number]
                ahead = start + done - self._at[number]
                count = min(length - ahead, len(data) - done)
                extent = Extent(place + ahead, count)
                bad = read_around(self.card, extent, data[done:done + count])
                if bad and not self._witnesses.is_there():
                    raise MediumError(f"{self.card.name} does not answer any more at byte {place + ahead:,}. No backup "
                                      "was made; what was read is used again next time.", place + ahead)
                self.unreadable += bad
                self._witnesses.saw_around(extent, bad)
                done, number = done + count, number + 1

    def _squeezer(self) -> Squeezer:
        if not hasattr(self._own, "squeezer"):
            self._own.squeezer = Squeezer()
        found: Squeezer = self._own.squeezer
        return found


def _runs_of(tape: Tape) -> np.ndarray[Any, np.dtype[np.void]]:
    """The tape by place on the card; neighbours on both are one run."""
    runs = np.zeros(len(tape.places), RUN)
    if not len(runs):
        return runs
    places = np.array(tape.places, np.int64)
    runs["card"], runs["length"] = places[:, 0], places[:, 1]
    runs["tape"] = np.concatenate([[0], np.cumsum(places[:-1, 1])])
    runs = runs[np.argsort(runs["card"], kind="stable")]
    follows = (runs["card"][1:] == (runs["card"] + runs["length"])[:-1]) & \
        (runs["tape"][1:] == (runs["tape"] + runs["length"])[:-1])
    is_first = np.append(True, ~follows)
    merged: np.ndarray[Any, np.dtype[np.void]] = runs[is_first].copy()
    merged["length"] = np.add.reduceat(runs["length"], np.flatnonzero(is_first))
    return merged


def _files_of(tape: Tape) -> tuple[np.ndarray[Any, np.dtype[np.void]], bytes]:
    """FILE rows, and the paths that they number."""
    files = np.zeros(len(tape.files), FILE)
    for number, file in enumerate(tape.files):
        entry = file.entry
        files[number] = (file.volume, role_of(entry), 0, number, entry.size,
                         NO_TIME if entry.modified is None else entry.modified, file.tape, file.length)
    text = "".join(f"{file.entry.path}\0" for file in tape.files)
    return files, text.encode("utf-8", "surrogateescape")


def _put(path: Path, sections: dict[bytes, bytes]) -> None:
    """Write a manifest whole: beside its place, synced, and then there. Raises CrateError."""
    rows, bodies = np.zeros(len(sections), SECTION), []
    at = KEPT_HEAD.itemsize + rows.nbytes + 32
    for number, (tag, raw) in enumerate(sections.items()):
        codec = ZSTD if tag in PACKED else 0
        stored = zstd.compress(raw, 3) if codec else raw
        rows[number] = (np.void(tag), codec, np.void(bytes(3)), at, len(stored), len(raw),
                        np.void(blake3(stored).digest()))
        bodies.append(stored)
        at += len(stored)
    head = np.zeros(1, KEPT_HEAD)
    head["magic"], head["version"], head["sections"] = KEPT_MAGIC, VERSION, len(sections)
    head["backup"], head["made"] = np.void(secrets.token_bytes(16)), time.time_ns()
    head["check"] = np.void(check_of(head.tobytes()[:-8]))
    table = rows.tobytes()
    part = path.with_suffix(".part")
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
        with part.open("xb") as file:
            file.write(b"".join((head.tobytes(), table, blake3(table).digest(), *bodies)))
            file.flush()
            os.fsync(file.fileno())
        part.rename(path)
        for folder in (path.parent, path.parent.parent, path.parents[2]):
            sync_folder(folder)
    except OSError as error:
        part.unlink(missing_ok=True)
        raise CrateError(f"The backup cannot be listed in {path.parents[2]}: {os.strerror(error.errno or 0)}. What was "
                         "kept before is untouched.") from error


