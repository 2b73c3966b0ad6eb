"""A shell command for a step, its arguments and options read off the fields of the step."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

import click

from mosscrate.cli.speaking import size_of
from mosscrate.core.sheet.asking import Form, Question, questions
from mosscrate.core.sheet.step import Step
from mosscrate.core.sizes import binary

Values = dict[str, Any]


@dataclass(frozen=True)
class Extra:
    """What a command asks for beside the fields of its step.

    Attributes:
        options: of the shell.
        change: makes the answers into what the step wants, in place; the answers to `options` are among them.
    """

    options: tuple[click.Parameter, ...] = ()
    change: Callable[[Any, Values], None] = lambda _bench, _values: None


def parameters(step: type[Step], *, has_optional_partition: bool = False) -> list[click.Parameter]:
    """Arguments and options for everything that a step asks for, arguments first."""
    asked = questions(step)
    made = [_argument(q) for q in asked if q.is_first]
    return [*made, *(_option(q, is_optional=has_optional_partition and q.form == Form.PARTITION)
                     for q in asked if not q.is_first)]


def answers(step: type[Step], values: Values) -> Values:
    """The answers as the fields of the step hold them. Raises UsageError."""
    return {q.name: _answer(q, values[q.name]) for q in questions(step)}


def _argument(q: Question) -> click.Argument:
    kind = click.Path(exists=True, path_type=Path) if q.form == Form.FILES else \
        click.Choice(list(q.choices)) if q.choices else None
    return click.Argument([q.name], nargs=-1 if q.is_many else 1, required=True, type=kind)


def _option(q: Question, *, is_optional: bool) -> click.Option:
    names = [q.flag, *(["-p"] if q.flag == "--partition" else []), q.name]
    match q.form:
        case Form.SWITCH:
            return click.Option(names, is_flag=True, help=q.help)
        case Form.PARTITION:
            help = "Number of the partition; left out when there is one." if is_optional else q.help
            return click.Option(names, type=int, required=q.is_required and not is_optional, help=help)
        case Form.CHOICE:
            usual = next(word for word, value in q.choices.items() if value == q.default)
            return click.Option(names, type=click.Choice(list(q.choices)), default=usual, show_default=True,
                                help=q.help)
        case Form.DATE:
            return click.Option(names, type=click.DateTime(["%Y-%m-%d", "%Y-%m-%dT%H:%M:%S"]), help=q.help)
        case Form.SIZE:
            shown = None if q.default is None else _round(q.default)
            return click.Option(names, default=shown, show_default=shown is not None, required=q.is_required,
                                help=q.help)
        case _:
            text = q.default if isinstance(q.default, str) else None
            return click.Option(names, required=q.is_required, default=text, help=q.help, show_default=bool(text),
                                multiple=q.is_many)


def _round(size: int) -> str:
    """A size that was chosen for being round, in the units in which it is."""
    return f"{size // 10**9} GB" if size % 10**9 == 0 else binary(size)


def _answer(q: Question, value: Any) -> Any:  # noqa: ANN401 - whatever a field holds
    if value is None:
        return q.default
    match q.form:
        case Form.SIZE:
            return size_of(value)
        case Form.NUMBER:
            return _number(q, value)
        case Form.PLACE:
            return tuple(part.strip("/") for part in value) if q.is_many else value.strip("/")
        case Form.FILES:
            return tuple(str(path.resolve()) for path in value)
        case Form.DATE:
            assert isinstance(value, datetime), "click made it one"
            return int(value.replace(tzinfo=UTC).timestamp())
        case Form.CHOICE:
            return q.choices[value]
        case Form.SWITCH:
            return value != q.default                        # giving it turns the usual round
        case _:
            return value


def _number(q: Question, text: str | int) -> int:
    try:
        return int(str(text), 0)
    except ValueError:
        raise click.UsageError(f"“{text}” is not a number for {q.flag}, such as 5 or 0x1fe00.") from None
