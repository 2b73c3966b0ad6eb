"""A seeded tenth of what `./moss fuzz` runs."""

from __future__ import annotations

import pytest

from tests import fuzz


@pytest.mark.parametrize("seed", [11, 12])
def test_a_thousand_damaged_cards_end_in_a_reading_or_an_error_of_ours(seed):
    ended = fuzz.run(1000, seed)
    assert ended["read"] > 0
    assert ended["refused"] + ended["closed"] > 0
