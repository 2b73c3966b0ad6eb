"""Save as…: where to, in which kind of file, all of it or only what is in use; then the work itself."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

from PyQt6.QtWidgets import QFileDialog, QWidget

from mosscrate.core.images.making import KINDS, Kind
from mosscrate.core.sheet.bench import card_of
from mosscrate.core.sheet.running.converting import Conversion, convert_to
from mosscrate.core.slots import Medium
from mosscrate.core.watch import Watch

LEFT_OUT = "without what is left in free room"


@dataclass(frozen=True)
class Wanted:
    """What a person chose."""

    path: Path
    kind: Kind
    used_only: bool


def choices() -> dict[str, tuple[Kind, bool]]:
    """Every way of saving, in words."""
    whole = {f"{_title(kind)}: {kind.for_whom} (*{kind.suffix})": (kind, False) for kind in KINDS}
    return whole | {f"{_title(kind)}, {LEFT_OUT} (*{kind.suffix})": (kind, True) for kind in KINDS}


def ask_where(parent: QWidget, what: str, name: str) -> Wanted | None:
    """Let the person choose a file and its kind; None where they do not."""
    ways = choices()
    suggested = Path.home() / f"{name.replace('/', '-')}{KINDS[0].suffix}"
    chosen, way = QFileDialog.getSaveFileName(parent, f"Save {what} as", str(suggested), ";;".join(ways))
    if not chosen:
        return None
    kind, used_only = ways.get(way, (KINDS[0], False))
    path = Path(chosen)
    if not path.name.endswith(kind.suffix):
        path = path.with_name(path.name.removesuffix(KINDS[0].suffix) + kind.suffix)
    return Wanted(path, kind, used_only)


def saving(medium: Medium, index: int | None, wanted: Wanted) -> Callable[[Watch], str]:
    """The work: all of a medium, or one of its partitions."""
    def work(watch: Watch) -> str:
        with medium.open_for_job() as blocks:
            conversion = Conversion(index, kind=wanted.kind.key, used_only=wanted.used_only, about=card_of(medium))
            return convert_to(wanted.path, blocks, conversion, watch)
    return work


def _title(kind: Kind) -> str:
    return kind.words[0].upper() + kind.words[1:]
