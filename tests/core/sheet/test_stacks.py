"""Taken back means the card as it was left: stacks of jobs that free room and use it again, judged from outside."""

from __future__ import annotations

import pytest

from tests import stacks

COUNT, CHUNK = 240, 20


@pytest.mark.parametrize("first", range(0, COUNT, CHUNK))
def test_a_stack_of_jobs_is_taken_back_to_every_byte_that_was_in_use(first):
    for seed in range(first, first + CHUNK):
        stacks.chance(seed)


@pytest.mark.parametrize("rule", stacks.RULES)
def test_the_search_finds_code_that_lets_go_or_claims_too_much(rule):
    assert stacks.caught(rule)
