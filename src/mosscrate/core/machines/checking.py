"""Whether a machine can take a layout: every limit with its reason, for real cards and for plans."""

from __future__ import annotations

from collections.abc import Iterable, Iterator

from mosscrate.core.contents import Layout, PartitionLook
from mosscrate.core.contents.straight import SWAPPED
from mosscrate.core.findings import Finding, Severity
from mosscrate.core.machines.machine import Geometry, Limit, Machine
from mosscrate.core.maps import MapKind, PartitionMap, rdb
from mosscrate.core.maps.geometry import UNTRANSLATED, derived
from mosscrate.core.maps.mbr import geometry_of
from mosscrate.core.sizes import binary, counted
from mosscrate.core.volumes import kind_name

_MAP_WORDS = {MapKind.NONE: "no partition map", MapKind.MBR: "an MBR", MapKind.GPT: "a GPT", MapKind.RDB: "an RDB",
              MapKind.AHDI: "an AHDI root sector", MapKind.APPLE: "an Apple partition map"}


def check(layout: Layout, machine: Machine) -> tuple[Finding, ...]:
    """What the machine cannot take, worst first; one good word where it can take everything.

    Of a blank medium there is nothing to say.
    """
    if layout.is_blank:
        return ()
    found = [*_about_medium(layout, machine), *_about_boot(layout, machine)]
    for look in layout.with_contents:
        found += _about_partition(look, machine)
    if not found:
        return (Finding(Severity.GOOD, f"It suits a {machine.name}: map, file systems, sizes and places."),)
    order = list(Severity)
    return tuple(sorted(found, key=lambda f: -order.index(f.severity)))


def largest_in(machine: Machine, look: PartitionLook, *, is_boot: bool) -> tuple[int, str] | None:
    """Bytes that a partition may have where it starts, and the reason; None where the machine sets no limit."""
    start = look.partition.start
    limits = [(limit.bytes - start, limit.because) for limit in
              (machine.reach, machine.boot.ends_by if is_boot else None) if limit]
    if machine.partition:
        limits.append((machine.partition.bytes, machine.partition.because))
    return min(((size, because) for size, because in limits if size > 0), default=None)


def boot_partition(layout: Layout) -> PartitionLook | None:
    """The partition that is marked to start from, else the first one."""
    looks = layout.with_contents
    return next((p for p in looks if "active" in p.partition.flags),
                min(looks, key=lambda p: p.partition.start, default=None))


