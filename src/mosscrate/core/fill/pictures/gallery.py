"""Pictures that were scaled or fetched before, and what servers answered: a folder that can be thrown away."""

from __future__ import annotations

import time
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from pathlib import Path

import msgspec
from blake3 import blake3

from mosscrate.core.durable import write_whole
from mosscrate.core.errors import MediumError, MossError
from mosscrate.core.fill.bringing import Brought
from mosscrate.core.fill.origins import LocalFile
from mosscrate.core.fill.pictures.scaling import LARGEST, Fit, scaled
from mosscrate.core.watch import Watch

AT_ONCE = 2                              # pictures that are scaled side by side
NONE_FOR = 30 * 24 * 3600                # seconds for which "there is none" is believed


class Answer(msgspec.Struct, frozen=True):
    """What a server said of a game: the digest of a picture, "" for none; `at` in seconds since 1970."""

    digest: str
    at: float


_ANSWERS = msgspec.json.Decoder(dict[str, Answer])


@dataclass(frozen=True)
class Gallery:
    """The folder."""

    folder: Path

    def ready(self, picture: Brought, fit: Fit) -> LocalFile | None:
        """A picture as it is wanted, where it was made before."""
        path = self._path(picture, fit)
        return LocalFile(path) if path.is_file() else None

    def why_not(self, picture: Brought, fit: Fit) -> str:
        """Why a picture could not be made; "" where nobody has tried."""
        try:
            return self._path(picture, fit).with_suffix(".why").read_text("utf-8")
        except (OSError, UnicodeDecodeError):
            return ""

    def make(self, pictures: list[Brought], fit: Fit, watch: Watch) -> int:
        """Make those that are not made yet; returns how many can be used. Raises Stopped, MediumError."""
        self._must_be_there()
        by_path = {self._path(each, fit): each for each in pictures}     # several games may have one picture
        size, through, made = sum(each.size for each in by_path.values()), 0, dict[Path, bool]()
        with ThreadPoolExecutor(AT_ONCE) as workers:
            try:
                for (path, each), is_made in zip(by_path.items(), workers.map(
                        lambda one: self._make(one, fit), by_path.values()), strict=True):
                    made[path], through = is_made, through + each.size
                    watch.progress("Scaling pictures", through, size)
            finally:
                workers.shutdown(cancel_futures=True)
        return sum(made[self._path(each, fit)] for each in pictures)

    def hold(self, data: bytes) -> Path:
        """Keep a fetched picture, by its digest. Raises MediumError."""
        path = self.held(blake3(data).hexdigest())
        self._must_be_there()
        _write(path, data)
        return path

    def held(self, digest: str) -> Path:
        """Where a fetched picture lies."""
        return self.folder / f"{digest}.fetched"

    def answers_of(self, server: str) -> dict[str, Answer]:
        """What a server said, by game; old refusals are forgotten."""
        try:
            found = _ANSWERS.decode(self._answers(server).read_bytes())
        except (OSError, ValueError):
            return {}
        return {key: each for key, each in found.items() if each.digest or time.time() - each.at < NONE_FOR}

    def note_answers(self, server: str, answers: dict[str, Answer]) -> None:
        """Note what a server said. Raises MediumError."""
        self._must_be_there()
        _write(self._answers(server), msgspec.json.encode(answers))

    def _make(self, picture: Brought, fit: Fit) -> bool:
        path = self._path(picture, fit)
        if path.is_file():
            return True
        try:
            if picture.size > LARGEST:
                raise MediumError(f"{picture.path.name} is too large for a picture.")
            _write(path, scaled(b"".join(picture.origin.read()), fit, picture.path.name))
        except MossError as error:
            _write(path.with_suffix(".why"), str(error).encode())
            return False
        return True

    def _path(self, picture: Brought, fit: Fit) -> Path:
        key = f"{picture.origin.said}\0{picture.origin.home}\0{picture.size}\0{picture.modified}\0{picture.print.hex()}"
        return self.folder / f"{blake3(key.encode('utf-8', 'surrogateescape')).hexdigest()[:32]}-{fit.name}"

    def _answers(self, server: str) -> Path:
        return self.folder / f"{blake3(server.encode()).hexdigest()[:16]}.answers"

    def _must_be_there(self) -> None:
        try:
            self.folder.mkdir(parents=True, exist_ok=True)
        except OSError as error:
            raise MediumError(f"Pictures cannot be kept in {self.folder}: {error.strerror}.") from error


def _write(path: Path, data: bytes) -> None:
    try:
        write_whole(path, data)
    except OSError as error:
        raise MediumError(f"{path} cannot be written: {error.strerror}.") from error
