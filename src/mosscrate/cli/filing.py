"""put, rename, remove, folder, traits: changes of files, each a job that can be taken back."""

from __future__ import annotations

from collections.abc import Callable
from datetime import UTC, datetime
from pathlib import Path

import click

from mosscrate.cli.arranging import EXISTING, tell_losses
from mosscrate.cli.commands import ask_for_tag, partition_of
from mosscrate.cli.sheets import foreseen, must_fit, run_sheet
from mosscrate.cli.speaking import json_option
from mosscrate.core.contents import survey
from mosscrate.core.sheet import steps as s
from mosscrate.core.sheet.bench import Bench
from mosscrate.core.sheet.sheet import JobSheet, reference

PARTITION = click.option("--partition", "-p", type=int, help="Number of the partition; left out when there is one.")
TAG = click.option("--tag", default="", help="The four-character tag of the card, as `slots` shows it.")


@click.command()
@click.argument("medium")
@click.argument("paths", nargs=-1, required=True, type=click.Path(exists=True, path_type=Path))
@PARTITION
@click.option("--to", "folder", default="", help="Folder on the volume; made where it is missing.")
@click.option("--name", default="", help="Another name, for a single file.")
@click.option("--existing", type=click.Choice(list(EXISTING)), default="refuse", show_default=True,
              help="A file that is there already: refuse, keep it under a dated name, or replace it.")
@TAG
@json_option
@click.pass_obj
def put(bench: Bench, medium: str, paths: tuple[Path, ...], partition: int | None, folder: str, name: str,
        existing: str, tag: str, as_json: bool) -> None:
    """Put files and folders of this computer onto a volume of a MEDIUM. Desktop droppings stay off."""
    _run(bench, medium, partition, tag, as_json=as_json, step=lambda index: s.PutFiles(
        index, tuple(str(p.resolve()) for p in paths), folder.strip("/"), EXISTING[existing], name))


@click.command()
@click.argument("medium")
@click.argument("path")
@click.argument("new")
@PARTITION
@TAG
@json_option
@click.pass_obj
def rename(bench: Bench, medium: str, path: str, new: str, partition: int | None, tag: str, as_json: bool) -> None:
    """Give the file or folder at PATH the name NEW; a NEW with slashes moves it to another folder."""
    target = new if "/" in new else f"{path.rpartition('/')[0]}/{new}".lstrip("/")
    _run(bench, medium, partition, tag, as_json=as_json,
         step=lambda index: s.RenameFile(index, path.strip("/"), target.strip("/")))


@click.command()
@click.argument("medium")
@click.argument("paths", nargs=-1, required=True)
@PARTITION
@TAG
@json_option
@click.pass_obj
def remove(bench: Bench, medium: str, paths: tuple[str, ...], partition: int | None, tag: str, as_json: bool) -> None:
    """Remove files, or folders with all that is in them."""
    _run(bench, medium, partition, tag, as_json=as_json,
         step=lambda index: s.RemoveFiles(index, tuple(p.strip("/") for p in paths)))


@click.command()
@click.argument("medium")
@click.argument("path")
@PARTITION
@TAG
@json_option
@click.pass_obj
def folder(bench: Bench, medium: str, path: str, partition: int | None, tag: str, as_json: bool) -> None:
    """Make a folder, and those above it where they are missing."""
    _run(bench, medium, partition, tag, as_json=as_json, step=lambda index: s.MakeFolder(index, path.strip("/")))


@click.command()
@click.argument("medium")
@click.argument("path")
@PARTITION
@click.option("--comment", help="Up to 79 characters; \"\" removes it.")
@click.option("--protection", help="Letters of hsparwed that are set, such as ----rwed.")
@click.option("--date", type=click.DateTime(["%Y-%m-%d", "%Y-%m-%dT%H:%M:%S"]), help="When it was changed, UTC.")
@TAG
@json_option
@click.pass_obj
def traits(bench: Bench, medium: str, path: str, partition: int | None, comment: str | None, protection: str | None,
           date: datetime | None, tag: str, as_json: bool) -> None:
    """Set comment, protection bits or date of a file on an OFS or FFS volume."""
    modified = None if date is None else int(date.replace(tzinfo=UTC).timestamp())
    _run(bench, medium, partition, tag, as_json=as_json,
         step=lambda index: s.SetTraits(index, path.strip("/"), comment, protection, modified))


def _run(bench: Bench, medium: str, partition: int | None, tag: str, *, as_json: bool,
         step: Callable[[int], s.AnyStep]) -> None:
    found = bench.shelf.find(medium)
    with found.open() as blocks:
        layout = survey(blocks)
    made = JobSheet((step(partition_of(layout, partition)),), None, reference(found))
    seen = foreseen(bench, made)
    must_fit(seen)
    tell_losses(seen, made.steps)
    run_sheet(bench, made, tag or ask_for_tag(bench, found, loses_all=False), as_json=as_json)


COMMANDS = (put, rename, remove, folder, traits)
