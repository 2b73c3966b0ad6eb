"""Set how the drivers of an RDB's machine take a partition."""

from __future__ import annotations

from dataclasses import replace
from typing import Annotated, ClassVar

from mosscrate.core.maps import Environment, edits
from mosscrate.core.sheet.asking import PARTITION, asked
from mosscrate.core.sheet.decision import Decision
from mosscrate.core.sheet.sights import Sight
from mosscrate.core.sheet.steps.map.changing import ChangesMap
from mosscrate.core.sheet.steps.shared.places import must_be_arranged


class TunePartition(ChangesMap, tag="tune", frozen=True):
    """See above; None leaves a value as it is."""

    partition: Annotated[int, PARTITION]
    name: Annotated[str, asked("Name that drivers give it, such as DH0.")] = ""
    boot_priority: Annotated[int | None, asked("-128 to 127; the highest starts the machine.")] = None
    mask: Annotated[int | None, asked("Addresses that its controller can reach, such as 0x7ffffffe.")] = None
    max_transfer: Annotated[int | None, asked("Bytes of the largest transfer, such as 0x1fe00.")] = None
    buffers: Annotated[int | None, asked("Blocks that its file system holds in memory.")] = None

    command: ClassVar[str] = "tune"
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

    def said(self, decided: Decision, name: str) -> str:
        """See ChangesMap."""
        return f"{name}: {self.tuning}."

    @property
    def tuning(self) -> str:
        """What is set, in words."""
        said = [f"name {self.name}"] if self.name else []
        said += [f"{what} {shown}" for what, value, shown in (
            ("boot priority", self.boot_priority, self.boot_priority), ("mask", self.mask, f"0x{self.mask or 0:08x}"),
            ("largest transfer", self.max_transfer, f"0x{self.max_transfer or 0:x}"),
            ("buffers", self.buffers, self.buffers)) if value is not None]
        return ", ".join(said) or "as it was"
