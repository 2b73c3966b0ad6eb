"""A forecast and a run are one decision: they agree in words, layout and refusals, whatever is asked."""

from __future__ import annotations

import pytest

from tests import sheets

COUNT, CHUNK = 2000, 100


@pytest.mark.parametrize("first", [*range(0, COUNT, CHUNK), 7000])      # 7010: room for less than a block
def test_any_sequence_of_steps_does_what_its_forecast_said(first):
    for seed in range(first, first + CHUNK):
        sheets.chance(seed)


def test_a_forecast_that_lies_is_found_out(monkeypatch):
    from mosscrate.core.sheet.steps.map.add import AddPartition

    sheets.bases()                                             # made by sound code, whichever test comes first
    honest = AddPartition.act

    def act(self, card, decided, watch, source=None):
        return honest(self, card, type(decided)(**{**decided.__dict__, "map": card.map}), watch, source)
    monkeypatch.setattr(AddPartition, "act", act)
    with pytest.raises(sheets.Disagreement):
        for seed in range(2000):
            sheets.chance(seed)