def _about_medium(layout: Layout, machine: Machine) -> Iterator[Finding]:
    if layout.map_kind not in machine.maps:
        wanted = " or ".join(_MAP_WORDS[MapKind(kind)] for kind in machine.maps)
        yield Finding(Severity.PROBLEM, f"A {machine.name} expects {wanted}; here is {_MAP_WORDS[layout.map_kind]}.",
                      "partition map")
    order = "swapped" if layout.container == SWAPPED else "straight"
    if machine.bytes not in (order, "either"):
        yield Finding(Severity.PROBLEM, f"Its bytes are {order}; a {machine.name} reads them {machine.bytes}.",
                      "byte order", remedy="“Swap bytes” turns them round.")
    if machine.geometry and layout.map_kind == MapKind.RDB and layout.map and layout.map.origin:
        yield from _geometry(layout.map, machine, machine.geometry)
    if machine.bios and layout.map_kind == MapKind.MBR and layout.map and layout.partitions:
        yield from _bios(layout.map, layout.size // layout.sector, machine)
    count = len(layout.with_contents)
    if machine.most and count > machine.most:
        yield Finding(Severity.WARNING, f"A {machine.name} takes {counted(machine.most, 'partition')}; here are "
                      f"{count}. The later ones stay unseen.", "partition map")


def _geometry(map: PartitionMap, machine: Machine, wanted: Geometry) -> Iterator[Finding]:
    head = rdb.head_of(map)[1]
    heads, sectors = int(head["heads"]), int(head["sectors"])
    if (heads, sectors) != (wanted.heads, wanted.sectors):
        yield Finding(Severity.NOTE, f"The map counts {heads} heads and {sectors} sectors in a track; a {machine.name} "
                      f"wants {wanted.heads} and {wanted.sectors}.", "partition map",
                      remedy="Only a new map changes that; what matters is that the drive starts.")


def _bios(map: PartitionMap, sectors: int, machine: Machine) -> Iterator[Finding]:
    wanted, found = UNTRANSLATED if machine.bios == "plain" else derived(sectors), geometry_of(map)
    if found != wanted:
        yield Finding(Severity.NOTE, f"Its table counts in {found.heads} heads and {found.sectors} sectors of a track; "
                      f"the BIOS of a {machine.name} counts this drive in {wanted.heads} and {wanted.sectors}.",
                      "partition map", remedy="Old systems may not start from it; a new map counts as they do.")


def _about_boot(layout: Layout, machine: Machine) -> Iterator[Finding]:
    look, rule = boot_partition(layout), machine.boot
    if look is None:
        return
    if rule.must_be_marked and layout.map_kind != MapKind.NONE and "active" not in look.partition.flags:
        yield Finding(Severity.WARNING, f"No partition is marked to start from, as a {machine.name} needs it.",
                      "partition map", remedy=f"{look.name} is the first: set its flag “active”.")
    if rule.ends_by:
        yield from _ends_by(look, rule.ends_by, ", to start from,")
    kind = _kind(look)
    if kind and rule.volumes and kind not in rule.volumes:
        yield _finding(Severity.WARNING, look, f"A {machine.name} does not start from {kind_name(kind)}, as "
                       f"{look.name} is, but from {_listed(rule.volumes)}.")


def _about_partition(look: PartitionLook, machine: Machine) -> Iterator[Finding]:
    length, kind = look.partition.length, _kind(look)
    if kind and kind not in machine.volumes:
        yield _finding(Severity.WARNING, look, f"{look.name} holds {kind_name(kind)}; a {machine.name} opens "
                       f"{_listed(machine.volumes)}.")
    if machine.partition and length > machine.partition.bytes:
        yield _finding(Severity.PROBLEM, look, f"{look.name} has {binary(length)}, above "
                       f"{binary(machine.partition.bytes)}: {machine.partition.because}.")
    if machine.reach:
        yield from _ends_by(look, machine.reach, "")
    longest = look.volume.longest_name if look.volume else ""
    if machine.names and len(longest) > machine.names.most:
        yield _finding(Severity.WARNING, look, f"“{longest}” on {look.name} has {len(longest)} characters; a "
                       f"{machine.name} takes {machine.names.most}: {machine.names.because}.")
    yield from _devices(look, machine)


def _devices(look: PartitionLook, machine: Machine) -> Iterator[Finding]:
    named = look.volume.devices if look.volume and machine.has_devices_by_name else ()
    if named:
        one = len(named) == 1
        yield _finding(Severity.WARNING, look, f"{', '.join(f'“{path}”' for path in named)} on {look.name} "
                       f"{'bears the name of a device' if one else 'bear names of devices'}: a {machine.name} opens "
                       f"the device and never the file. Give {'it another name' if one else 'them other names'} there.")


def _listed(kinds: Iterable[str]) -> str:
    return ", ".join(kind_name(kind) for kind in kinds)


def _kind(look: PartitionLook) -> str:
    """The variant of its volume, by which machines tell them apart; "" where it has none."""
    facts = look.volume.facts if look.volume else None
    is_floppy = facts is not None and facts.home == MapKind.NONE
    if facts is not None and facts.made_as:
        return facts.made_as
    return facts.shown if facts is not None and is_floppy else look.variant         # read wherever FAT12 is


def _ends_by(look: PartitionLook, limit: Limit, what_for: str) -> Iterator[Finding]:
    if look.partition.end > limit.bytes:
        yield _finding(Severity.PROBLEM, look, f"{look.name}{what_for} ends above {binary(limit.bytes)}: "
                       f"{limit.because}.")


def _finding(severity: Severity, look: PartitionLook, sentence: str) -> Finding:
    return Finding(severity, sentence, partition=look.index)

