"""Published checksums: lists and single files that lie beside a download, and comparing with them while it is read.

Sources: the two line styles of GNU coreutils (digest and name, or tagged), SFV as its readers agree on it (name and
CRC-32, comments behind semicolons).
"""

from __future__ import annotations

import codecs
import hashlib
import re
import zlib
from collections.abc import Iterator
from concurrent.futures import Future, ThreadPoolExecutor
from dataclasses import dataclass
from pathlib import Path, PurePosixPath
from typing import Protocol

from blake3 import blake3

from mosscrate.core.blocks import Blocks
from mosscrate.core.blocks.base import FullView
from mosscrate.core.blocks.streaming import BLOCK, chunks
from mosscrate.core.errors import Damaged

NAMES = {"sha256": "SHA-256", "sha512": "SHA-512", "sha384": "SHA-384", "sha224": "SHA-224", "sha1": "SHA-1",
         "md5": "MD5", "b3": "BLAKE3", "crc32": "CRC-32"}
LENGTHS = {"sha256": 64, "sha512": 128, "sha384": 96, "sha224": 56, "sha1": 40, "md5": 32, "b3": 64, "crc32": 8}
ANY = "any"                              # of a list whose name does not say which: the length of a digest does
BY_LENGTH = {length: kind for kind, length in LENGTHS.items() if kind not in ("b3", "crc32")}
SPELLED = {"blake3": "b3", "sfv": "crc32"}
SIGNED = (".txt", ".asc", ".sig.txt", ".signed")
GENERAL = {"checksums", "checksum", "digests", "hashes", "hashsums", "sums"}
NAMED = re.compile(r"(?:^|[.])(?P<kind>sha256|sha512|sha384|sha224|sha1|md5|b3|blake3|sfv)(?:sums?)?$")
KIND = r"(?:sha-?(?:1|224|256|384|512)|md5|blake3|b3)"
DIGEST, OF = r"(?P<digest>[0-9a-fA-F]{6,130})", r"(?P<name>\S.*?)"
TAGGED = re.compile(rf"^(?P<kind>[A-Za-z0-9-]+) ?\({OF}\) ?= ?{DIGEST}$")
COLUMNS = re.compile(rf"^(?P<kind>{KIND})\s+{DIGEST}\s+{OF}$", re.I)
PLAIN = re.compile(rf"^\\?(?:{KIND}[:=]\s*)?{DIGEST}(?:[ \t]+\*?{OF})?$", re.I)
TURNED = re.compile(rf"^{OF}\s*[:=]\s*(?:{KIND}[:=]\s*)?{DIGEST}$", re.I)
SFV = re.compile(r"^(?P<name>[^;].*?)\s+(?P<digest>[0-9a-fA-F]{8})$")
LARGEST_LIST = 1 << 20                   # bytes
_ZEROS = memoryview(bytes(BLOCK))


@dataclass(frozen=True)
class Published:
    """One checksum.

    Attributes:
        kind: a key of NAMES.
        digest: in small hexadecimal digits; "" where what the list says cannot be used.
        name: of the file that it is for; "" for the one that the list is named after.
        found_in: the name of the list.
    """

    kind: str
    digest: str
    name: str
    found_in: str


def read_list(path: Path) -> tuple[Published, ...]:
    """What a list says; nothing for what is none."""
    kind = kind_of(path.name)
    try:
        if not kind or path.stat().st_size > LARGEST_LIST:
            return ()
        lines = _text(path.read_bytes()).splitlines()
    except OSError:
        return ()
    return tuple(_read(lines, kind, path.name))


def _text(data: bytes) -> str:
    """As editors of every system save it."""
    if data.startswith((codecs.BOM_UTF16_LE, codecs.BOM_UTF16_BE)):
        return data.decode("utf-16", "replace")
    if data[1:2] == b"\0" or data[:1] == b"\0":
        return data.decode("utf-16-le" if data[1:2] == b"\0" else "utf-16-be", "replace")
    return data.decode("utf-8-sig", "replace")


