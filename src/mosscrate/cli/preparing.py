"""`prepare`: a card laid out anew for a purpose, with files on it."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import click

from mosscrate.cli.arranging import plan_steps, planned
from mosscrate.cli.filling import plan_called
from mosscrate.cli.progress import watching
from mosscrate.cli.speaking import say
from mosscrate.core.contents import survey
from mosscrate.core.fill.lists import lists_at
from mosscrate.core.fill.own_lists import FOLDER
from mosscrate.core.sheet.bench import Bench
from mosscrate.core.sheet.planning.filling import Sources
from mosscrate.core.sheet.planning.fresh_games import games_for
from mosscrate.core.sheet.planning.preparing import LAYOUTS, Wish, prepared, propose_preparation

_LAYOUTS = "; ".join(f"{each.key}: {each.name[0].lower()}{each.name[1:]}" for each in LAYOUTS)


@click.command()
@click.argument("medium")
@click.argument("files", nargs=-1, type=click.Path(exists=True, path_type=Path))
@click.option("--layout", type=click.Choice([each.key for each in LAYOUTS]), default="one", show_default=True,
              help=f"{_LAYOUTS}.")
@click.option("--kind", default="", help="File system of the volume for the files; the usual one when left out.")
@click.option("--label", default="", help="Its label.")
@click.option("--machine", default="", help="The machine that the card is meant for; `machines` lists them.")
@click.option("--games", multiple=True, type=click.Path(exists=True, path_type=Path), help="A folder or an archive of "
              "games, saves and pictures, which are put to where --plan wants them.")
@click.option("--from", "source", help="Another card or a backup whose games are brought in too.")
@click.option("--plan", "wanted", default="", help="Id or file of the folder plan; `plans` lists them.")
@planned
def prepare(bench: Bench, medium: str, files: tuple[Path, ...], layout: str, kind: str, label: str, machine: str,
            games: tuple[Path, ...], source: str | None, wanted: str, **how: Any) -> None:  # noqa: ANN401
    """Lay a MEDIUM out anew for a purpose, with FILES on it. What is on it is lost, unless it is kept first."""
    if bool(games or source) != bool(wanted):
        raise click.UsageError("--games and --from want a --plan, which says where each file goes, and it wants them.")
    found = bench.shelf.find(medium)
    with found.open() as blocks:
        now = survey(blocks)
    wish = Wish(layout, kind, label, tuple(str(path.absolute()) for path in files))
    meant_for = bench.machines.find(machine) if machine else None
    if wanted:
        sources = Sources(games, bench.shelf.find(source) if source else None)
        with watching() as watch:
            fresh = games_for(wish, now, meant_for, sources, plan_called(bench, wanted), watch,
                              lists=lists_at(bench.state / FOLDER))
        wish = fresh.wish
        say(f"Games: {fresh.sentence} {fresh.worst}".strip(), err=True)
    steps = prepared(wish, now, meant_for)
    plan_steps(bench, medium, propose_preparation(found, now, bench.crate, steps).steps, source=source or "", **how)


COMMANDS = {"prepare": prepare}
