"""A proof says what it compared: every byte of a mark, every stretch that does not hold, an end only where it asked."""

from __future__ import annotations

import pytest

from tests.odd_cards import judged


@pytest.mark.parametrize("first", range(0, 120, 20))
def test_small_lies_are_found_and_named_and_nothing_is_said_exactly_that_was_not_asked(first, tmp_path):
    for seed in range(first, first + 20):
        assert judged(seed, tmp_path) == [], seed


def test_a_card_of_which_every_block_above_its_end_shows_another_in_part_is_false(tmp_path):
    """No two blocks show one mark whole: what is known of it are marks that stand where they were not written."""
    assert judged(20_006, tmp_path) == []