def kind_of(name: str) -> str:
    """The kind of checksum that a list has by its name, ANY where it only says that it is one; "" for no list."""
    stem = _without_ending(name).lower()
    found = NAMED.search(stem)
    if found is not None:
        return SPELLED.get(found["kind"], found["kind"])
    return ANY if stem in GENERAL or stem.rpartition(".")[2] in GENERAL else ""


def _without_ending(name: str) -> str:
    """The name of a list without what is put behind for readers and signatures."""
    while name.lower().endswith(SIGNED):
        name = name[:name.rindex(".")]
    return name


def published_for(path: Path, more: tuple[Path, ...] = ()) -> tuple[Published, ...]:
    """Everything that lists beside a file say, and some more lists, of whatever file."""
    try:
        beside = sorted(p for p in path.parent.iterdir() if kind_of(p.name))
    except OSError:
        return ()
    return tuple(p for found in dict.fromkeys((*beside, *more)) for p in read_list(found))


def about(published: tuple[Published, ...], name: str) -> tuple[Published, ...]:
    """Those that are for a file of that name."""
    return tuple(p for p in published if PurePosixPath(p.name.replace("\\", "/")).name == name
                 or (not p.name and _named_after(p.found_in) == name))


def _named_after(list_name: str) -> str:
    return PurePosixPath(_without_ending(list_name)).stem


def _read(lines: list[str], kind: str, found_in: str) -> Iterator[Published]:
    for line in map(str.strip, lines):
        if line.startswith("-----BEGIN PGP SIGNATURE"):
            return                                           # what follows of a signed list is no list
        if found := _in_line(line, kind):
            yield Published(*found, found_in)


def _in_line(line: str, kind: str) -> tuple[str, str, str] | None:
    """(kind, digest, name) of a line; the digest is "" where its length fits no kind that can be meant."""
    match = TAGGED.match(line) or COLUMNS.match(line)
    if match is not None:
        of = match["kind"].lower().replace("-", "")
        of = SPELLED.get(of, of)
        if of not in LENGTHS:
            return None
    else:
        match = SFV.match(line) if kind == "crc32" else PLAIN.match(line) or TURNED.match(line)
        if match is None:
            return None
        of = BY_LENGTH.get(len(match["digest"]), ANY) if kind == ANY else kind
    is_right = len(match["digest"]) == LENGTHS.get(of)
    return of, match["digest"].lower() if is_right else "", match["name"] or ""


def unusable(published: Published) -> str:
    """What is said of a checksum that a list has in a form that cannot be compared."""
    return f"what {published.found_in} says of it cannot be used as a checksum, it was not compared with that"


class Hasher(Protocol):
    """What works a checksum out."""

    def update(self, data: memoryview, /) -> object:
        """The next bytes."""

    def hexdigest(self) -> str:
        """In hexadecimal digits."""


class _Crc32:
    def __init__(self) -> None:
        self._value = 0

    def update(self, data: memoryview) -> None:
        """See Hasher."""
        self._value = zlib.crc32(data, self._value)

    def hexdigest(self) -> str:
        """See Hasher."""
        return f"{self._value:08x}"


def hasher_for(kind: str) -> Hasher:
    """A fresh one; `kind` is a key of NAMES."""
    if kind == "crc32":
        return _Crc32()
    return blake3(max_threads=blake3.AUTO) if kind == "b3" else hashlib.new(kind, usedforsecurity=False)


