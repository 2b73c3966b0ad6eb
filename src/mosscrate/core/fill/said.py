"""What a person has said of the folders of a card: asked once, and known whenever that card comes again."""

from __future__ import annotations

from pathlib import Path

import msgspec

from mosscrate.core.durable import write_whole
from mosscrate.core.errors import PlanError

FILE = "folders-said.json"
MOST_CARDS = 500                         # the oldest are forgotten
_SAID = msgspec.json.Decoder(dict[str, dict[str, str]])


def said_of(state: Path, key: str) -> dict[str, str]:
    """Folder → system ("" for none) of the card with a key."""
    return _all(state).get(key, {})


def remember(state: Path, key: str, said: dict[str, str]) -> None:
    """Note what was said beside what is known. Raises PlanError where it cannot be written."""
    known = _all(state)
    own = known.pop(key, {}) | said
    kept = dict(list({**known, key: own}.items())[-MOST_CARDS:])
    try:
        state.mkdir(parents=True, exist_ok=True)
        write_whole(state / FILE, msgspec.json.encode(kept))
    except OSError as error:
        raise PlanError(f"What you said of this card cannot be noted in {state}: {error.strerror}.") from error


def _all(state: Path) -> dict[str, dict[str, str]]:
    try:
        return _SAID.decode((state / FILE).read_bytes())
    except (OSError, ValueError):
        return {}
