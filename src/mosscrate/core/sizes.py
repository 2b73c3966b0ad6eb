"""Sizes, rates, dates and durations as people say them.

Decimal for what is printed on a card ("32 GB card"), binary for layouts ("29.7 GiB").
"""

from __future__ import annotations

import re
from collections.abc import Sequence
from datetime import datetime

KIB, MIB, GIB, TIB = 1 << 10, 1 << 20, 1 << 30, 1 << 40
_UNITS = {"": 1, "b": 1, "k": KIB, "kib": KIB, "m": MIB, "mib": MIB, "g": GIB, "gib": GIB, "t": TIB,
          "tib": TIB, "kb": 10**3, "mb": 10**6, "gb": 10**9, "tb": 10**12}
_SIZE = re.compile(r"\s*([0-9]+(?:[.,][0-9]+)?)\s*([a-z]*)\s*$", re.IGNORECASE)


def binary(size: int) -> str:
    """5.96 GiB, 128 MiB, 512 B."""
    return _three_digits(size, 1024, ("B", "KiB", "MiB", "GiB", "TiB", "PiB"))


def printed(size: int) -> str:
    """What a seller prints on a card of this many bytes: 2 GB, 32 GB, 64 MB.

    Cards fall short of the printed size by up to a tenth, so the next size up that exists is taken.
    """
    if size < 4 * 10**6 or size % (1 << 26) == 0:        # floppies, and images cut to a binary size, were never sold so
        return binary(size)
    for unit, scale in (("TB", 10**12), ("GB", 10**9), ("MB", 10**6)):
        if size >= 0.9 * scale:
            nearest = next((1 << k for k in range(20) if (1 << k) * scale >= size > (1 << k) * scale * 0.86), 0)
            return f"{nearest} {unit}" if nearest else f"{size / scale:.3g} {unit}"
    return binary(size)


def exact(size: int) -> str:
    """1 073 741 824 bytes, with thin gaps."""
    return f"{size:,} bytes".replace(",", "\N{NARROW NO-BREAK SPACE}")


def precise(size: int) -> str:
    """4 GiB where it is just that, else with its bytes: 64 MiB (67 092 480 bytes)."""
    said = binary(size)
    return said if parse_size(said) == size else f"{said} ({exact(size)})"


def rate(bytes_per_second: float) -> str:
    """84 MB/s."""
    return _three_digits(int(bytes_per_second), 1000, ("B", "kB", "MB", "GB", "TB")) + "/s"


def duration(seconds: float) -> str:
    """about 6 min, 40 s, 2 h 10 min."""
    whole = round(seconds)
    if whole < 1:
        return "under a second"
    if whole < 90:
        return f"{whole} s"
    if whole < 5400:
        return f"{round(whole / 60)} min"
    return f"{whole // 3600} h {whole % 3600 // 60} min"


def parse_size(text: str) -> int:
    """Bytes from "25.7 GiB", "4G", "8 GB" or "500000". Raises ValueError with a sentence."""
    match = _SIZE.match(text)
    if not match or match[2].lower() not in _UNITS:
        raise ValueError(f"“{text}” is not a size. Type a number with a unit, such as 4 GiB or 512 MiB.")
    return int(float(match[1].replace(",", ".")) * _UNITS[match[2].lower()])


def listed(words: Sequence[str]) -> str:
    """One, two and three."""
    return " and ".join(filter(None, (", ".join(words[:-1]), *words[-1:])))


def some_of(names: Sequence[str], most: int) -> str:
    """The first of many, and how many more there are."""
    return ", ".join(names[:most]) + (f" and {len(names) - most} more" if len(names) > most else "")


def days_ago(then: datetime, now: datetime) -> str:
    """A day of the past as people say it; a clock that is ahead says today."""
    days = (now - then).days
    return "today" if days < 1 else "yesterday" if days == 1 else f"{days} days ago"


def counted(number: int, noun: str, plural: str = "") -> str:
    """1 file, 2 files."""
    return f"{number} {noun if number == 1 else plural or noun + 's'}"


def _three_digits(size: int, base: int, units: tuple[str, ...]) -> str:
    value, unit = float(size), units[0]
    for unit in units:
        if value < base - 0.5 or unit == units[-1]:
            break
        value /= base
    if unit == units[0] or value >= 99.95:
        return f"{value:.0f} {unit}"
    text = f"{value:.1f}" if value >= 9.995 else f"{value:.2f}"
    return f"{text.rstrip('0').rstrip('.')} {unit}"
