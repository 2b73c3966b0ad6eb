"""What was proved of a card, a line each time: it stays with the card for whoever looks at it later."""

from __future__ import annotations

import os
from collections.abc import Iterator
from contextlib import suppress
from pathlib import Path

import msgspec

from mosscrate.core.contents import Layout
from mosscrate.core.findings import Finding, Severity
from mosscrate.core.sheet.bench import Bench
from mosscrate.core.slots import Medium

PROVED = "Proved on"
ABOUT_THE_CARD = ("size", "write", "read")                 # questions whose last answer is true until it is asked again


class Noted(msgspec.Struct, frozen=True):
    """A line of a card's history: when, which question, what was said, the rate in bytes a second."""

    when: str
    question: str
    sentence: str
    is_good: bool
    rate: float = 0.0


def note(medium: Medium, bench: Bench, question: str, sentence: str, *, is_good: bool, rate: float = 0.0) -> None:
    """Add to the card's history; a full disk is no reason to take a verdict back."""
    line = Noted(bench.crate.now().isoformat(timespec="seconds"), question, sentence, is_good, rate)
    with suppress(OSError):
        path = _path(medium, bench)
        path.parent.mkdir(parents=True, exist_ok=True)
        with path.open("ab") as file:
            file.write(msgspec.json.encode(line) + b"\n")
            os.fsync(file.fileno())


def history(medium: Medium, bench: Bench) -> list[Noted]:
    """What was proved of a card before, the newest last."""
    found = []
    with suppress(OSError):
        for line in _path(medium, bench).read_bytes().splitlines():
            with suppress(msgspec.MsgspecError):
                found.append(msgspec.json.decode(line, type=Noted))
    return found


def bad_verdicts(medium: Medium, bench: Bench) -> Iterator[Finding]:
    """What the last proofs found wrong with a card: it is false, it wears out, or it cannot be read everywhere."""
    last = {line.question: line for line in history(medium, bench)}
    for question in ABOUT_THE_CARD:
        line = last.get(question)
        if line is not None and not line.is_good:
            yield Finding(Severity.PROBLEM, f"{PROVED} {line.when[:10]}: {line.sentence}",
                          remedy="Put nothing on it that you want to keep. Prove it again to take this back.")


def proved_bad(layout: Layout) -> tuple[Finding, ...]:
    """The same among the findings of a card that was looked at on a bench."""
    return tuple(finding for finding in layout.findings if finding.sentence.startswith(PROVED))


def _path(medium: Medium, bench: Bench) -> Path:
    return bench.state / "proved" / f"{medium.key}.jsonl"
