"""Names and times of directory entries, in both directions.

Source: "FAT: General Overview of On-Disk Format" 1.03, §6 (times, short names) and §7 (long names).
Short names are read in code page 437. Times on the disk have no zone; they are taken as UTC.
"""

from __future__ import annotations

import calendar
import time
from functools import cache

import numpy as np
from numpy.typing import NDArray

from mosscrate.core.errors import FitError

CODE_PAGE = "cp437"
LOWER_BASE, LOWER_EXTENSION = 0x08, 0x10
UNITS_A_ENTRY = 13                       # UTF-16 units in one long-name entry
MAX_NAME = 255
_SHORT_OK = frozenset(b"ABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789!#$%&'()-@^_`{}~")
_FORBIDDEN = frozenset('"*/:<>?\\|') | {chr(c) for c in range(32)}


@cache
def timestamp(date: int, clock: int) -> int | None:
    """Seconds since 1970 of a date and a time field; None where the date is empty or impossible."""
    year, month, day = 1980 + (date >> 9), date >> 5 & 15, date & 31
    if not (1 <= month <= 12 and 1 <= day <= 31):
        return None
    hour, minute, second = min(clock >> 11, 23), min(clock >> 5 & 63, 59), min((clock & 31) * 2, 59)
    return calendar.timegm((year, month, day, hour, minute, second))


def fields_of(seconds: int | None) -> tuple[int, int]:
    """(date, time) fields; clamped to 1980 to 2107, 2 s steps."""
    lowest, highest = 315532800, 4354819198
    t = time.gmtime(min(max(seconds or lowest, lowest), highest))
    return ((t.tm_year - 1980) << 9 | t.tm_mon << 5 | t.tm_mday,
            t.tm_hour << 11 | t.tm_min << 5 | t.tm_sec // 2)


@cache
def short_name(raw: bytes, case: int) -> str:
    """The 8.3 name, with the lower-case bits that some systems set."""
    if raw[0] == 0x05:                   # stands for 0xE5, which would mean "deleted"
        raw = b"\xe5" + raw[1:]
    base, extension = raw[:8].rstrip(b" ").decode(CODE_PAGE), raw[8:].rstrip(b" ").decode(CODE_PAGE)
    base = base.lower() if case & LOWER_BASE else base
    extension = extension.lower() if case & LOWER_EXTENSION else extension
    return f"{base}.{extension}" if extension else base


def checksums(names: NDArray[np.uint8]) -> NDArray[np.uint8]:
    """The checksum that ties long-name entries to each short name. (n, 11) bytes to (n,)."""
    total = np.zeros(len(names), np.uint8)
    for column in names.T:
        total = ((total >> 1) | (total << 7)) + column
    return total


def why_not(name: str) -> str:
    """Why a name cannot stand on a FAT volume; "" when it can."""
    if not name or name in (".", "..") or name != name.rstrip(" ."):
        return "it is empty or ends in a dot or space"
    if not _FORBIDDEN.isdisjoint(name):
        return "it holds one of \" * / : < > ? \\ |"
    return "" if len(name.encode("utf-16-le")) <= 2 * MAX_NAME else "it is longer than 255 characters"


def as_short(name: str) -> bytes | None:
    """The 11 bytes when the name is a valid upper-case 8.3 name by itself, else None."""
    base, _, extension = name.partition(".")
    if not 1 <= len(base) <= 8 or len(extension) > 3 or "." in extension:
        return None
    try:
        raw = base.encode(CODE_PAGE).ljust(8) + extension.encode(CODE_PAGE).ljust(3)
    except UnicodeEncodeError:
        return None
    is_plain = set(raw) <= _SHORT_OK | {0x20} and b" " not in raw[:8].rstrip() + raw[8:].rstrip()
    return raw if is_plain and (not name.endswith(".")) else None


class ShortNames(set[bytes]):
    """The short names of one folder; remembers where numbering of each stem has got to."""

    def __init__(self) -> None:
        super().__init__()
        self._next: dict[tuple[bytes, bytes], int] = {}

    def alias(self, name: str) -> bytes:
        """An 8.3 name for a long one that is not taken yet, numbered ~1, ~2 ... Raises FitError."""
        stem, _, extension = name.upper().lstrip(".").rpartition(".")
        if not stem:
            stem, extension = extension, ""
        base = _squeeze(stem)[:8] or b"FILE"
        suffix = _squeeze(extension)[:3].ljust(3)
        for number in range(self._next.get((base, suffix), 1), 1_000_000):
            tail = f"~{number}".encode()
            candidate = (base[:8 - len(tail)] + tail).ljust(8) + suffix
            if candidate not in self:
                self._next[base, suffix] = number + 1
                return candidate
        raise FitError(f"No short name is left for “{name}” in its folder.")


def checksum(short: bytes) -> int:
    """The same of one name."""
    total = 0
    for byte in short:
        total = ((total >> 1) | (total << 7)) + byte & 0xFF
    return total


def _squeeze(text: str) -> bytes:
    raw = text.replace(" ", "").replace(".", "").encode(CODE_PAGE, "replace").replace(b"?", b"_")
    return bytes(c if c in _SHORT_OK else 0x5F for c in raw)


def short_label(raw: bytes) -> str:
    """A volume label's 11 bytes as text."""
    return raw.replace(b"\x05", b"\xe5", 1).decode(CODE_PAGE).rstrip(" \0") if raw[0] == 5 \
        else raw.decode(CODE_PAGE).rstrip(" \0")


def as_label(text: str) -> bytes:
    """A label as 11 bytes. Raises FitError for what a label cannot hold."""
    raw = text.upper().encode(CODE_PAGE, "replace")
    if len(raw) > 11 or set(raw) & set(b'"*+,./:;<=>?[\\]|'):
        raise FitError(f"“{text}” cannot be a FAT label: it holds 11 plain characters at most.")
    return raw.ljust(11)
