"""The whole migration on the demo bench, told step by step."""

from __future__ import annotations

import shutil
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

from mosscrate.core.contents import survey
from mosscrate.core.sheet.planning.forecasting import forecast
from mosscrate.core.sheet.planning.losses import what_would_be_lost
from mosscrate.core.sheet.planning.propose import propose
from mosscrate.core.sheet.running import run as running
from mosscrate.core.sizes import binary, counted, duration
from mosscrate.core.watch import Watch
from mosscrate.demo.cards import bench_at


def run_headless(folder: Path | None, watch: Watch, say: Callable[[str], None]) -> None:
    """Build the bench, keep the worn card, write, grow, verify and say what was done. Raises MossError."""
    place = folder or Path(tempfile.mkdtemp(prefix="mosscrate-demo-"))
    try:
        _journey(place, watch, say)
    finally:
        if folder is None:
            shutil.rmtree(place, ignore_errors=True)


def _journey(folder: Path, watch: Watch, say: Callable[[str], None]) -> None:
    begun = time.monotonic()
    bench = bench_at(folder)
    say(f"Heron Lane is set up in {folder} ({duration(time.monotonic() - begun)}).")
    old, new = bench.shelf.find("pipkin"), bench.shelf.find("blank")
    with old.open() as a, new.open() as b:
        before, blank = survey(a), survey(b)
    for look in before.partitions:
        summary = look.volume.summary if look.volume else ""
        say(f"  {old.name}: {look.name}, {binary(look.partition.length)}, {summary}, {look.role}")
    for finding in what_would_be_lost(new, blank, bench.crate):
        say(f"  {new.name}: {finding.sentence}")
    sheet = propose(old, before, new, blank, bench.crate)
    plan = forecast(sheet, before, blank)
    say("The sheet:")
    for number, line in enumerate(plan.lines, start=1):
        say(f"  {number}  {line.sentence}")
    rehearsal = running.rehearse(sheet, bench, watch)
    say(f"Rehearsed in {duration(rehearsal.seconds)}; {binary(rehearsal.scratch)} held aside, nothing written.")
    result = running.run(sheet, bench, watch, typed_tag=new.tag)
    say("Run:")
    for number, done in enumerate(result.done, start=1):
        say(f"  {number}  {done.sentence}")
    with new.open() as blocks:
        after = survey(blocks, thorough=True)
    last = after.last()
    assert last is not None, "the run has verified it"
    say(f"{new.name}: {last.name} has {binary(last.partition.length)} now, {counted(after.files, 'file')}, "
        f"{counted(len(after.findings), 'finding')}. {duration(result.seconds)} in all.")
