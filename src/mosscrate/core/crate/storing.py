"""Keeping a card: its tape read, each chunk known or packed; at the end the file that lists the backup.

A backup is there once its manifest is; what was packed before that is used again by whoever keeps the same data next.
"""

from __future__ import annotations

import os
import secrets
import threading
import time
from collections import deque
from concurrent.futures import Future, ThreadPoolExecutor
from contextlib import suppress
from dataclasses import dataclass
from datetime import datetime
from pathlib import Path
from typing import Any

import msgspec
import numpy as np
from backports import zstd
from blake3 import blake3

from mosscrate.core.blocks import Blocks
from mosscrate.core.blocks.runs import joined
from mosscrate.core.contents.layout import Layout
from mosscrate.core.contents.survey import Opened
from mosscrate.core.contents.unpacking import confirm_packed
from mosscrate.core.crate.checking import is_all_there
from mosscrate.core.crate.leases import IN_NAMES, Lease, lease
from mosscrate.core.crate.packing import PackWriter, Squeezer, left_over
from mosscrate.core.crate.reading import BUFFERS, Chunks, TapeReader
from mosscrate.core.crate.taping import Tape, role_of, tape_of
from mosscrate.core.crate.trust import Trust
from mosscrate.core.durable import sync_folder
from mosscrate.core.errors import CrateError
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

WORKERS = 2
PACKED = (b"RUNS", b"FILE", b"PATH", b"HEAD")


@dataclass(frozen=True)
class Stored:
    """What keeping came to: the manifest and what it says of the whole."""

    path: Path
    about: About


def store(crate: Path, card: CardRecord, blocks: Blocks, layout: Layout | None, watch: Watch, *, opened: Opened,
          kept_at: datetime, described: dict[str, Any], since: int, verify: bool = True,
          every_byte: bool = False) -> Stored:
    """Keep what is in use on a card.

    Args:
        crate: its folder.
        card: which.
        blocks: open for reading.
        layout: of it; None keeps all of it.
        watch: is told.
        opened: its volumes.
        kept_at: with its zone.
        described: the layout in the shape of `look --json`.
        since: `changed_at` when its layout was read.
        verify: whether what is new is read back.
        every_byte: whether free room is kept too.

    Raises:
        CrateError: it cannot be written, does not read back, or the card was written to meanwhile.
        MediumError: the card is gone.
        Damaged: what it is packed in is not whole.
        Stopped.
    """
    with lease(crate, f"{card.name} is being kept") as held:
        tape = tape_of(blocks, layout, opened, every_byte=every_byte)
        return _store(crate, card, blocks, tape, watch, kept_at, described,
                      held=held, since=since, verify=verify, every_byte=every_byte)


def _store(crate: Path, card: CardRecord, blocks: Blocks, tape: Tape, watch: Watch, kept_at: datetime,
           described: dict[str, Any], *, held: Lease, since: int, verify: bool, every_byte: bool) -> Stored:
    begun = time.monotonic()
    packs, writer, trust = packs_of(crate.resolve()), PackWriter(crate, verify=verify), Trust(crate.resolve(), watch)
    packs.refresh()
    try:
        _use_again(_left_over(crate), packs, writer, watch)
        reader, packing = TapeReader(tape, blocks), _Packing(packs, writer, trust)
        names = packing.all_of(reader, watch)
        confirm_packed(blocks)
        writer.finish()
    except BaseException:
        writer.abandon()
        raise
    finally:
        _note_proven(trust, writer, verify=verify)
    packs.refresh()
    if not packs.has(names).all():
        raise CrateError(f"The crate {crate} lost packs while {card.name} was kept. No backup was made; keep it again.")
    must_belong_together(card, blocks, since)
    lengths = np.diff(np.array([*tape.cuts, tape.size], np.int64)).astype(np.uint32)
    runs = _runs_of(tape)
    about = About(card, kept_at.isoformat(timespec="milliseconds"), blocks.sector, tape.size, writer.added,
                  round(time.monotonic() - begun, 3), verify, root_of(names, lengths, runs), every_byte,
                  [(e.start, e.length) for e in joined(reader.unreadable)], described, packing.fresh)
    path = crate / "backups" / card.key / f"{kept_at:%Y-%m-%d %H.%M.%S} {held.id[:IN_NAMES]}.kept"
    files, paths = _files_of(tape)
    _put(path, {b"HEAD": msgspec.msgpack.encode(about), b"NAME": names.tobytes(),
                b"CLEN": lengths.astype("<u4").tobytes(), b"RUNS": runs.tobytes(), b"FILE": files.tobytes(),
                b"PATH": paths})
    if _was_taken_for_dead(held) and not is_all_there(path):
        path.unlink()
        raise CrateError(f"This computer slept while {card.name} was kept, and another one gave back room that was "
                         "needed. No backup was made; keep it again.")
    return Stored(path, about)


