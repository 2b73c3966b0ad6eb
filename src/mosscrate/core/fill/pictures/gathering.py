"""Pictures for a filling: those that are brought in are scaled, those that are missing are asked of a server."""

from __future__ import annotations

import time
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from pathlib import PurePosixPath

import msgspec

from mosscrate.core.errors import MediumError, MossError
from mosscrate.core.fill.bringing import Brought, Role
from mosscrate.core.fill.digests import digest_of
from mosscrate.core.fill.origins import LocalFile, Packed
from mosscrate.core.fill.pictures.gallery import Answer, Gallery
from mosscrate.core.fill.pictures.protocol import Found, Want
from mosscrate.core.fill.pictures.server import PictureServer
from mosscrate.core.fill.placed import Bare
from mosscrate.core.fill.saves import stem_of, words_of
from mosscrate.core.watch import Watch

MOST_SUMMED = 64 << 20                   # bytes of a game that is read for its checksum
KINDS = ("box", "title", "screen")       # in order of liking


@dataclass(frozen=True)
class Gathered:
    """How many games got a picture, of how many there is none, and which could not be fetched."""

    found: int
    none: int
    failed: tuple[str, ...]

    @property
    def sentence(self) -> str:
        """For people."""
        failed = f" {len(self.failed)} could not be fetched: {self.failed[0]}" if self.failed else ""
        return f"Pictures of {self.found} games; of {self.none} the server has none.{failed}"


def fetch(address: str, bare: Sequence[Bare], gallery: Gallery, watch: Watch, *, width: int = 0,
          sleep: Callable[[float], None] = time.sleep) -> Gathered:
    """Ask a server for pictures of games; what it said and gave before is not asked again.

    Raises MediumError where it gives no answer, Stopped. What was fetched until then is kept.
    """
    with PictureServer(address, watch, sleep) as server:
        answers = gallery.answers_of(server.address)
        wants = [_want(game, number) for number, game in enumerate(bare)]
        asked = [want for want in wants if _key(want) not in answers]
        failed, fetched = list[str](), 0
        if asked:
            hello, by_id = server.hello(), dict(zip((want.id for want in wants), bare, strict=True))
            try:
                for want, found in server.find([_summed(each, by_id[each.id]) for each in asked], hello.batch, KINDS):
                    watch.progress("Fetching pictures", fetched, None)
                    try:
                        digest = _fetched(server, found, gallery, width)
                        answers[_key(want)] = Answer(digest, time.time())
                        fetched += gallery.held(digest).stat().st_size if digest else 0
                    except MediumError as error:
                        failed.append(f"“{want.name}”: {error}")
                        if len(failed) > len(asked) // 2 + 3:
                            raise
            finally:
                gallery.note_answers(server.address, answers)
    found_ = sum(bool(answers[_key(want)].digest) for want in wants if _key(want) in answers)
    return Gathered(found_, len(wants) - found_ - len(failed), tuple(failed))


def fetched_before(address: str, bare: Sequence[Bare], gallery: Gallery) -> list[Brought]:
    """Pictures that a server has given for games, as if they were brought in."""
    answers, pictures = gallery.answers_of(PictureServer(address, Watch()).address), list[Brought]()
    for number, game in enumerate(bare):
        answer = answers.get(_key(_want(game, number)))
        path = gallery.held(answer.digest) if answer is not None and answer.digest else None
        if path is not None and path.is_file():
            status, file = path.stat(), game.file
            place = file.path if file is not None else PurePosixPath(f"pictures/{game.name}")
            pictures.append(Brought(place.with_name(f"{stem_of(place.name)}.png"), LocalFile(path), "pictures fetched",
                                    status.st_size, int(status.st_mtime), Role.PICTURE, game.system,
                                    "a picture server has it", 1))
    return pictures


def _fetched(server: PictureServer, found: Found | None, gallery: Gallery, width: int) -> str:
    """The digest under which a picture is held; "" where there is none."""
    if found is None or not found.pictures:
        return ""
    best = min(found.pictures, key=lambda each: KINDS.index(each.kind) if each.kind in KINDS else len(KINDS))
    return gallery.hold(server.picture(best, width)).stem


def _want(game: Bare, number: int) -> Want:
    file = game.file
    title = file.title if file is not None and file.title else stem_of(game.name)
    return Want(str(number), game.system, title, file.size if file is not None else 0)


def _summed(want: Want, game: Bare) -> Want:
    """With the checksum of the game, where it is at hand."""
    file, crc = game.file, ""
    if file is not None and isinstance(file.origin, Packed) and file.origin.member.crc is not None:
        crc = f"{file.origin.member.crc:08x}"
    elif file is not None and file.packed is not None and file.packed.member.crc is not None:
        crc = f"{file.packed.member.crc:08x}"
    elif file is not None and file.size <= MOST_SUMMED and isinstance(file.origin, LocalFile):
        try:
            crc = digest_of("crc32", file.origin.read())
        except MossError:
            crc = ""
    return msgspec.structs.replace(want, crc32=crc)


def _key(want: Want) -> str:
    return f"{want.system}/{words_of(want.name)}/{want.size}"
