"""Heads and sectors of a track, in which a BIOS counts a drive: derived from its size, or read off a table.

A CHS field holds head, sector | cylinder bits 8-9, cylinder bits 0-7 (UEFI specification 2.10, 5.2.1). INT 13h has ten
bits for the cylinder. Up to 1024 cylinders of 16 heads and 63 sectors a BIOS takes an ATA drive as it is; a larger one
it counts in 32, 64, 128 or 255 heads, the fewest that come out with 1024 cylinders ("Enhanced Disk Drive
Specification", LBA-assisted translation). One that does not translate stays with 16.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

CHS_BEYOND = bytes((0xFE, 0xFF, 0xFF))    # what most tables say of sectors that CHS cannot name
MAX_CYLINDERS = 1024
TRACK = 63                                # sectors
TRANSLATED = (16, 32, 64, 128, 255)       # heads
SAID = tuple[int, bytes]                  # a sector, and the field that names it


@dataclass(frozen=True)
class Geometry:
    """Heads and sectors of a track that CHS fields are counted in."""

    heads: int = 255
    sectors: int = TRACK

    @property
    def cylinder(self) -> int:
        """Sectors of a cylinder."""
        return self.heads * self.sectors

    def chs(self, lba: int) -> bytes:
        """The three bytes for a sector; for one that is out of reach those of the last that is not."""
        cylinder, rest = divmod(min(lba, MAX_CYLINDERS * self.cylinder - 1), self.cylinder)
        head, sector = divmod(rest, self.sectors)
        return bytes((head, sector + 1 | cylinder >> 2 & 0xC0, cylinder & 0xFF))

    def reaches(self, lba: int) -> bool:
        """Whether CHS can name a sector."""
        return lba < MAX_CYLINDERS * self.cylinder

    @property
    def last(self) -> bytes:
        """The field of the last sector that can be named."""
        return self.chs(MAX_CYLINDERS * self.cylinder)


UNTRANSLATED = Geometry(TRANSLATED[0])


def derived(sectors: int) -> Geometry:
    """How a BIOS that translates counts a drive of so many sectors."""
    return next((g for heads in TRANSLATED if (g := Geometry(heads)).reaches(sectors - 1)), Geometry())


def read_off(fields: Sequence[SAID], likely: Geometry) -> Geometry:
    """The geometry that a table was written in; `likely` where its fields do not contradict that, or fit none."""
    told = [(lba, field) for lba, field in fields if field[1] & 63]
    heads, sectors = np.meshgrid(np.arange(1, 256), np.arange(1, 64), indexing="ij")
    fits = np.ones(heads.shape, bool)
    for lba, field in told:
        cylinder, rest = np.divmod(lba, heads * sectors)
        head, sector = np.divmod(rest, sectors)
        named = (head == field[0]) & (sector + 1 == field[1] & 63) & (cylinder == (field[1] & 0xC0) << 2 | field[2])
        is_last = (heads == field[0] + 1) & (sectors == field[1] & 63) & (field[1] >= 0xC0) & (field[2] == 0xFF)
        fits &= np.where(cylinder < MAX_CYLINDERS, named, is_last | (field == CHS_BEYOND))
    if fits[likely.heads - 1, likely.sectors - 1] or not fits.any():
        return likely
    usual = [g for g in (*_ends(told), *map(Geometry, reversed(TRANSLATED))) if fits[g.heads - 1, g.sectors - 1]]
    if usual:
        return usual[0]
    found = int(np.flatnonzero(fits.T)[-1])              # the longest tracks, of those the most heads
    return Geometry(found % 255 + 1, found // 255 + 1)


def _ends(told: Sequence[SAID]) -> list[Geometry]:
    """What fields say that name the end of a cylinder, as partitions mostly end."""
    return [Geometry(field[0] + 1, field[1] & 63) for _, field in told if field[0] < 255]
