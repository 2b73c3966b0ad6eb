"""What every command asks and says alike: --json, paths, sizes, findings."""

from __future__ import annotations

import json
import os
import shlex
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from mosscrate.core.findings import Finding, Severity
from mosscrate.core.shown import shown_json, shown_lines
from mosscrate.core.sizes import parse_size

if TYPE_CHECKING:
    from mosscrate.core.fill.placed import Question

FILE = click.Path(path_type=Path, dir_okay=False)
FOLDER = click.Path(path_type=Path, file_okay=False)
MARKS = {Severity.GOOD: "✓", Severity.NOTE: "·", Severity.WARNING: "!", Severity.PROBLEM: "✗"}


def json_option(command: Any) -> Any:  # noqa: ANN401 - a decorator over click's own
    """--json for a command."""
    return click.option("--json", "as_json", is_flag=True, help="Print JSON for scripts.")(command)


def taken_out_options(command: Any) -> Any:  # noqa: ANN401 - a decorator over click's own
    """PATH, --partition, --to and --json for a command that takes files out."""
    for option in (json_option, click.option("--to", "out", type=click.Path(path_type=Path), default=Path(),
                                             help="Folder or file to write."),
                   click.option("--partition", "-p", type=int,
                                help="Number of the partition; may be left out when there is one."),
                   click.argument("path")):
        command = option(command)
    return command


def say(text: str = "", *, err: bool = False) -> None:
    """Print a sentence, or lines of it; what names in it would do to a terminal is shown instead."""
    click.echo(shown_lines(text), err=err)


def show_json(value: Any, *, err: bool = False) -> None:  # noqa: ANN401 - whatever JSON can hold
    """Print a value for a script; what would steer a terminal is escaped, as JSON may escape anything."""
    click.echo(shown_json(json.dumps(value, ensure_ascii=False, indent=None if err else 2)), err=err)


def program() -> str:
    """How it is called here, so that what is said can be typed."""
    return os.environ.get("MOSSCRATE_PROGRAM", "mosscrate")


def answers_to(question: Question) -> str:
    """A question with its answers, and the option that gives one: it can be pasted into a shell."""
    option = f"--answer {shlex.quote(f'{question.key}=…')}"
    return f"  ? {question.sentence} [{'] ['.join(question.answers)}]  {option}"


def finding_line(finding: Finding) -> str:
    """A finding on one line."""
    where = f"{finding.where}: " if finding.where else ""
    return f"  {MARKS[finding.severity]} {where}{finding.sentence} {finding.remedy}".rstrip()


def size_of(text: str) -> int:
    """Bytes from “4 GiB”. Raises UsageError."""
    try:
        return parse_size(text)
    except ValueError as error:
        raise click.UsageError(str(error)) from error
