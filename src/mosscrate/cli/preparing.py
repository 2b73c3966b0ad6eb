"""`prepare`: a card laid out anew for a purpose, with files on it."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import click

from mosscrate.cli.arranging import plan_steps, planned
from mosscrate.core.contents import survey
from mosscrate.core.sheet.bench import Bench
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
@planned
def prepare(bench: Bench, medium: str, files: tuple[Path, ...], layout: str, kind: str, label: str, machine: str,
            **how: Any) -> None:  # noqa: ANN401
    """Lay a MEDIUM out anew for a purpose, with FILES on it. What is on it is lost, unless it is kept first."""
    found = bench.shelf.find(medium)
    with found.open() as blocks:
        now = survey(blocks)
    wish = Wish(layout, kind, label, tuple(str(path.absolute()) for path in files))
    steps = prepared(wish, now, bench.machines.find(machine) if machine else None)
    plan_steps(bench, medium, propose_preparation(found, now, bench.crate, steps).steps, **how)


COMMANDS = {"prepare": prepare}
