"""What is wrong with an exFAT volume: bitmap against files, boot regions, checksums of entry sets."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from mosscrate.core.errors import FormatError
from mosscrate.core.findings import Finding, Severity
from mosscrate.core.sizes import counted
from mosscrate.core.volumes.base import Entry, Kind
from mosscrate.core.volumes.claims import disagreements
from mosscrate.core.volumes.clusters import BAD
from mosscrate.core.volumes.exfat import names
from mosscrate.core.volumes.exfat.structures import (
    REGION_SECTORS,
    UPCASE,
    UPCASE_ENTRY,
    boot_checksum,
)
from mosscrate.core.volumes.exfat.volume import ExfatVolume


def check(volume: ExfatVolume) -> tuple[Finding, ...]:
    """Every fault found. Raises MediumError."""
    found = [Finding(Severity.PROBLEM, warning) for warning in volume.boot.warnings]
    found += _regions(volume)
    try:
        tree = volume.tree()
        found += tree.findings
        found += _upcase(volume)
        found += _bitmap(volume, tree.entries)
    except FormatError as error:
        found.append(Finding(Severity.PROBLEM, str(error), remedy="Keep the card before trying to mend it."))
    if not volume.is_clean:
        found.append(Finding(Severity.NOTE, "The volume was not put away properly the last time.",
                             remedy="Eject a card before pulling it."))
    return tuple(found)


def _regions(volume: ExfatVolume) -> Iterator[Finding]:
    sector, blocks = volume.geometry.sector, volume.blocks
    regions = [blocks.read(k * REGION_SECTORS * sector, REGION_SECTORS * sector) for k in (0, 1)]
    for name, region in zip(("main boot region", "backup of the boot region"), regions, strict=True):
        if region[11 * sector:11 * sector + 4] != boot_checksum(region, sector).to_bytes(4, "little"):
            yield Finding(Severity.WARNING, f"The checksum of the {name} is wrong.",
                          remedy="Many machines refuse such a volume; growing or rebuilding it writes it anew.")
    if any(a != b for k, (a, b) in enumerate(zip(*regions, strict=True)) if k not in (106, 107, 112)):
        yield Finding(Severity.WARNING, "The backup of the boot region differs from it.", remedy="The first is used.")


def _upcase(volume: ExfatVolume) -> Iterator[Finding]:
    raw = volume.root_entry(UPCASE)
    first, length = volume.upcase_place
    if raw is not None and length <= 0x20004:
        stored = int(np.frombuffer(raw, UPCASE_ENTRY)[0]["checksum"])
        if names.table_checksum(volume.read_clusters(first, length)) != stored:
            yield Finding(Severity.WARNING, "The checksum of the up-case table is wrong.")


def _bitmap(volume: ExfatVolume, entries: tuple[Entry, ...]) -> Iterator[Finding]:
    g = volume.geometry
    claims = np.zeros(g.cluster_count + 2, np.int32)
    for first, length in (volume.bitmap_place, volume.upcase_place):
        for start, count in volume.chains.runs(first, -(-length // g.cluster)):
            claims[start:start + count] += 1
    for start, count in volume.chains.runs(g.root_cluster):
        claims[start:start + count] += 1
    for entry in entries:
        row = volume.row_of(entry)
        if row.data_length == 0 or row.first_cluster == 0:
            if row.data_length:
                yield Finding(Severity.PROBLEM, f"“{entry.path}” has a size but no clusters.", entry.path)
            continue
        try:
            extents = volume.extents_of(entry) if entry.kind == Kind.FILE else volume._extents(
                row.first_cluster, row.data_length, contiguous=row.is_contiguous)
        except FormatError as error:
            yield Finding(Severity.PROBLEM, f"The chain of “{entry.path}” is damaged: {error}", entry.path)
            continue
        for extent in extents:
            start = (extent.start - g.cluster_offset(2)) // g.cluster + 2
            claims[start:start - (-extent.length // g.cluster)] += 1
        if row.valid_length > row.data_length:
            yield Finding(Severity.WARNING, f"“{entry.path}” says that more of it is valid than it is long.",
                          entry.path)
    claimed, used = claims[2:] > 0, volume.bitmap
    crossed, missing = int((claims > 1).sum()), int((claimed & ~used).sum())
    lost = int((used & ~claimed & (volume.table[2:] != BAD)).sum())
    if crossed:
        yield Finding(Severity.PROBLEM, f"{counted(crossed, 'cluster')} belong to more than one file.",
                      remedy="At most one of these files is whole. Copy them off before anything else.")
    yield from disagreements(missing, lost, "cluster", g.cluster)
