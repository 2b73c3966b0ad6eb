"""How the program speaks, as far as a test can hold it: sentences that read like riddles do not come back."""

from __future__ import annotations

import re

import pytest

from tests.words import Sentence, sentences

RIDDLES = (r"may be pulled", r"safe to pull", r"at both ends", r"else was looked", r"gone on with",
           r"needs? a word", r"done otherwise", r"nothing tells what for", r"in its own length",
           r"has not or otherwise", r"leave them so\b", r"takes no room again", r"choose both ends",
           r"holds what it claims", r"other places on their volume", r"What was noticed",
           r"little speaks", r"no system’s")


def test_no_sentence_is_one_of_the_riddles():
    told = [each for each in sentences() if re.search("|".join(RIDDLES), each.text) and not _is_stored(each)]
    assert not told, "\n".join(f"{each.place}: {each.text}" for each in told)


def _is_stored(each: Sentence) -> bool:
    """A word by which earlier versions have noted a result; nobody reads it."""
    return each.place.startswith("mosscrate/core/proof/size/verdict.py") and each.text == "holds what it claims"


@pytest.mark.parametrize(("code", "found"), [
    ('"""Not said."""\nx = f"You can take {name} out now."', ["You can take {} out now."]),
    ('@click.command()\ndef f():\n    """Help of a command."""', ["Help of a command."]),
    ('x = y("key", f"{a} and", z="two words")', ["two words"])])
def test_sentences_are_found_in_the_code(tmp_path, code, found):
    (tmp_path / "said.py").write_text(code)
    assert [each.text for each in sentences(tmp_path)] == found
