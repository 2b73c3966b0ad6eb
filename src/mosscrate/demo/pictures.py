"""A picture server with made-up pictures of any game, for trying: see docs/formats/pictures.md."""

from __future__ import annotations

import hashlib
import io
import json
import threading
from collections.abc import Callable
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer

from PIL import Image, ImageDraw

SIZE = (512, 716)
LARGEST = 256 << 10
UNKNOWN = "no picture"                   # games with these words in their names have none


class PictureStand:
    """Runs on a port of this computer while it is used as a context."""

    def __init__(self, port: int = 0) -> None:
        self.pictures: dict[str, bytes] = {}
        self.asked: list[str] = []       # requests, for tests
        self.refuse: list[tuple[int, str]] = []      # (status, Retry-After) of the next answers, for tests
        self.cut: list[int] = []         # bytes after which the next answers end, for tests
        stand = self

        class Handler(BaseHTTPRequestHandler):
            protocol_version = "HTTP/1.1"

            def do_GET(self) -> None:
                stand.asked.append(self.path)
                self._answer(*stand.get(self.path))

            def do_POST(self) -> None:
                stand.asked.append(self.path)
                length = int(self.headers.get("Content-Length", "0"))
                self._answer(*(stand.find(self.rfile.read(length)) if length <= LARGEST else
                               _refused(413, "The question is too long.")))

            def _answer(self, status: int, kind: str, body: bytes) -> None:
                wait = ""
                if stand.refuse:
                    status, wait = stand.refuse.pop(0)
                    kind, body = "application/json", b'{"error": "Too many questions."}'
                head = f"HTTP/1.1 {status} -\r\nContent-Type: {kind}\r\nContent-Length: {len(body)}\r\n"
                head += f"Retry-After: {wait}\r\n" if wait else ""
                if stand.cut:
                    body, self.close_connection = body[:stand.cut.pop(0)], True
                self.wfile.write(head.encode() + b"\r\n" + body)     # in one piece: two would wait for each other

            def log_message(self, *_words: object) -> None:
                """Say nothing."""

        self._server = ThreadingHTTPServer(("127.0.0.1", port), Handler)

    @property
    def address(self) -> str:
        """Where it is."""
        return f"http://127.0.0.1:{self._server.server_port}"

    def __enter__(self) -> PictureStand:
        threading.Thread(target=self._server.serve_forever, daemon=True).start()
        return self

    def __exit__(self, *_error: object) -> None:
        self._server.shutdown()
        self._server.server_close()

    def get(self, path: str) -> tuple[int, str, bytes]:
        """Status, type and bytes of an answer."""
        if path == "/1":
            return _told({"protocol": 1, "name": "Heron Lane pictures", "per_minute": 6000, "batch": 100,
                          "kinds": ["box"]})
        digest = path.partition("?")[0].removeprefix("/1/picture/")
        data = self.pictures.get(digest)
        return (200, "image/png", data) if data is not None else _refused(404, "There is no such picture.")

    def find(self, question: bytes) -> tuple[int, str, bytes]:
        """What there is of some games: a picture of each, drawn from its name."""
        try:
            wants = [(str(want["id"]), str(want["system"]), str(want["name"]), bool(want.get("crc32")))
                     for want in json.loads(question)["want"]]
        except (ValueError, KeyError, TypeError):
            return _refused(400, "That is no question of this protocol.")
        found = []
        for id_, system, name, has_sum in wants:
            if UNKNOWN in name.casefold():
                continue
            data = drawn(system, name)
            digest = hashlib.sha256(data).hexdigest()
            self.pictures[digest] = data
            found.append({"id": id_, "by": "crc32" if has_sum else "name", "pictures": [
                {"kind": "box", "path": f"/1/picture/{digest}", "bytes": len(data), "type": "image/png"}]})
        return _told({"found": found})


def drawn(system: str, name: str) -> bytes:
    """A made-up box: stripes and a hill in colours that come from the name."""
    seed = hashlib.sha256(f"{system} {name}".encode()).digest()
    picture = Image.new("RGB", SIZE, tuple(40 + each % 120 for each in seed[:3]))
    draw = ImageDraw.Draw(picture)
    for number in range(6):
        top = seed[3 + number] * SIZE[1] // 400
        draw.rectangle((0, top, SIZE[0], top + 10 + seed[9 + number] // 8),
                       fill=tuple(60 + each % 180 for each in seed[15 + number:18 + number]))
    draw.ellipse((-100, SIZE[1] // 2, SIZE[0] + 100, SIZE[1] * 2), fill=tuple(30 + each % 90 for each in seed[24:27]))
    into = io.BytesIO()
    picture.save(into, "PNG")
    return into.getvalue()


def serve(say: Callable[[str], None]) -> None:
    """Until it is stopped."""
    with PictureStand() as stand:
        say(f"A picture server with made-up pictures answers at {stand.address}. Stop it with Ctrl+C.")
        try:
            threading.Event().wait()
        except KeyboardInterrupt:
            say("Stopped.")


def _told(what: object) -> tuple[int, str, bytes]:
    return 200, "application/json", json.dumps(what).encode()


def _refused(status: int, sentence: str) -> tuple[int, str, bytes]:
    return status, "application/json", json.dumps({"error": sentence}).encode()
