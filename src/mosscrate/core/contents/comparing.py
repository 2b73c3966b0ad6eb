"""Whether two files hold the same."""

from __future__ import annotations

from collections.abc import Iterable


def are_equal(some: Iterable[bytes], others: Iterable[bytes]) -> bool:
    """Whether two files that come in pieces are the same."""
    left, right = memoryview(b""), memoryview(b"")
    pieces, more = iter(some), iter(others)
    while True:
        left = left or memoryview(next(pieces, b""))
        right = right or memoryview(next(more, b""))
        if not left or not right:
            return not left and not right
        count = min(len(left), len(right))
        if left[:count] != right[:count]:
            return False
        left, right = left[count:], right[count:]
