"""What the shell says of a sheet: before it runs, and after."""

from __future__ import annotations

from collections.abc import Callable
from contextlib import ExitStack
from pathlib import Path

import msgspec

from mosscrate.cli.progress import watching
from mosscrate.cli.speaking import say, show_json
from mosscrate.core.contents import describe, survey
from mosscrate.core.errors import FitError
from mosscrate.core.sheet.bench import Bench
from mosscrate.core.sheet.planning.forecasting import Forecast, forecast
from mosscrate.core.sheet.running import run as running
from mosscrate.core.sheet.sheet import JobSheet, save_sheet
from mosscrate.core.sizes import duration


def run_sheet(bench: Bench, made: JobSheet, tag: str, *, as_json: bool,
              tell: Callable[[Forecast], None] | None = None) -> None:
    """Run a sheet and print what each step did; `tell` says before what will be done. Raises MossError."""
    with watching() as watch:
        result = running.run(made, bench, watch, typed_tag=tag, tell=tell)
    print_result(result, as_json=as_json, last=f"Done in {duration(result.seconds)}. "
                  f"Job {result.job.id if result.job else ''}.")


def print_result(result: running.Result, *, as_json: bool, last: str) -> None:
    """Print what each step did."""
    if as_json:
        show_json({"steps": [msgspec.to_builtins(d) for d in result.done], "seconds": round(result.seconds, 3),
                   "job": result.job.id if result.job else None})
        return
    for number, done in enumerate(result.done, start=1):
        say(f"  {number}  {done.sentence}  ({duration(done.seconds)})")
    say(last)


def put_out(made: JobSheet, seen: Forecast, out: Path | None, *, as_json: bool) -> None:
    """Print a sheet; save it when a place is given. Raises FitError when a step does not fit."""
    must_fit(seen)
    if as_json:
        show_json({"sheet": msgspec.to_builtins(made), "steps": [line.sentence for line in seen.lines],
                   "layout": describe(seen.layout) if seen.layout else None})
    else:
        for number, line in enumerate(seen.lines, start=1):
            say(f"  {number}  {line.sentence}" + (f"  ({line.note})" if line.note else ""))
    if out:
        save_sheet(made, out)
    if made.target and not as_json:
        say(f"Perhaps up to {duration(seen.seconds)}. Nothing is written yet."
            + (f" To run it: mosscrate sheet run {out} --tag {made.target.tag}" if out else ""))


def foreseen(bench: Bench, made: JobSheet) -> Forecast:
    """What a sheet will do to the media that it names, read with everything that is on them. Raises MossError."""
    with ExitStack() as opened:
        source, target = (opened.enter_context(running.find_medium(bench, ref).open_to_look()) if ref else None
                          for ref in (made.source, made.target))
        return forecast(made, survey(source) if source else None, survey(target) if target else None,
                        source_blocks=source, target_blocks=target)


def must_fit(seen: Forecast) -> None:
    """Raises FitError with what stands against a sheet."""
    if seen.problems:
        raise FitError(" ".join(p.sentence for p in seen.problems))
