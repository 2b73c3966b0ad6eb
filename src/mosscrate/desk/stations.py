"""The stations in the order of the work: a new one is its folder and its line here. Nothing of them is loaded here."""

from __future__ import annotations

from dataclasses import dataclass
from importlib import import_module
from typing import TYPE_CHECKING, Protocol

from PyQt6.QtCore import pyqtBoundSignal

if TYPE_CHECKING:
    from PyQt6.QtWidgets import QWidget

    from mosscrate.core.slots import Medium
    from mosscrate.desk.bench_model import BenchModel


@dataclass(frozen=True)
class Station:
    """One station: its key for the others, its name on the rail, and the class of its widget."""

    key: str
    name: str
    widget: str

    def build(self, model: BenchModel) -> QWidget:
        """Its widget, which is a `StationWidget`."""
        module, _, name = self.widget.partition(":")
        made: QWidget = getattr(import_module(f"mosscrate.desk.{module}"), name)(model)
        return made


class StationWidget(Protocol):
    """How stations talk: through one signal, which the window takes to where it is meant for.

    `elsewhere` carries the key of another station, behind a dot what is wanted there ("move.grow"), and the medium.
    """

    elsewhere: pyqtBoundSignal
    sections: tuple[QWidget, ...]        # in which F6 goes from one to the next, where they are there

    def take(self, medium: Medium | None, errand: str) -> None:
        """A medium that another station hands over, and what is wanted of it."""


STATIONS = (Station("look", "Look", "look.station:LookStation"), Station("keep", "Keep", "keep.station:KeepStation"),
            Station("move", "Move", "move.station:MoveStation"),
            Station("fill", "Fill", "fill.station:FillStation"),
            Station("proof", "Proof", "proof.station:ProofStation"))
