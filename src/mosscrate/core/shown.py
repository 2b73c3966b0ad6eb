"""Names as people see them: what steers a terminal or turns the direction of a line is shown as what it is."""

from __future__ import annotations

import re

# C0, C1 and DEL; marks that turn or hide the direction of text; lines and paragraphs; bytes that are no text at all
_STEERING = "\x00-\x1f\x7f-\x9f\u061c\u200e\u200f\u2028-\u202e\u2066-\u2069\ud800-\udfff"
_ALL, _BUT_LINES = re.compile(f"[{_STEERING}]"), re.compile(f"(?![\n\t])[{_STEERING}]")


def shown(name: str) -> str:
    """A name from a card, an archive or a device, for a line of its own."""
    return _ALL.sub(_escaped, name)


def shown_lines(text: str) -> str:
    """The same for text that has lines."""
    return _BUT_LINES.sub(_escaped, text)


def shown_json(text: str) -> str:
    """The same for JSON with lines, which stays JSON of the same value."""
    return _BUT_LINES.sub(lambda found: f"\\u{ord(found.group()):04x}", text)


def _escaped(found: re.Match[str]) -> str:
    code = ord(found.group())
    if 0xDC80 <= code <= 0xDCFF:                         # a byte that was no text
        return f"\\x{code - 0xDC00:02x}"
    return {10: "\\n", 13: "\\r", 9: "\\t"}.get(code) or (f"\\x{code:02x}" if code < 256 else f"\\u{code:04x}")
