"""What a person has said of a card: whose its folders are, and the plan by which it was filled; asked once."""

from __future__ import annotations

from pathlib import Path

import msgspec

from mosscrate.core.durable import write_whole
from mosscrate.core.errors import PlanError

FILE = "cards-said.json"
MOST_CARDS = 500                         # the oldest are forgotten


class Said(msgspec.Struct, frozen=True):
    """Of one card: folder → system ("" for none), and the id of a plan ("" for its own)."""

    folders: dict[str, str] = {}
    plan: str = ""


_SAID = msgspec.json.Decoder(dict[str, Said])


def said_of(state: Path, key: str) -> dict[str, str]:
    """Folder → system ("" for none) of the card with a key."""
    return _all(state).get(key, Said()).folders


def plan_of(state: Path, key: str) -> str:
    """The id of the plan by which a card was filled the last time; "" for its own, or where it never was."""
    return _all(state).get(key, Said()).plan


def remember(state: Path, key: str, folders: dict[str, str]) -> None:
    """Note whose folders are, beside what is known. Raises PlanError where it cannot be written."""
    known = _all(state).get(key, Said())
    _note(state, key, msgspec.structs.replace(known, folders=known.folders | folders))


def remember_plan(state: Path, key: str, plan: str) -> None:
    """Note by which plan a card is filled. Raises PlanError where it cannot be written."""
    known = _all(state).get(key, Said())
    if known.plan != plan:
        _note(state, key, msgspec.structs.replace(known, plan=plan))


def _note(state: Path, key: str, said: Said) -> None:
    others = {other: each for other, each in _all(state).items() if other != key}
    kept = dict(list({**others, key: said}.items())[-MOST_CARDS:])
    try:
        state.mkdir(parents=True, exist_ok=True)
        write_whole(state / FILE, msgspec.json.encode(kept))
    except OSError as error:
        raise PlanError(f"What you said of this card cannot be noted in {state}: {error.strerror}.") from error


def _all(state: Path) -> dict[str, Said]:
    try:
        return _SAID.decode((state / FILE).read_bytes())
    except (OSError, ValueError):
        return {}
