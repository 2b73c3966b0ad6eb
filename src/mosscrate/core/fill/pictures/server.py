"""A picture server over HTTP, asked politely: one connection, as many questions a minute as it takes."""

from __future__ import annotations

import hashlib
import http.client
import json
import time
from collections.abc import Callable, Iterator, Sequence
from contextlib import closing, suppress
from typing import TypeVar
from urllib.parse import urlsplit

import msgspec

from mosscrate.core.errors import MediumError
from mosscrate.core.fill.pictures.protocol import (
    FIND,
    HELLO,
    LARGEST_ANSWER,
    LARGEST_PICTURE,
    LARGEST_QUESTION,
    PICTURE,
    VERSION,
    Finds,
    Found,
    Hello,
    Offered,
    Refusal,
    Want,
    Wants,
)
from mosscrate.core.watch import Watch

PATIENCE = 10                            # seconds for an answer
PIECE = 64 << 10                         # bytes that are read before somebody may have said stop
TRIES = 4
FIRST_WAIT = 0.2                         # seconds before the second try; twice that before the next
LONGEST_WAIT = 90                        # seconds that a server may ask us to wait
AT_ONCE = 0.2                            # seconds that are waited before somebody may have said stop
TOKEN = "abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789"
BUSY = (429, 503)
Told = TypeVar("Told")


class PictureServer:
    """One of them.

    Args:
        address: http://HOST:PORT or https://HOST; a path is not taken.
        watch: stops waiting and asking.
        sleep: how waiting is done.
    """

    def __init__(self, address: str, watch: Watch, sleep: Callable[[float], None] = time.sleep) -> None:
        """Raises MediumError where the address cannot be used."""
        parts = urlsplit(address if "//" in address else f"http://{address}")
        if parts.scheme not in ("http", "https") or not parts.hostname or parts.path.strip("/") or parts.query:
            raise MediumError(f"“{address}” is no address of a picture server. Write http://HOST or http://HOST:PORT.")
        self.address = f"{parts.scheme}://{parts.netloc}"
        kind = http.client.HTTPSConnection if parts.scheme == "https" else http.client.HTTPConnection
        try:
            self._connection = kind(parts.hostname, parts.port, timeout=PATIENCE)
        except ValueError as error:
            raise MediumError(f"“{address}” is no address of a picture server: {error}.") from error
        self._watch, self._sleep, self._last, self._gap = watch, sleep, 0.0, 0.0

    def __enter__(self) -> PictureServer:
        return self

    def __exit__(self, *_error: object) -> None:
        self._connection.close()

    def hello(self) -> Hello:
        """Who it is. Raises MediumError."""
        found = self._told(self._asked("GET", HELLO), Hello)
        if found.protocol != VERSION:
            raise MediumError(f"{self.address} speaks version {found.protocol} of the protocol, this program "
                              f"{VERSION}.")
        self._gap = 60 / max(1, found.per_minute)
        return found

    def find(self, wants: Sequence[Want], batch: int,
             kinds: tuple[str, ...] = ()) -> Iterator[tuple[Want, Found | None]]:
        """Each game with what there is of it, batch by batch. Raises MediumError, Stopped."""
        batch = max(1, min(batch, 200))
        for start in range(0, len(wants), batch):
            some = tuple(wants[start:start + batch])
            data = msgspec.json.encode(Wants(some, kinds))
            if len(data) > LARGEST_QUESTION and len(some) > 1:
                yield from self.find(some, len(some) // 2, kinds)
                continue
            found = {each.id: each for each in self._told(self._asked("POST", FIND, data), Finds).found}
            for want in some:
                yield want, found.get(want.id)

    def picture(self, offered: Offered, width: int) -> bytes:
        """The bytes of a picture; the digest in its path is compared unless it was made smaller for us.

        Raises MediumError, Stopped.
        """
        digest = offered.path.removeprefix(PICTURE)
        if not offered.path.startswith(PICTURE) or not digest or any(c not in TOKEN for c in digest):
            raise MediumError(f"{self.address} names a picture at “{offered.path}”, which is no place for one.")
        data = self._asked("GET", f"{offered.path}?width={width}" if width else offered.path, most=LARGEST_PICTURE)
        if not width and hashlib.sha256(data).hexdigest() != digest.lower():
            raise MediumError(f"A picture of {self.address} has not the digest that it was offered with.")
        return data

    def _asked(self, method: str, path: str, data: bytes | None = None, most: int = LARGEST_ANSWER) -> bytes:
        wait, why = FIRST_WAIT, ""
        for attempt in range(TRIES):
            self._watch.check()
            self._pace()
            try:
                self._connection.request(method, path, data, {"Content-Type": "application/json"} if data else {})
                answer = self._connection.getresponse()
                body = self._read(answer, most + 1)
            except (OSError, http.client.HTTPException) as error:
                self._connection.close()
                is_cut = isinstance(error, http.client.IncompleteRead)
                why = "its answer ends early" if is_cut else str(error) or type(error).__name__
                self._wait(wait if attempt + 1 < TRIES else 0)
                wait *= 2
                continue
            if len(body) > most:
                self._connection.close()
                raise MediumError(f"{self.address} answers with more than {most >> 20} MiB; that is not read.")
            if answer.status == 200:
                return body
            why = _refusal(body) or f"it answers {answer.status}"
            if answer.status not in BUSY:
                raise MediumError(f"{self.address}: {why}")
            self._wait(_asked_to_wait(answer.getheader("Retry-After"), wait) if attempt + 1 < TRIES else 0)
            wait *= 2
        raise MediumError(f"{self.address} gives no answer: {why}. What was fetched is kept; it goes on from there.")

    def _read(self, answer: http.client.HTTPResponse, most: int) -> bytes:
        """A body, whole. Raises OSError, HTTPException where it takes too long or ends before its length, Stopped."""
        end, body, length = time.monotonic() + PATIENCE, bytearray(), answer.length
        whole = most if length is None else min(length, most)        # read1 does not count what it gives
        with closing(answer):
            while len(body) < whole and (piece := answer.read1(min(PIECE, whole - len(body)))):
                body += piece
                if len(body) < whole:
                    self._watch.check()
                if time.monotonic() > end:
                    raise TimeoutError(f"it takes longer than {PATIENCE} seconds for one answer")
        if length is not None and len(body) < whole:
            raise http.client.IncompleteRead(bytes(body), whole - len(body))
        return bytes(body)

    def _pace(self) -> None:
        """Not more requests a minute than the server takes; a few at once are allowed."""
        now = time.monotonic()
        self._last = max(self._last, now - 5 * self._gap) + self._gap
        if self._last > now:
            self._wait(self._last - now)

    def _wait(self, seconds: float) -> None:
        while seconds > 0:
            self._watch.check()
            self._sleep(min(seconds, AT_ONCE))
            seconds -= AT_ONCE

    def _told(self, body: bytes, kind: type[Told]) -> Told:
        try:
            return msgspec.json.decode(body, type=kind)
        except (msgspec.DecodeError, UnicodeDecodeError) as error:
            raise MediumError(f"{self.address} answers with something else than was asked: {error}.") from error


def _refusal(body: bytes) -> str:
    with suppress(msgspec.DecodeError, ValueError, json.JSONDecodeError):
        return msgspec.json.decode(body[:4096], type=Refusal).error[:200]
    return ""


def _asked_to_wait(header: str | None, otherwise: float) -> float:
    return min(float(header), LONGEST_WAIT) if header and header.isdecimal() else otherwise
