"""A card and its jobs under everything that can happen to them: tests/histories.py has the world and the search."""

from __future__ import annotations

import pytest

from mosscrate.core.blocks import Extent
from mosscrate.core.sheet.running.job import Job
from mosscrate.core.sheet.running.journal.stack import Undone
from mosscrate.core.sheet.running.journal.structures import Standing
from mosscrate.core.sheet.running.journal.writing import JournalledBlocks
from mosscrate.core.sheet.sheet import JobSheet
from tests import histories
from tests.histories import ROOM, SECTOR, Program, Seen, World, fresh, value


def test_every_history_of_three_acts_with_a_crash_anywhere_ends_in_true_words():
    assert histories.exhaustive(1, 3) > 400
    assert histories.exhaustive(2, 2) > 2000


@pytest.mark.parametrize("first", range(0, 1000, 250))
def test_a_history_with_everything_that_happens_ends_in_true_words(first):
    for seed in range(first, first + 250):
        histories.chance(seed)


@pytest.mark.parametrize("rule", histories.RULES)
def test_the_search_finds_code_that_breaks_a_rule(rule):
    assert histories.caught(rule)


def test_room_that_a_job_has_saved_is_not_let_go_by_the_next():
    world = World({"A": fresh("", free=1 << 6)})
    before, program = world.contents(), Program(world, {})
    for job in ("j1", "j2"):
        program.log.save(Job(job, JobSheet(()), "", nonce=f"{0:032x}"))
        over = JournalledBlocks(program.stack.card, program.stack.begin(job, room=ROOM), 0, Seen)
        if job == "j2":
            over.forgo([Extent(6 * SECTOR, SECTOR)])
        over.write(6 * SECTOR, value(job))
        over.end_step(1)
        program.stack.settle_done(over.journal)
        program.stack.last_word(job, Standing.DONE)
    assert program.undo("j2") == Undone.NOW
    assert program.undo("j1") == Undone.NOW
    assert world.contents() == before
