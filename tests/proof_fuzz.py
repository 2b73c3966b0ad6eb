"""Random cards by the thousand: `./moss fuzz proof --cases N`."""

from __future__ import annotations

import tempfile
from collections import Counter
from pathlib import Path

from mosscrate.core.proof.size import Journal, prove_size
from mosscrate.core.watch import Watch
from tests.core.test_proof_size import problems
from tests.lying_cards import STANDARD, random_case
from tests.odd_cards import judged


def main(first: int, cases: int) -> int:
    """Judge so many; prints what is wrong, and how each kind was found. Returns how many were judged wrongly."""
    wrong, counted = 0, Counter[tuple[str, str]]()
    for seed in range(first, first + cases):
        case = random_case(seed)
        with tempfile.TemporaryDirectory() as folder:
            journal = Journal.begin(Path(folder), "key", "Pipkin", "ABCD", case.card.size, 0)
            verdict = prove_size(case.card, journal, Watch(), run_length=STANDARD)
            journal.end()
        found = problems(case, verdict)
        wrong += bool(found)
        for sentence in found:
            print(f"card {seed} ({case.kind}{', cached' if case.has_cache else ''}): {sentence}")
        ends = "held" if not verdict.is_false else "exact" if verdict.is_exact else "about"
        counted[case.kind, f"{verdict.stage}, {ends}"] += 1
    for seed in range(first, first + cases):
        with tempfile.TemporaryDirectory() as folder:
            found = judged(seed, Path(folder))
        wrong += bool(found)
        for sentence in found:
            print(f"odd card {seed}: {sentence}")
    for (kind, how), number in sorted(counted.items()):
        print(f"{kind:16} {how:14} {number:6}")
    print(f"{2 * cases} cards, {wrong} of them judged wrongly")
    return wrong
