"""rescue: what a failing card still gives."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import click

from mosscrate.cli.progress import watching
from mosscrate.cli.speaking import json_option, say, show_json
from mosscrate.core.crate import Backup
from mosscrate.core.crate.lacking import kept
from mosscrate.core.errors import Stopped
from mosscrate.core.rescue import Standing, Wishes, finish, how_far, rescue_and_finish, unfinished_rescue
from mosscrate.core.sheet.bench import Bench
from mosscrate.core.slots import Medium


@click.command()
@click.argument("card")
@click.option("--for", "minutes", type=click.FloatRange(min=0), help="Stop after so many minutes; you can "
              "continue days later.")
@click.option("--to-the-end", is_flag=True, help="Go on below the point where it is hardly worth the time.")
@click.option("--again", is_flag=True, help="Try places again that have failed by themselves, after everything else.")
@click.option("--free", "with_free", is_flag=True, help="Read the room that holds no files too.")
@click.option("--finish", "is_last", is_flag=True, help="Make a backup of what there is then, holes and all.")
@click.option("--status", is_flag=True, help="Only say how far it is; the card is not read.")
@json_option
@click.pass_obj
def rescue(bench: Bench, card: str, minutes: float | None, to_the_end: bool, again: bool, with_free: bool,
           is_last: bool, status: bool, as_json: bool) -> None:
    """Read a failing CARD, what is worth most for the time first; it is never written.

    Saves come first, then tables, settings and files. Begin, go on and end with the same command. What could be read
    becomes a backup by itself where nothing is missing, and with --finish otherwise.
    """
    medium = bench.shelf.find(card)
    if status:
        _tell_status(medium, bench, as_json=as_json)
        return
    wishes = Wishes(with_free, again, to_the_end or again, None if minutes is None else minutes * 60)
    told: Standing | None = None
    backup: Backup | None
    with watching() as watch:
        if minutes == 0 and is_last:
            backup = finish(medium, bench, watch)
        else:
            try:
                told, backup = rescue_and_finish(medium, bench, wishes, watch, is_last=is_last)
            except Stopped as stopped:
                raise Stopped(f"Stopped. What was read of {medium.name} stays; go on with the same command.") \
                    from stopped
    if as_json:
        show_json(_record(medium, told, backup))
    else:
        if told is not None:
            say(told.sentence(medium.name))
        if backup is not None:
            say(f"{medium.name} is kept: {backup.path}\n  {kept(backup.record)}")
    if (told is not None and not told.is_whole) or (backup is not None and not backup.record.is_complete):
        raise SystemExit(1)


def _tell_status(medium: Medium, bench: Bench, *, as_json: bool) -> None:
    begun = unfinished_rescue(medium, bench)
    told = how_far(medium, bench, begun) if begun else None
    if as_json:
        show_json(_record(medium, told, None))
    else:
        say(told.sentence(medium.name) if told else f"No rescue of {medium.name} is under way.")


def _record(medium: Medium, told: Standing | None, backup: Backup | None) -> dict[str, Any]:
    found: dict[str, Any] = {"name": medium.name, "tag": medium.tag}
    if told is not None:
        found |= {"sentence": told.sentence(medium.name), "whole": told.is_whole, "bad": told.bad,
                  "ending": str(told.ending or ""), "hour": round(told.hour),
                  "shares": {which.name.lower(): {"have": have, "all": all_}
                             for which, (have, all_) in told.shares.items()}}
    if backup is not None:
        r = backup.record
        found["backup"] = {"image": str(Path(backup.path)), "blake3": r.blake3, "complete": r.is_complete,
                           "unreadable": r.unreadable, "not_asked": r.not_asked, "files_whole": r.whole,
                           "files_with_holes": [{"partition": h.partition, "path": h.path, "holes": h.holes}
                                                for h in r.holed]}
    return found


COMMANDS: dict[str, click.Command] = {"rescue": rescue}
