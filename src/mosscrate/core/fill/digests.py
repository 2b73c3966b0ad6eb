"""Checksums of the kinds in which plans and lists name files."""

from __future__ import annotations

import hashlib
import zlib
from collections.abc import Iterable

from blake3 import blake3


def digest_of(kind: str, pieces: Iterable[bytes]) -> str:
    """As lower-case hexadecimal digits; "" for a kind that is not known. Raises what reading the pieces raises."""
    if kind == "crc32":
        value = 0
        for piece in pieces:
            value = zlib.crc32(piece, value)
        return f"{value:08x}"
    try:
        digest = blake3() if kind == "blake3" else hashlib.new(kind)
    except ValueError:
        return ""
    for piece in pieces:
        digest.update(piece)
    return str(digest.hexdigest())
