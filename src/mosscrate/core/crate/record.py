"""The record beside each kept image: what it is, how it was read, whether it was verified.

A JSON file; docs/formats/backup-record.md describes it field by field.
"""

from __future__ import annotations

import re
from datetime import datetime
from pathlib import Path
from typing import Any

import msgspec
from msgspec.structs import replace

from mosscrate.core.blocks import Blocks
from mosscrate.core.durable import write_whole
from mosscrate.core.errors import CrateError
from mosscrate.core.images import packed_in
from mosscrate.core.images.kept.manifest import CardRecord

FORMAT = 1


class HoledFile(msgspec.Struct, frozen=True):
    """A file or folder that a failing card gave only in part; `holes` are [first byte of it, length]."""

    partition: int
    path: str
    holes: list[tuple[int, int]]
    is_folder: bool = False


class BackupRecord(msgspec.Struct, frozen=True):
    """One kept state. `blake3` is over all `length` bytes; `unreadable` holds [start, length] pairs.

    Of a rescue, `not_asked` are such pairs of free room that was left out, `holed` and `whole` tell of its files.
    """

    card: CardRecord
    kept_at: str                      # ISO 8601 with zone
    image: str                        # file name beside the record
    length: int
    written: int                      # bytes that were not zeros
    blake3: str
    seconds: float
    verified: bool
    unreadable: list[tuple[int, int]] = []
    layout: dict[str, Any] = {}
    not_asked: list[tuple[int, int]] = []
    holed: list[HoledFile] = []
    whole: int | None = None
    fresh: int | None = None          # bytes that no backup had before; None where that is not known
    format: int = FORMAT

    @property
    def is_complete(self) -> bool:
        """Whether every byte of the card was read."""
        return not self.unreadable


def as_large_as_it_is(card: CardRecord, blocks: Blocks) -> CardRecord:
    """A card that is a packed disk: how large that is may have been learnt only by unpacking it."""
    packed = packed_in(blocks)
    return card if packed is None or blocks.container != "raw" else replace(card, size=packed.size)


_RECORDS = msgspec.json.Decoder(BackupRecord)


def load(path: Path) -> BackupRecord:
    """Read a record. Raises CrateError."""
    try:
        record = _RECORDS.decode(path.read_bytes())
    except (OSError, ValueError) as error:
        raise CrateError(f"The record {path} cannot be used: {error}. The image beside it is untouched.") from error
    if record.format != FORMAT:
        raise CrateError(f"The record {path} is of format {record.format}; this program knows {FORMAT}.")
    _must_make_sense(path, record)
    return record


def _must_make_sense(path: Path, record: BackupRecord) -> None:
    """Raises CrateError that names the field and what was expected: records come from wherever people copy them."""
    wrong = ""
    if record.image != Path(record.image).name or record.image in ("", ".", "..") or "\0" in record.image:
        wrong = f"“image” is {record.image!r}, expected the name of a file beside it"
    elif record.length < 0 or record.written < 0 or any(s < 0 or n < 0 for s, n in record.unreadable):
        wrong = "a length in it is negative"
    elif not re.fullmatch("[0-9a-f]{64}", record.blake3):
        wrong = f"“blake3” is {record.blake3[:70]!r}, expected 64 hexadecimal digits"
    else:
        try:
            if datetime.fromisoformat(record.kept_at).tzinfo is None:
                wrong = f"“kept_at” is {record.kept_at[:40]!r}, expected a date with its zone"
        except ValueError:
            wrong = f"“kept_at” is {record.kept_at[:40]!r}, expected a date such as 2026-11-20T08:00:00+00:00"
    if wrong:
        raise CrateError(f"The record {path} cannot be used: {wrong}. The image beside it is untouched.")


def digest_beside(image: Path) -> str:
    """BLAKE3 that the record beside an image says of it; "" where there is none that belongs to it."""
    try:
        record = load(image.with_suffix(".json"))
    except CrateError:
        return ""
    return record.blake3 if record.image == image.name else ""


def save(path: Path, record: BackupRecord) -> None:
    """Write a record so that it is whole or absent."""
    write_whole(path, msgspec.json.format(msgspec.json.encode(record), indent=2))
