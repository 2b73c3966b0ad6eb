"""What a step asks for: read off its fields, for whoever lets a person fill them in."""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum
from typing import Any

import msgspec


class Form(StrEnum):
    """How an answer is written."""

    TEXT = "text"
    SIZE = "size"                      # bytes, as in 6 GiB
    NUMBER = "number"                  # also as 0x and hexadecimal digits
    PARTITION = "partition"            # by its number
    PLACE = "place"                    # a path on a volume
    FILES = "files"                    # of this computer
    DATE = "date"                      # seconds since 1970
    SWITCH = "switch"
    CHOICE = "choice"


@dataclass(frozen=True)
class Question:
    """One field of a step.

    Attributes:
        name: of the field.
        help: one line, "" where the name says it.
        flag: how a shell calls it.
        is_first: whether it stands without a flag.
        is_many: whether several may be given.
        choices: the words that are possible, with what each stands for.
    """

    name: str
    help: str
    form: Form
    flag: str
    is_first: bool
    is_many: bool
    is_required: bool
    default: Any
    choices: dict[str, Any]


def asked(help: str, form: Form | None = None, *, flag: str = "", is_first: bool = False,
          choices: tuple[str, ...] = ()) -> msgspec.Meta:
    """What stands beside a field in its annotation."""
    return msgspec.Meta(description=help, extra={"form": form, "flag": flag, "is_first": is_first,
                                                 "choices": choices})


PARTITION = asked("Number of the partition.", Form.PARTITION)


def questions(step: type[msgspec.Struct]) -> tuple[Question, ...]:
    """Everything that a step asks for, in the order of its fields."""
    info = msgspec.inspect.type_info(step)
    assert isinstance(info, msgspec.inspect.StructType), "steps are structs"
    return tuple(_question(field) for field in info.fields)


def _question(field: msgspec.inspect.Field) -> Question:
    kind, words, help = field.type, dict[str, Any](), ""
    if isinstance(kind, msgspec.inspect.Metadata):
        words = kind.extra or {}
        help = (kind.extra_json_schema or {}).get("description", "")
        kind = kind.type
    if isinstance(kind, msgspec.inspect.UnionType):
        kind = next(t for t in kind.types if not isinstance(t, msgspec.inspect.NoneType))
    is_many = isinstance(kind, msgspec.inspect.VarTupleType)
    choices: dict[str, Any] = {word: word for word in words.get("choices", ())}
    if isinstance(kind, msgspec.inspect.EnumType):
        choices = {str(member.value).split(" ")[0]: member for member in kind.cls}
    form = words.get("form") or (
        Form.CHOICE if choices else Form.SWITCH if isinstance(kind, msgspec.inspect.BoolType) else
        Form.NUMBER if isinstance(kind, msgspec.inspect.IntType) else Form.TEXT)
    return Question(field.name, help, form, words.get("flag") or f"--{field.name.replace('_', '-')}",
                    bool(words.get("is_first")), is_many, field.required,
                    None if field.required else field.default, choices)
