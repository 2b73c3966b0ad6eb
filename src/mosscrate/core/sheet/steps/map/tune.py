"""How the drivers of an RDB's machine take a partition."""

from __future__ import annotations

from dataclasses import replace
from typing import ClassVar

from mosscrate.core.maps import Environment, edits
from mosscrate.core.sheet.decision import Decision
from mosscrate.core.sheet.sights import Sight
from mosscrate.core.sheet.steps.map.changing import ChangesMap
from mosscrate.core.sheet.steps.shared.places import must_be_arranged


class TunePartition(ChangesMap, tag="tune", frozen=True):
    """See above; None leaves a value as it is."""

    partition: int
    name: str = ""
    boot_priority: int | None = None
    mask: int | None = None
    max_transfer: int | None = None
    buffers: int | None = None

    is_undone_exactly: ClassVar[bool] = True

    def decide(self, card: Sight, source: Sight | None = None) -> Decision:
        """See Step."""
        look = card.look(self.partition)
        must_be_arranged(card)
        wanted = {"boot_priority": self.boot_priority, "mask": self.mask, "max_transfer": self.max_transfer,
                  "buffers": self.buffers}
        changed = replace(look.partition.environment or Environment(),
                          **{k: v for k, v in wanted.items() if v is not None})
        return Decision(f"Set for the drivers of {look.name}: {self.tuning}", 0,
                        map=edits.tuned(card.map, self.partition, name=self.name, environment=changed))

    def said(self, decided: Decision) -> str:
        """See ChangesMap."""
        return f"Partition {self.partition}: {self.tuning}."

    @property
    def tuning(self) -> str:
        """What is set, in words."""
        said = [f"name {self.name}"] if self.name else []
        said += [f"{what} {shown}" for what, value, shown in (
            ("boot priority", self.boot_priority, self.boot_priority), ("mask", self.mask, f"0x{self.mask or 0:08x}"),
            ("largest transfer", self.max_transfer, f"0x{self.max_transfer or 0:x}"),
            ("buffers", self.buffers, self.buffers)) if value is not None]
        return ", ".join(said) or "as it was"