class Comparison:
    """Compares a file, and the disk in it, with what was published, while the disk is read in order.

    The file is read for itself on a thread of its own; what the system has read once comes from memory.
    """

    def __init__(self, file: Blocks, of_file: tuple[Published, ...], of_disk: tuple[Published, ...], name: str) -> None:
        self._file, self._name = file, name
        self._unusable = [p for p in (*of_file, *of_disk) if not p.digest]
        self._of_file, self._of_disk = ([p for p in each if p.digest] for each in (of_file, of_disk))
        of_disk = tuple(self._of_disk)
        self._hashers = [hasher_for(p.kind) for p in of_disk]
        self._pool = ThreadPoolExecutor(2, "checksums")
        self._reading = self._pool.submit(self._read_file) if self._of_file else None
        self._hashing: list[Future[object]] = []

    def see(self, data: memoryview) -> None:
        """The next bytes of the disk."""
        if self._hashers:
            for future in self._hashing:
                future.result()
            copied = memoryview(bytes(data))
            self._hashing = [self._pool.submit(h.update, copied) for h in self._hashers]

    def finish(self) -> tuple[str, ...]:
        """What agrees, in sentences. Raises Damaged where something does not."""
        try:
            for future in self._hashing:
                future.result()
            found = [(p, h.hexdigest(), "the disk in it") for p, h in zip(self._of_disk, self._hashers, strict=True)]
            if self._reading is not None:
                found += [(p, digest, self._name) for p, digest in
                          zip(self._of_file, self._reading.result(), strict=True)]
        finally:
            self.leave()
        for published, digest, what in found:
            if published.digest != digest:
                raise Damaged(f"The {NAMES[published.kind]} of {what} is {digest}, {published.found_in} says "
                                  f"{published.digest}. It is not what was published: fetch it again.")
        return (*(f"{NAMES[p.kind]} as {p.found_in} says" for p, _, _ in found), *map(unusable, self._unusable))

    def leave(self) -> None:
        """Do without the rest."""
        self._file_is_wanted = False
        self._pool.shutdown(wait=True, cancel_futures=True)

    _file_is_wanted = True

    def _read_file(self) -> list[str]:
        hashers = [hasher_for(p.kind) for p in self._of_file]
        for chunk in chunks(self._file, self._file.size):
            if not self._file_is_wanted:
                break
            for hasher in hashers:
                hasher.update(chunk.bytes)
        return [hasher.hexdigest() for hasher in hashers]


class Compared(FullView):
    """A disk that is compared with what was published while it is read in order; `confirm` tells."""

    def __init__(self, inner: Blocks, file: Blocks, of_file: tuple[Published, ...],
                 of_disk: tuple[Published, ...]) -> None:
        super().__init__(inner)
        self.published = (file, of_file, of_disk)
        self._at, self._has_gaps = 0, False
        self._comparison: Comparison | None = None

    def begin(self) -> Comparison:
        """A fresh comparison."""
        return Comparison(*self.published, self.name)

    def confirm(self) -> None:
        """See Blocks; what was not read in order is read now."""
        self.inner.confirm()
        self.size = self.inner.size
        comparison, self._comparison = self._comparison, None
        if comparison is not None:
            self._pass_over(comparison, self.size)
            try:
                comparison.finish()
                return
            except Damaged:
                if not self._has_gaps:
                    raise
        comparison = self.begin()
        for chunk in chunks(self.inner, self.size) if self.published[2] else ():
            comparison.see(chunk.bytes)
        comparison.finish()

    def close(self) -> None:
        """See Blocks."""
        if self._comparison is not None:
            self._comparison.leave()
        super().close()

    def _read_into(self, offset: int, buffer: memoryview) -> None:
        self.inner.read_into(offset, buffer)
        if len(buffer) == min(BLOCK, self.size - offset) and offset % BLOCK == 0:       # else somebody only looks
            self._seen(offset, buffer)

    def _seen(self, offset: int, data: memoryview) -> None:
        if offset == 0:
            if self._comparison is not None:
                self._comparison.leave()
            self._comparison, self._at, self._has_gaps = self.begin(), 0, False
        if self._comparison is not None and offset >= self._at:
            self._pass_over(self._comparison, offset)
            self._comparison.see(data)
            self._at = offset + len(data)

    def _pass_over(self, comparison: Comparison, to: int) -> None:
        """Holes are not read: they are zeros."""
        while self._at < to:
            count = min(BLOCK, to - self._at)
            comparison.see(_ZEROS[:count])
            self._at, self._has_gaps = self._at + count, True
