"""Fill the free room of an MBR with logical drives, as many as fit below a limit of the machine."""

from __future__ import annotations

from typing import Annotated, ClassVar

from mosscrate.core.contents.fresh import fresh_look
from mosscrate.core.errors import FitError
from mosscrate.core.maps import MapKind, Partition, edits, write_map
from mosscrate.core.sheet.asking import Form, asked
from mosscrate.core.sheet.decision import SMALL, Decision, Done
from mosscrate.core.sheet.sights import Card, Sight
from mosscrate.core.sheet.step import Step
from mosscrate.core.sheet.steps.shared.places import forgo, fresh_bytes, make_volume, must_be_arranged
from mosscrate.core.sheet.steps.shared.room import LEAST
from mosscrate.core.sizes import GIB, binary, counted
from mosscrate.core.volumes import Making, kind_for, kind_name
from mosscrate.core.watch import Watch


class FillWithDrives(Step, tag="drives", frozen=True):
    """See above: drives of at most `each` bytes, formatted, none of them ending above `until`."""

    each: Annotated[int, asked("Largest size of a drive.", Form.SIZE)] = 2 * GIB
    until: Annotated[int, asked("No drive ends above this.", Form.SIZE)] = 8 * 10**9
    kind: Annotated[str, asked("File system of the drives.")] = "fat16"
    label: Annotated[str, asked("Their labels: this and a number.")] = "DRIVE"

    command: ClassVar[str] = "drives"

    def decide(self, card: Sight, source: Sight | None = None) -> Decision:
        """See Step."""
        must_be_arranged(card)
        if card.map.kind != MapKind.MBR:
            raise FitError("Only an MBR has logical drives; this card has another map.")
        if self.kind == "fat16" and self.each > 2 * GIB:
            raise FitError("A FAT16 drive has 2 GiB at most.")
        map_, drives = edits.fill_with_drives(card.map, card.size, each=self.each, until=self.until, kind=self.kind)
        makings = tuple(self._making(card, drive, number) for number, drive in enumerate(drives, start=1))
        looks = tuple(fresh_look(d, m, card.sector) for d, m in zip(drives, makings, strict=True))
        return Decision(f"Make {counted(len(drives), 'logical drive')} of {binary(self.each)} at most, "
                        f"{kind_name(self.kind)}, all below {binary(self.until)}", 0, len(drives) * SMALL, map=map_,
                        looks=looks, bytes=fresh_bytes(card, looks, makings),
                        journal=LEAST * len(drives), chosen=makings)

    def _making(self, card: Sight, drive: Partition, number: int) -> Making:
        label = f"{self.label}{number}" if self.label else ""
        return Making(kind_for(self.kind, drive.length), label, seat=card.seat(drive))

    def act(self, card: Card, decided: Decision, watch: Watch, source: Card | None = None) -> Done:
        """See Step."""
        assert decided.map is not None, "it was decided"
        drives = [look.partition for look in decided.looks]
        for number, (drive, making) in enumerate(zip(drives, decided.chosen, strict=True), start=1):
            forgo(card.blocks, drive)
            make_volume(card, drive, making)
            watch.progress("Formatting drives", number, len(drives))
        write_map(card.blocks, decided.map)
        card.blocks.flush()
        return Done(f"{counted(len(drives), 'logical drive')} made, {binary(sum(d.length for d in drives))} together.")
