"""What is wrong with an OFS or FFS volume: claims on blocks, the bitmap, hash slots, parents, sequences."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import suppress
from functools import partial

import numpy as np
from numpy.typing import NDArray

from mosscrate.core.errors import FormatError, MediumError
from mosscrate.core.findings import Finding, Severity
from mosscrate.core.sizes import counted
from mosscrate.core.volumes.claims import disagreements
from mosscrate.core.volumes.ffs import caching
from mosscrate.core.volumes.ffs import structures as s
from mosscrate.core.volumes.ffs.checking_files import check_file, check_links
from mosscrate.core.volumes.ffs.claiming import claimed_blocks
from mosscrate.core.volumes.ffs.structures import Longs
from mosscrate.core.volumes.ffs.volume import FfsVolume


def check(volume: FfsVolume) -> tuple[Finding, ...]:
    """Every fault found. Raises MediumError."""
    found = list(volume.tree().findings)
    if volume.is_cached:
        found += caching.differences(volume, volume.root_longs, "/")
    claims, faults = claimed_blocks(volume, partial(_look, volume))
    found += faults
    crossed = int((claims > 1).sum())
    if crossed:
        found.append(Finding(Severity.PROBLEM, f"{counted(crossed, 'block')} belong to more than one file or folder.",
                             remedy="At most one of these files is whole. Copy them off before anything else."))
    if not volume.is_clean:
        found.append(Finding(Severity.WARNING, "The bitmap was left invalid; free room is worked out from the files.",
                             remedy="“Rebuild bitmap” writes a valid one, as any change does."))
        return tuple(found)
    found += _bitmap(volume, claims > 0)
    return tuple(found)


def _look(volume: FfsVolume, folder: int, header: Longs, number: int, longs: Longs) -> Iterator[Finding]:
    """Everything about a member that a lenient driver does not look at."""
    yield from _member(volume, folder, header, number)
    kind = s.signed(int(longs[s.SEC_TYPE]))
    with suppress(FormatError, MediumError):                              # `_claim` has said what cannot be followed
        if kind == s.ST_FILE:
            yield from check_file(volume, number, longs, *volume.data_blocks(number))
        elif kind in (s.ST_FILE_LINK, s.ST_FOLDER_LINK):
            yield from check_links(volume, number, longs)
        elif kind == s.ST_FOLDER and volume.is_cached:
            yield from caching.differences(volume, longs, volume.fields.name(longs))


def _member(volume: FfsVolume, folder: int, header: Longs, number: int) -> Iterator[Finding]:
    """Fields that a lenient driver does not look at."""
    longs = volume.longs(number)
    name = volume.fields.name(longs)
    if int(longs[s.PARENT]) != folder:
        yield Finding(Severity.WARNING, f"“{name}” says that it is in another folder than the one that names it.", name)
    slot = s.hash_of(name, volume.slots, international=volume.is_international)
    at = int(header[s.TABLE + slot])
    for _ in range(volume.total):
        if at in (0, number):
            break
        at = int(volume.longs(at)[s.HASH_CHAIN])
    if at != number:
        yield Finding(Severity.PROBLEM, f"“{name}” does not stand in the hash chain of its name; its machines do not "
                      "find it.", name)


def _bitmap(volume: FfsVolume, claimed: NDArray[np.bool_]) -> Iterator[Finding]:
    used = volume.used
    for page in volume.bitmap_pages():
        if s.sum_of(volume.longs(page)):
            yield Finding(Severity.PROBLEM, f"The checksum of the bitmap block {page} is wrong.")
    missing, lost = int((claimed & ~used).sum()), int((used & ~claimed).sum())
    mends = ("Keep the drive before anything else; then “Rebuild bitmap”.",
             "No file is harmed; “Rebuild bitmap” frees them.")
    yield from disagreements(missing, lost, "block", volume.block, mends=mends)
