"""put, rename, remove, folder, traits: changes of files, each a job of its own that can be taken back."""

from __future__ import annotations

from typing import Any

import click

from mosscrate.cli.arranging import tell_losses
from mosscrate.cli.commands import ask_for_tag, partition_of
from mosscrate.cli.outcome import foreseen, must_fit, run_sheet
from mosscrate.cli.speaking import json_option
from mosscrate.cli.stepping import Extra, Values, answers, parameters
from mosscrate.core.contents import survey
from mosscrate.core.sheet import steps as s
from mosscrate.core.sheet.bench import Bench
from mosscrate.core.sheet.sheet import JobSheet, reference
from mosscrate.core.sheet.step import Step


def _rename(bench: Bench, values: Values) -> None:
    if "/" not in values["new"]:
        values["new"] = f"{values['path'].rpartition('/')[0]}/{values['new']}".lstrip("/")


EXTRAS: dict[type[Step], Extra] = {s.RenameFile: Extra((), _rename)}


def command_for(step: type[Step]) -> click.Command:
    """The command that runs a step at once."""
    @click.option("--tag", default="", help="The four-character tag of the card, as `slots` shows it.")
    @json_option
    @click.pass_obj
    def run(bench: Bench, /, medium: str, tag: str, as_json: bool, partition: int | None,
            **given: Any) -> None:  # noqa: ANN401 - what click has read
        found = bench.shelf.find(medium)
        index = partition
        if index is None:
            with found.open() as blocks:
                index = partition_of(survey(blocks), None)
        values = answers(step, given | {"partition": index})
        EXTRAS.get(step, Extra()).change(bench, values)
        filled: Any = step(**values)
        made = JobSheet((filled,), None, reference(found))
        if step.carries_files:                                # all others are refused by the run, before it writes
            seen = foreseen(bench, made)
            must_fit(seen)
            tell_losses(seen, made.steps)
        run_sheet(bench, made, tag or ask_for_tag(bench, found, loses_all=False), as_json=as_json)

    own = getattr(run, "__click_params__", [])
    return click.Command(step.command, params=[click.Argument(["medium"]), *parameters(
        step, has_optional_partition=True), *reversed(own)], callback=run, help=step.about())


COMMANDS = {step.command: command_for(step) for step in s.ALL if step.is_about_files}
