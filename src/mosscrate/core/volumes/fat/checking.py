"""What is wrong with a FAT volume: chains, folders, copies and hints, each a finding."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from mosscrate.core.errors import FormatError
from mosscrate.core.findings import Finding, Severity
from mosscrate.core.sizes import counted
from mosscrate.core.volumes.base import Entry, Kind
from mosscrate.core.volumes.claims import disagreements
from mosscrate.core.volumes.clusters import BAD, END, FREE, owners
from mosscrate.core.volumes.fat import directory
from mosscrate.core.volumes.fat.structures import BOOT32
from mosscrate.core.volumes.fat.table import read_table
from mosscrate.core.volumes.fat.volume import FatVolume

_LINK = {directory.DOT: "“.”", directory.DOT_DOT: "“..”"}


def check(volume: FatVolume) -> tuple[Finding, ...]:
    """Every fault found, worst first within each kind. Raises MediumError."""
    tree = volume.tree()
    found = [Finding(Severity.PROBLEM, warning) for warning in volume.boot.warnings]
    found += tree.findings
    found += _chains(volume, tree.entries)
    found += _folders(volume, tree.entries)
    found += _copies(volume)
    if volume.boot.is_fat32:
        found += _fat32(volume)
    if not volume.is_clean:
        found.append(Finding(Severity.NOTE, "The volume was not put away properly the last time.",
                             remedy="Eject a card before pulling it."))
    return tuple(found)


def _chains(volume: FatVolume, entries: tuple[Entry, ...]) -> Iterator[Finding]:
    table = volume.table
    heads = [e.node for e in entries if e.node]
    if volume.boot.is_fat32:
        heads.append(volume.geometry.root_cluster)
    held = owners(table, np.array(heads, np.int64))
    links = table[2:]
    wrong = int(((links != FREE) & (links < END) & (links != BAD) & ((links >= len(table)) | (links < 2))).sum())
    if wrong:
        yield Finding(Severity.PROBLEM, f"{counted(wrong, 'entry', 'entries')} of the FAT lead out of the volume.")
    crossed = int((held[2:] > 1).sum())
    if crossed:
        yield Finding(Severity.PROBLEM, f"{counted(crossed, 'cluster')} belong to more than one file.",
                      remedy="At most one of these files is whole. Copy them off before anything else.")
    lost = int(((links != FREE) & (links != BAD) & (held[2:] == 0)).sum())
    yield from disagreements(0, lost, "cluster", volume.block)     # the table is what says which are free
    for entry in entries:
        yield from _file(volume, entry)


def _file(volume: FatVolume, entry: Entry) -> Iterator[Finding]:
    if entry.kind == Kind.FILE and (entry.size == 0) != (entry.node == 0):
        yield Finding(Severity.WARNING, f"“{entry.path}” has a size of {entry.size} bytes but "
                      f"{'no' if entry.node == 0 else 'some'} clusters.", entry.path)
        return
    try:
        runs = volume.chains.runs(entry.node)
    except FormatError as error:
        yield Finding(Severity.PROBLEM, f"The chain of “{entry.path}” is damaged: {error}", entry.path)
        return
    count = sum(n for _, n in runs)
    if entry.kind == Kind.FILE and count != -(-entry.size // volume.block):
        yield Finding(Severity.WARNING if count * volume.block > entry.size else Severity.PROBLEM,
                      f"“{entry.path}” says {entry.size} bytes, its chain holds {count * volume.block}.", entry.path)


def _folders(volume: FatVolume, entries: tuple[Entry, ...]) -> Iterator[Finding]:
    folders = {e.path: e.node for e in entries if e.kind == Kind.FOLDER}
    for path, cluster in folders.items():
        try:
            rows = list(directory.rows(volume.directory_bytes(cluster)))
        except FormatError:
            continue                                   # reported by the walk
        parent = folders.get(path.rpartition("/")[0], 0)
        links = {row.short: row.cluster for row in rows[:2] if row.is_dot}
        for short, wanted in ((directory.DOT, cluster), (directory.DOT_DOT, parent)):
            if links.get(short) != wanted:
                yield Finding(Severity.WARNING, f"In the folder “{path}” the link {_LINK[short]} does not lead "
                              "where it should.", path)


def _copies(volume: FatVolume) -> Iterator[Finding]:
    if volume.boot.is_fat32 and int(volume.boot.raw["ext_flags"]) & 0x80:
        return                                          # mirroring is off: the copies may differ
    for copy in range(volume.geometry.fat_count):
        if copy == volume.boot.active_fat:
            continue
        other = read_table(volume.blocks, volume.geometry, copy)
        differing = int((other[2:] != volume.table[2:]).sum())
        if differing:
            yield Finding(Severity.WARNING, f"Copy {copy + 1} of the FAT differs from the first in "
                          f"{counted(differing, 'entry', 'entries')}.", remedy="The first copy is used.")


def _fat32(volume: FatVolume) -> Iterator[Finding]:
    free = int((volume.table[2:] == FREE).sum())
    if volume.fsinfo is None:
        yield Finding(Severity.WARNING, "FSInfo, the sector with the count of free clusters, is missing or damaged.",
                      remedy="Nothing is lost: the count is made anew from the FAT.")
    elif volume.fsinfo.free_count not in (None, free):
        yield Finding(Severity.NOTE, f"FSInfo says {volume.fsinfo.free_count} free clusters, the FAT has {free}.",
                      remedy="The FAT is right; the hint is mended with the next change.")
    backup = int(volume.boot.raw["backup_boot_sector"])
    if 0 < backup < volume.geometry.reserved:
        copy = volume.blocks.read(backup * volume.geometry.sector, BOOT32.itemsize)
        differing = [field for field in (BOOT32.names or ()) if field not in ("boot_code", "state")
                     and np.frombuffer(copy, BOOT32)[0][field] != volume.boot.raw[field]]
        if differing:
            yield Finding(Severity.WARNING, "The backup of the boot sector differs from it in "
                          f"{', '.join(differing)}.", remedy="The first one is used.")
    else:
        yield Finding(Severity.NOTE, "The volume has no backup of its boot sector.")
