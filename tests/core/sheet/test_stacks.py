"""Taken back means the card as it was left: stacks of jobs that free room and use it again, judged from outside."""

from __future__ import annotations

import struct

import pytest

from mosscrate.core.blocks import Extent
from mosscrate.core.blocks.stretches import Stretches
from mosscrate.core.contents.fingerprint import State
from tests import stacks
from tests.volumes import fresh

COUNT, CHUNK = 300, 20


@pytest.mark.parametrize("first", range(0, COUNT, CHUNK))
def test_a_stack_of_jobs_is_taken_back_to_every_byte_that_was_in_use(first):
    for seed in range(first, first + CHUNK):
        stacks.chance(seed)


@pytest.mark.parametrize("rule", stacks.RULES)
def test_the_search_finds_code_that_lets_go_or_claims_too_much(rule):
    assert stacks.caught(rule)


def test_sectors_behind_the_last_cluster_are_not_free_room():
    card = fresh("fat16", block=2048)
    sector, cluster, reserved, fats, roots, total, _, length = struct.unpack_from("<HBHBHHBH", card.data, 11)
    body = reserved + fats * length + roots * 32 // sector
    total = body + (total - body) // cluster * cluster - 1            # a cluster less, and three sectors
    struct.pack_into("<H", card.data, 19, total)
    free = State(card).free
    assert free.holds((total - 3 - cluster) * sector, (total - 3) * sector)
    assert not free & Stretches.of([Extent((total - 3) * sector, 3 * sector)])
