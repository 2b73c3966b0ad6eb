"""FAT12, FAT16 and FAT32: read, check, make, fill, grow.

`structures` declares the disk, `table` works on the FAT as an array, `names` and `directory` turn
entries into paths and back; `volume` reads, `checking` finds faults, `making` formats, `editing`
writes files, `growing` lengthens a volume in place.
"""

from mosscrate.core.volumes.fat.structures import kind_of, probe
from mosscrate.core.volumes.fat.volume import FatVolume, open_fat

open_volume = open_fat

__all__ = ["FatVolume", "kind_of", "open_fat", "open_volume", "probe"]
