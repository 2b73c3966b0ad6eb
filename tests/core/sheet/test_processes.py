"""Real processes: killed at random, two at once, with full disks. tests/processes.py is the program that is run."""

from __future__ import annotations

import subprocess
import sys
from pathlib import Path

import pytest

from tests.loops import needs_root

ROOT = Path(__file__).parents[3]


def run(*words: object, program: str = "tests.processes") -> str:
    done = subprocess.run([sys.executable, "-m", program, *map(str, words)], cwd=ROOT, capture_output=True,
                          text=True, check=False)
    assert done.returncode == 0, done.stderr[-3000:]
    return done.stdout


@pytest.mark.parametrize("seed", range(5))
def test_killed_at_any_moment_a_card_is_as_before_or_as_after_and_so_are_the_words(seed, tmp_path):
    assert "12 kills" in run("kills", seed, 12, tmp_path)


@needs_root
@pytest.mark.parametrize("seed", range(5, 10))
def test_killed_at_any_moment_a_device_is_as_before_or_as_after_and_so_are_the_words(seed, tmp_path):
    assert "6 kills" in run("kills", seed, 6, tmp_path, "loop")


@pytest.mark.parametrize("seed", [1, 2])
def test_of_two_processes_at_once_one_works_and_the_other_is_told(seed, tmp_path):
    assert "100 pairs" in run("pairs", seed, 100, tmp_path)


@needs_root
def test_a_full_disk_ends_in_a_sentence_with_the_card_whole(tmp_path):
    assert "30 sizes" in run("full", 3, 30, tmp_path)


def test_a_proof_that_is_killed_at_any_moment_leaves_what_was_on_the_card_to_be_put_back(tmp_path):
    assert "30 proofs" in run("proofs", 4, 30, tmp_path)


@pytest.mark.parametrize("seed", [11, 12])
def test_commands_that_are_killed_at_any_write_can_be_undone_or_finished(seed, tmp_path):
    assert "16 commands" in run(seed, 16, tmp_path, program="tests.command_kills")


def test_a_crate_on_which_one_of_two_is_killed_is_whole(tmp_path):
    assert "12 acts on a crate" in run(3, 12, tmp_path, program="tests.crate_kills")
