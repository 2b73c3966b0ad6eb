"""A failure as it is told: the reason as a headline, what is intact and what helps below it."""

from __future__ import annotations

import re

LONGEST = 160                            # letters of a headline
_END = re.compile(r"(?<=[.!?…])\s+(?=[A-Z“‘(\d])")
_SHORTENED = ("no.", "e.g.", "approx.")


def reason_of(told: str) -> tuple[str, str]:
    """The first sentence, without its full stop, and the rest."""
    for found in _END.finditer(told):
        if not told[:found.start()].lower().endswith(_SHORTENED):
            first, rest = told[:found.start()], told[found.end():]
            break
    else:
        first, rest = told, ""
    return ("It could not be done", told) if len(first) > LONGEST else (first.removesuffix("."), rest)
