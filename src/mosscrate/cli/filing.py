"""put, copy, rename, remove, folder, traits: changes of files, each a job of its own that can be taken back."""

from __future__ import annotations

from functools import partial
from typing import Any

import click

from mosscrate.cli.arranging import tell_losses
from mosscrate.cli.commands import ask_for_tag, partition_of
from mosscrate.cli.outcome import foreseen, must_fit, run_sheet
from mosscrate.cli.speaking import json_option
from mosscrate.cli.stepping import Extra, Values, answers, parameters
from mosscrate.core.contents import survey
from mosscrate.core.contents.survey import open_partition
from mosscrate.core.sheet import steps as s
from mosscrate.core.sheet.bench import Bench
from mosscrate.core.sheet.sheet import JobSheet, reference
from mosscrate.core.sheet.step import Step
from mosscrate.core.slots import Medium
from mosscrate.core.volumes import Kind


def _rename(bench: Bench, values: Values) -> None:
    values["new"] = _beside(values["path"], values["new"])


def _beside(path: str, new: str) -> str:
    """A place for what lies at a path: a name beside it, or a path of its own where it has slashes."""
    return new if "/" in new else f"{path.rpartition('/')[0]}/{new}".lstrip("/")


TAG = "The four-character tag of the card, as `slots` shows it."
EXTRAS: dict[type[Step], Extra] = {s.RenameFile: Extra((), _rename)}


def command_for(step: type[Step]) -> click.Command:
    """The command that runs a step at once."""
    @click.option("--tag", default="", help=TAG)
    @json_option
    @click.pass_obj
    def run(bench: Bench, /, medium: str, tag: str, as_json: bool, partition: int | None,
            **given: Any) -> None:  # noqa: ANN401 - what click has read
        found = bench.shelf.find(medium)
        values = answers(step, given | {"partition": _partition(found, partition)})
        EXTRAS.get(step, Extra()).change(bench, values)
        filled: Any = step(**values)
        _run(bench, found, filled, tag, as_json=as_json)

    own = getattr(run, "__click_params__", [])
    return click.Command(step.command, params=[click.Argument(["medium"]), *parameters(
        step, has_optional_partition=True), *reversed(own)], callback=run, help=step.about())


@click.command("copy")
@click.argument("medium")
@click.argument("path")
@click.argument("new")
@click.option("--partition", "-p", type=int, help="Number of the partition; left out when there is one.")
@click.option("--existing", type=click.Choice([kind.value for kind in s.Existing]), default=s.Existing.REFUSE.value,
              show_default=True, help="A file that is there already: refuse, keep it under a dated name, the same "
                                      "where it differs, or replace it.")
@click.option("--tag", default="", help=TAG)
@json_option
@click.pass_obj
def copy(bench: Bench, medium: str, path: str, new: str, partition: int | None, existing: str, tag: str,
         as_json: bool) -> None:
    """Copy a file or folder to another name or folder of its volume.

    NEW is a name beside it, or a path with slashes.
    """
    found = bench.shelf.find(medium)
    index, path, kind = _partition(found, partition), path.strip("/"), s.Existing(existing)
    new = _beside(path, new).strip("/")
    with found.open() as blocks:
        is_folder = any(e.path == path and e.kind == Kind.FOLDER for e in open_partition(blocks, index).tree().entries)
    step = s.CopyFiles(index, index, new, path, kind, contents=True) if is_folder else \
        s.CopyFiles(index, index, existing=kind, only=(path,), places=(new,))
    _run(bench, found, step, tag, as_json=as_json)


def _partition(medium: Medium, index: int | None) -> int:
    if index is not None:
        return index
    with medium.open() as blocks:
        return partition_of(survey(blocks), None)


def _run(bench: Bench, medium: Medium, step: s.AnyStep, tag: str, *, as_json: bool) -> None:
    made = JobSheet((step,), None, reference(medium))
    tell = partial(tell_losses, steps=made.steps) if step.carries_files else None
    if tell and not tag:                                      # who is asked for the tag knows what it is for
        seen = foreseen(bench, made)
        must_fit(seen)
        tell(seen)
        tell = None
    run_sheet(bench, made, tag or ask_for_tag(bench, medium, loses_all=False), as_json=as_json, tell=tell)


COMMANDS = {step.command: command_for(step) for step in s.ALL if step.is_about_files} | {"copy": copy}
