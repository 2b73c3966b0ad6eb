"""What a person calls a card, and what they noted of a card or a backup: a small file for each, the newest counts."""

from __future__ import annotations

import secrets
from contextlib import suppress
from datetime import UTC, datetime
from pathlib import Path

import msgspec

from mosscrate.core.durable import sync_folder, write_whole
from mosscrate.core.errors import CrateError
from mosscrate.core.there import entries

ENDING = ".note"
LONGEST_NAME, LONGEST_TEXT = 80, 4000    # letters
LARGEST = 64 << 10                       # bytes of a file of notes


class Note(msgspec.Struct, frozen=True):
    """One file. `about` is the key of a card or the id of a backup; `at` says when, in UTC, as it sorts."""

    about: str
    at: str
    name: str = ""
    text: str = ""


_NOTES = msgspec.json.Decoder(Note)


def notes_in(crate: Path) -> dict[str, Note]:
    """The newest note on each card and backup; what cannot be used as one is passed over."""
    found, paths = dict[str, Note](), list[Path]()
    with suppress(OSError):
        paths = entries(crate / "names", ENDING)
    for path in paths:
        try:
            note = _NOTES.decode(path.read_bytes()) if path.stat().st_size <= LARGEST else None
        except (OSError, ValueError):
            continue
        if note is not None and (note.about not in found or note.at > found[note.about].at):
            found[note.about] = note
    return found


def put_note(crate: Path, about: str, *, name: str = "", text: str = "") -> Note:
    """Note something; what was noted before of the same is removed. Raises CrateError where it is too long."""
    name, text = " ".join(name.split()), text.strip()
    if len(name) > LONGEST_NAME or len(text) > LONGEST_TEXT:
        raise CrateError(f"A name has {LONGEST_NAME} letters at most, a note {LONGEST_TEXT}. Nothing was noted.")
    note = Note(about, datetime.now(UTC).isoformat(timespec="microseconds"), name, text)
    path = crate / "names" / f"{secrets.token_hex(8)}{ENDING}"
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
        older = [path for path in entries(crate / "names", ENDING) if _is_about(path, about)]
        write_whole(path, msgspec.json.encode(note))
        for gone in older:
            gone.unlink(missing_ok=True)
        sync_folder(path.parent)
    except OSError as error:
        raise CrateError(f"The crate {crate} cannot be written: {error.strerror}. Nothing was noted.") from error
    return note


def _is_about(path: Path, about: str) -> bool:
    try:
        return _NOTES.decode(path.read_bytes()).about == about
    except (OSError, ValueError):
        return False
