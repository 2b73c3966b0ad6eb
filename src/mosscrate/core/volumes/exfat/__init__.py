"""exFAT: read, check, make, fill, grow, shrink.

`structures` declares the disk, `names` and `directory` turn entry sets into paths and back; `volume`
reads, `checking` finds faults, `making` formats, `editing` changes files, `resizing` grows and shrinks
in place. Chains are followed by the FAT package's table.
"""

from __future__ import annotations

from collections.abc import Iterator

from mosscrate.core.blocks import Blocks
from mosscrate.core.declared import Declared
from mosscrate.core.volumes.base import Seat
from mosscrate.core.volumes.exfat.checking import check
from mosscrate.core.volumes.exfat.editing import ExfatEditor
from mosscrate.core.volumes.exfat.facts import FACTS
from mosscrate.core.volumes.exfat.making import make
from mosscrate.core.volumes.exfat.mending import mend
from mosscrate.core.volumes.exfat.resizing import grow, largest, shrink, smallest
from mosscrate.core.volumes.exfat.soundness import soundness
from mosscrate.core.volumes.exfat.structures import BOOT, REGION_SECTORS, boot_region, parse_boot, probe
from mosscrate.core.volumes.exfat.volume import ExfatVolume, open_exfat

open_volume, largest_in_place = open_exfat, largest

__all__ = ["FACTS", "ExfatVolume", "check", "claimed_size", "declared", "edit", "grow", "kind_of", "largest",
           "largest_in_place", "make", "mend", "open_exfat", "open_volume", "probe", "rebase", "shrink", "smallest",
           "soundness"]


def kind_of(first: bytes) -> str:
    """exfat."""
    return "exfat"


def rebase(blocks: Blocks, seat: Seat) -> None:
    """Note where the partition starts now, in both boot regions. Raises FormatError, MediumError."""
    boot = open_exfat(blocks).boot
    sector = boot.geometry.sector
    raw = boot.raw.copy()
    raw["partition_offset"] = seat.first_sector
    region = boot_region(raw.tobytes() + blocks.read(512, sector - 512), blocks.read(sector, 10 * sector), sector)
    blocks.write(REGION_SECTORS * sector, region)
    blocks.write(0, region)


def edit(blocks: Blocks) -> ExfatEditor:
    """An editor for a volume. Raises FormatError, FitError."""
    return ExfatEditor(blocks)


def claimed_size(first: bytes) -> int:
    """Bytes that a volume says it has, by its first bytes. Raises FormatError."""
    return parse_boot(first, None).geometry.size


def declared(blocks: Blocks) -> Iterator[Declared]:
    """The boot sector."""
    yield Declared("Boot sector", BOOT, 0)