def _note_proven(trust: Trust, writer: PackWriter, *, verify: bool) -> None:
    """What was written was read back; of what was there already, what was read through is known."""
    with suppress(OSError):
        for path in writer.paths if verify else ():
            trust.proved(path)
    trust.save()


def _was_taken_for_dead(held: Lease) -> bool:
    """Also where that cannot be told."""
    try:
        return held.is_broken
    except OSError:
        return True


def _left_over(crate: Path) -> list[Path]:
    """None where it cannot be told: what was left is packed anew then."""
    try:
        return left_over(crate)
    except OSError:
        return []


def must_belong_together(card: CardRecord, blocks: Blocks, since: int) -> None:
    """Raises CrateError where a card was written to since then."""
    if blocks.changed_at != since:
        raise CrateError(f"{card.name} was written to while it was kept, so that what was read does not belong "
                         "together. No backup was made. Unmount it, or close what uses it, and keep it again.")


def _use_again(parts: list[Path], packs: Packs, writer: PackWriter, watch: Watch) -> None:
    """Chunks of packs that were never finished go into one of this keeping; then those files go."""
    for part in parts:
        with suppress(OSError):                           # another program uses it already, or it cannot be read
            for chunk in stored_chunks(part, table_of(part)):
                watch.progress("Using what an interrupted backup has left", 0, None)
                if chunk.is_proven and packs.find(chunk.name) is None and writer.claim(chunk.name):
                    writer.add(chunk.name, chunk.codec, chunk.stored, chunk.raw)
            part.unlink(missing_ok=True)


class _Packing:
    """Packs chunks, on several threads."""

    def __init__(self, packs: Packs, writer: PackWriter, trust: Trust) -> None:
        self.packs, self.writer, self.trust = packs, writer, trust
        self.fresh = 0
        self._counting = threading.Lock()
        self._own = threading.local()

    def all_of(self, reader: TapeReader, watch: Watch) -> np.ndarray[Any, np.dtype[np.uint8]]:
        """Read a tape and see to it that its chunks are in the crate; returns their names in tape order."""
        names = [b""] * len(reader.tape.cuts)
        pending: deque[Future[list[tuple[int, bytes]]]] = deque()

        def note() -> None:
            for number, name in pending.popleft().result():
                names[number] = name

        with ThreadPoolExecutor(WORKERS, "keep") as workers:
            try:
                for whole in reader.stretches():
                    watch.progress("Keeping the card", reader.done, reader.tape.size)
                    pending.append(workers.submit(self._take, whole))
                    if len(pending) > BUFFERS - 2:       # what they work on stays where it is
                        note()
                while pending:
                    note()
            finally:
                for future in pending:
                    future.cancel()
        return as_names(names)

    def _take(self, whole: Chunks) -> list[tuple[int, bytes]]:
        names = [blake3(chunk).digest() for _, chunk in whole]
        wanted = as_names(names)
        is_sound = self.packs.has(wanted)
        is_sound[is_sound] = self.trust.sound(self.packs, wanted[is_sound])
        is_known = is_sound.tolist()
        with self._counting:
            self.fresh += sum(len(chunk) for (_, chunk), known in zip(whole, is_known, strict=True) if not known)
        for name, (_, chunk), known in zip(names, whole, is_known, strict=True):
            if not known and self.writer.claim(name):
                codec, stored = self._squeezer().squeeze(chunk)
                self.writer.add(name, codec, stored, len(chunk))
        return [(number, name) for (number, _), name in zip(whole, names, strict=True)]

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
    text = "".join(file.entry.path.replace("\0", "\ufffd") + "\0" for file in tape.files)    # damaged folders name so
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


