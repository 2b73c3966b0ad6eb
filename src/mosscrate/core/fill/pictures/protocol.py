"""What is asked of a picture server and what it answers: see docs/formats/pictures.md."""

from __future__ import annotations

import msgspec

VERSION = 1
HELLO, FIND, PICTURE = "/1", "/1/find", "/1/picture/"
LARGEST_QUESTION = 256 << 10             # bytes
LARGEST_ANSWER = 4 << 20
LARGEST_PICTURE = 8 << 20


class Hello(msgspec.Struct, frozen=True):
    """Who the server is, how many requests it takes in a minute, how many games in one question."""

    protocol: int
    name: str
    per_minute: int = 60
    batch: int = 50
    kinds: tuple[str, ...] = ()


class Want(msgspec.Struct, frozen=True, omit_defaults=True):
    """A game of which a picture is wanted; `crc32` in eight hexadecimal digits."""

    id: str
    system: str
    name: str
    size: int = 0
    crc32: str = ""


class Wants(msgspec.Struct, frozen=True):
    """A question."""

    want: tuple[Want, ...]
    kinds: tuple[str, ...] = ()


class Offered(msgspec.Struct, frozen=True):
    """A picture that there is: its path on the server, bytes, and type."""

    kind: str
    path: str
    bytes: int = 0
    type: str = ""


class Found(msgspec.Struct, frozen=True):
    """What there is of a game, and by what it was known: "crc32" or "name"."""

    id: str
    pictures: tuple[Offered, ...]
    by: str = ""


class Finds(msgspec.Struct, frozen=True):
    """An answer; what is not in it does not exist."""

    found: tuple[Found, ...]


class Refusal(msgspec.Struct, frozen=True):
    """What went wrong, as a sentence."""

    error: str
