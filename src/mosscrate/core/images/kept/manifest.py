"""What one backup is made of: its chunks laid end to end (the tape), where they lie on the card, and its files."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property
from mmap import mmap
from typing import Any

import msgspec
import numpy as np
from backports import zstd
from blake3 import blake3
from numpy.typing import NDArray

from mosscrate.core.binary import Place
from mosscrate.core.errors import FormatError
from mosscrate.core.images.kept.frames import (
    FILE,
    KEPT_HEAD,
    KEPT_MAGIC,
    LONGEST_CHUNK,
    NAME,
    RUN,
    SECTION,
    UNREAD,
    VERSION,
    ZSTD,
    check_of,
)

LARGEST = 1 << 30                        # bytes of a section
SECTORS = (512, 1024, 2048, 4096)
MOST_SECTIONS = 64


class CardRecord(msgspec.Struct, frozen=True):
    """The card that was kept, as its slot named it."""

    name: str
    key: str
    tag: str
    size: int
    model: str = ""
    serial: str = ""


class About(msgspec.Struct, frozen=True):
    """What is true of the whole backup.

    Attributes:
        card, kept_at: which, and when (ISO 8601 with zone).
        sector: bytes.
        used: bytes on the tape.
        added: bytes that its packs grew by.
        fresh: bytes on the tape that no backup had before; None where that was not noted.
        seconds: that it took.
        verified: whether everything that was new was read back.
        every_byte: whether free room was kept too.
        unreadable: [start, length] of what could not be read; zeros when it is read.
        layout: in the shape of `look --json`.
        root: hexadecimal; fixes every used byte in its place.
    """

    card: CardRecord
    kept_at: str
    sector: int
    used: int
    added: int
    seconds: float
    verified: bool
    root: str
    every_byte: bool = False
    unreadable: list[tuple[int, int]] = []
    layout: dict[str, Any] = {}
    fresh: int | None = None


@dataclass(frozen=True)
class Manifest:
    """A backup as its file says it.

    Attributes:
        about: of the whole.
        names: of its chunks in tape order, shape (n, 32).
        lengths: bytes of each, shape (n,).
        runs: RUN rows by their place on the card; what none covers is zeros.
        files: FILE rows; `path` is a number into `paths`.
        paths: of files.
    """

    about: About
    names: NDArray[np.uint8]
    lengths: NDArray[np.uint32]
    runs: NDArray[np.void]
    files: NDArray[np.void]
    paths: tuple[str, ...]

    @cached_property
    def tape(self) -> NDArray[np.int64]:
        """Where each chunk begins on the tape, and its end; shape (n + 1,)."""
        return np.concatenate([[0], np.cumsum(self.lengths, dtype=np.int64)])

    def digest_of(self, number: int) -> bytes:
        """Knows the contents of a file again: the name of its only chunk, else the BLAKE3 of its names."""
        return self.contents(slice(number, number + 1))[0]

    def contents(self, some: slice = slice(None)) -> list[bytes]:
        """By what each file is known again, see `digest_of`; b"" for one with nothing in it."""
        files = self.files[some]
        first = np.searchsorted(self.tape, files["tape"], "right") - 1
        last = np.searchsorted(self.tape, files["tape"] + files["length"])
        names = (self.names[a:b].tobytes() if held else b""
                 for a, b, held in zip(first.tolist(), last.tolist(), (files["length"] > 0).tolist(), strict=True))
        return [own if len(own) <= NAME else blake3(own).digest() for own in names]


def root_of(names: NDArray[np.uint8], lengths: NDArray[np.uint32], runs: NDArray[np.void]) -> str:
    """BLAKE3 over names, lengths and runs as they stand in the file: equal backups have equal ones."""
    return blake3(names.tobytes() + lengths.astype("<u4").tobytes() + runs.astype(RUN).tobytes()).hexdigest()


def read_about(data: bytes | mmap) -> About:
    """Only what is true of the whole. Raises FormatError."""
    return _about(_section(data, _sections(data), b"HEAD"))


def read_manifest(data: bytes) -> Manifest:
    """A backup from the bytes of its file. Raises FormatError."""
    sections = _sections(data)
    about = _about(_section(data, sections, b"HEAD"))
    names = np.frombuffer(_section(data, sections, b"NAME"), np.uint8)
    lengths = np.frombuffer(_section(data, sections, b"CLEN"), "<u4")
    runs = np.frombuffer(_section(data, sections, b"RUNS"), RUN)
    files = np.frombuffer(_section(data, sections, b"FILE"), FILE)
    text = _section(data, sections, b"PATH").decode("utf-8", "surrogateescape")
    paths = tuple(text.split("\0")[:-1])
    if len(names) != NAME * len(lengths) or (lengths > LONGEST_CHUNK).any():
        raise FormatError("backup", "CLEN", 0, len(lengths), "one length for each name, of 1 MiB at most")
    manifest = Manifest(about, names.reshape(-1, NAME), lengths.astype(np.uint32), runs, files, paths)
    _must_make_sense(manifest)
    return manifest


def _must_make_sense(manifest: Manifest) -> None:
    """Raises FormatError: what follows goes by these numbers without asking."""
    runs, end = manifest.runs, int(manifest.tape[-1])
    starts, lengths, tapes = (runs[name].astype(np.float64) for name in RUN.names or ())
    read = runs["tape"] != UNREAD
    if (lengths <= 0).any() or (starts < 0).any() or (starts[1:] < (starts + lengths)[:-1]).any() or \
            (len(runs) and starts[-1] + lengths[-1] > manifest.about.card.size) or \
            (tapes[read] < 0).any() or ((tapes + lengths)[read] > end).any():
        raise FormatError("backup", "RUNS", 0, len(runs), "runs within the card and the tape, in order")
    files = manifest.files
    first, held = files["tape"].astype(np.float64), files["length"].astype(np.float64)
    if (files["path"] >= len(manifest.paths)).any() or (first < 0).any() or (held < 0).any() or \
            (first + held > end).any() or (files["size"] < 0).any():
        raise FormatError("backup", "FILE", 0, len(files), "files within the tape, each with a path")
    if manifest.about.root != root_of(manifest.names, manifest.lengths, runs):
        raise FormatError("backup", "root", 0, manifest.about.root[:12], "the digest of its names, lengths and runs")


def _about(data: bytes) -> About:
    try:
        about = msgspec.msgpack.decode(data, type=About)
    except (msgspec.MsgspecError, UnicodeDecodeError) as error:
        raise FormatError("backup", "HEAD", 0, str(error), "facts about a kept card") from error
    if not 0 <= about.card.size < 1 << 62 or about.sector not in SECTORS:
        raise FormatError("backup", "HEAD", 0, (about.card.size, about.sector), "sizes of a card and its sectors")
    return about


def _sections(data: bytes | mmap) -> dict[bytes, np.void]:
    place = Place("backup", KEPT_HEAD, 0)
    head = place.read(data[:KEPT_HEAD.itemsize])
    place.require("magic", head["magic"].tobytes(), {KEPT_MAGIC})
    place.require("version", int(head["version"]), {VERSION})
    count = place.require("sections", int(head["sections"]), range(MOST_SECTIONS))
    start, length = KEPT_HEAD.itemsize, count * SECTION.itemsize
    table = data[start:start + length]
    if check_of(data[:start - 8]) != head["check"].tobytes() or len(table) != length or \
            blake3(table).digest() != data[start + length:start + length + NAME]:
        raise place.error("check", head["check"].tobytes()[:8], "that of the head and its sections")
    return {row["tag"].tobytes(): row for row in np.frombuffer(table, SECTION)}


def _section(data: bytes | mmap, sections: dict[bytes, np.void], tag: bytes) -> bytes:
    row = sections.get(tag)
    if row is None:
        raise FormatError("backup", "sections", 0, "none", f"one called {tag.decode()}")
    offset, stored, raw = (int(row[name]) for name in ("offset", "stored", "raw"))
    part = data[offset:offset + stored]
    if len(part) != stored or raw > LARGEST or blake3(part).digest() != row["digest"].tobytes():
        raise FormatError("backup", tag.decode(), offset, len(part), "a section of its length and digest")
    if row["codec"] != ZSTD:
        return part
    try:
        whole = zstd.ZstdDecompressor().decompress(part, raw + 1)
    except zstd.ZstdError as error:
        raise FormatError("backup", tag.decode(), offset, str(error), "a Zstandard frame") from error
    if len(whole) != raw:
        raise FormatError("backup", tag.decode(), offset, len(whole), f"{raw} bytes")
    return whole
