"""A card and its jobs under everything that can happen to them: tests/histories.py has the world and the search."""

from __future__ import annotations

import pytest

from tests import histories


def test_every_history_of_three_acts_with_a_crash_anywhere_ends_in_true_words():
    assert histories.exhaustive(1, 3) > 400
    assert histories.exhaustive(2, 2) > 2000


@pytest.mark.parametrize("first", range(0, 2500, 250))
def test_a_history_with_everything_that_happens_ends_in_true_words(first):
    for seed in range(first, first + 250):
        histories.chance(seed)


@pytest.mark.parametrize("rule", histories.RULES)
def test_the_search_finds_code_that_breaks_a_rule(rule):
    assert histories.caught(rule)
