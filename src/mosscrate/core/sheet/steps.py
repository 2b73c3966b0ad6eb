"""The steps that a sheet can hold: pure data that can be saved, shown and rehearsed."""

from __future__ import annotations

from enum import StrEnum
from typing import TypeAlias

import msgspec


class Which(StrEnum):
    """One of the two media of a sheet."""

    SOURCE = "source"
    TARGET = "target"


class KeepCard(msgspec.Struct, tag="keep", frozen=True):
    """Keep a whole medium in the crate, verified by reading back."""

    which: Which = Which.SOURCE


class WriteImage(msgspec.Struct, tag="write", frozen=True):
    """Write the source (its backup, when this sheet made one) onto the target from its first byte."""

    verify: bool = False               # read back at once; a Verify step at the end does more


class GrowPartition(msgspec.Struct, tag="grow", frozen=True):
    """Grow one partition of the target in place; `size` in bytes, None fills the room behind it."""

    partition: int
    size: int | None = None


class Verify(msgspec.Struct, tag="verify", frozen=True):
    """Read the target back and compare it with the source, file by file."""


class Eject(msgspec.Struct, tag="eject", frozen=True):
    """Let go of the target, so that it may be pulled."""


Step: TypeAlias = KeepCard | WriteImage | GrowPartition | Verify | Eject
