"""FAT12, FAT16 and FAT32: read, check, make, fill, grow, shrink.

`structures` declares the disk, `table` works on the FAT as an array, `names` and `directory` turn
entries into paths and back; `volume` reads, `checking` finds faults, `making` formats, `editing`
changes files, `growing` and `shrinking` resize in place with `renumbering` between them.
"""

from __future__ import annotations

import secrets
from collections.abc import Iterator

from mosscrate.core.blocks import Blocks
from mosscrate.core.declared import Declared, backwards
from mosscrate.core.errors import FitError
from mosscrate.core.volumes.base import Making, Resized, Seat
from mosscrate.core.volumes.fat.checking import check
from mosscrate.core.volumes.fat.editing import FatEditor
from mosscrate.core.volumes.fat.facts import FACTS
from mosscrate.core.volumes.fat.growing import grow as grow_in_place
from mosscrate.core.volumes.fat.growing import largest as _largest_in_place
from mosscrate.core.volumes.fat.making import carry_boot_code, plan_gemdos, plan_gemdos_floppy, plan_geometry
from mosscrate.core.volumes.fat.making import make as format_volume
from mosscrate.core.volumes.fat.mending import mend
from mosscrate.core.volumes.fat.shrinking import shrink, smallest
from mosscrate.core.volumes.fat.soundness import soundness
from mosscrate.core.volumes.fat.structures import (
    BOOT16,
    BOOT32,
    BOOT_GEMDOS,
    FSINFO,
    LARGEST_GEMDOS,
    FatType,
    kind_of,
    parse_boot,
    probe,
)
from mosscrate.core.volumes.fat.volume import FatVolume, open_fat
from mosscrate.core.watch import Watch

open_volume = open_fat

__all__ = ["FACTS", "FatVolume", "check", "claimed_size", "declared", "edit", "grow", "kind_of", "largest",
           "largest_in_place", "make", "mend", "open_fat", "open_volume", "probe", "rebase", "shrink", "smallest",
           "soundness"]


def edit(blocks: Blocks) -> FatEditor:
    """An editor for a volume. Raises FormatError, FitError."""
    return FatEditor(blocks)


def make(blocks: Blocks, making: Making) -> None:
    """Make a fresh volume over all of `blocks`. Raises FitError before anything is written."""
    match making.kind:
        case "gemdos":
            geometry = plan_gemdos(blocks.size)
        case "gemdos-floppy":
            geometry = plan_gemdos_floppy(blocks.size)
        case _:
            geometry = plan_geometry(blocks.size, FatType(int(making.kind[3:])), cluster=making.block,
                                     sector=max(512, blocks.sector))
    try:
        serial = int(making.id.replace("-", ""), 16) if making.id else secrets.randbits(32)
    except ValueError:
        raise FitError(f"“{making.id}” is not a FAT serial number such as 1A2B-3C4D.") from None
    format_volume(blocks, geometry, label=making.label, volume_id=serial & 0xFFFFFFFF,
                  seat=making.seat, modified=making.made,
                  is_gemdos=making.kind.startswith("gemdos"))
    if making.boot:
        carry_boot_code(blocks, making.boot[:512])


def rebase(blocks: Blocks, seat: Seat) -> None:
    """Note where the partition starts now, in the boot sector and its backup. Raises FormatError, MediumError."""
    boot = open_fat(blocks).boot
    if boot.is_gemdos:                                   # its system does not note it
        return
    raw = boot.raw.copy()
    raw["hidden_sectors"] = seat.first_sector
    if seat.geometry is not None and not boot.is_floppy_shaped:
        raw["heads"], raw["sectors_per_track"] = seat.geometry.heads, seat.geometry.sectors
    if raw == boot.raw:
        return
    backup = int(raw["backup_boot_sector"]) if boot.is_fat32 else 0
    if 0 < backup < boot.geometry.reserved:
        blocks.write(backup * boot.geometry.sector, raw.tobytes())
    blocks.write(0, raw.tobytes())


def grow(blocks: Blocks, size: int, watch: Watch, *, hidden_sectors: int | None = None) -> Resized:
    """Grow in place towards `size` bytes. Raises FitError, FormatError."""
    plan = grow_in_place(blocks, size, watch, hidden_sectors=hidden_sectors)
    return Resized(plan.size, plan.limit)


def claimed_size(first: bytes) -> int:
    """Bytes that a volume says it has, by its first bytes. Raises FormatError."""
    return parse_boot(first, None).geometry.size


def declared(blocks: Blocks) -> Iterator[Declared]:
    """The boot sector, and FSInfo. Raises FormatError, MediumError."""
    boot = open_fat(blocks).boot
    yield Declared("Boot sector", BOOT_GEMDOS if boot.is_gemdos else BOOT32 if boot.is_fat32 else BOOT16, 0,
                   {"serial": backwards})
    if boot.is_fat32:
        yield Declared("FSInfo", FSINFO, 512)


def largest(volume: FatVolume) -> tuple[int, str]:
    """Bytes that it can be grown to, and the limit that stands there; a GEMDOS volume is made anew on its way."""
    is_hard_disk = volume.variant in ("gemdos", "gemdos-small")
    return (LARGEST_GEMDOS, "a GEMDOS volume ends at 1 GiB") if is_hard_disk else _largest_in_place(volume)


def largest_in_place(volume: FatVolume) -> tuple[int, str]:
    """The same without being made anew; one that is too small for its kind only grows out of it."""
    return (0, "") if volume.variant == "gemdos-small" else _largest_in_place(volume)
