"""A card laid out anew for a purpose: what a person wishes, as the steps that make it."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass
from itertools import islice, product

from mosscrate.core.contents.layout import Layout
from mosscrate.core.crate import Crate
from mosscrate.core.errors import FitError
from mosscrate.core.findings import Severity
from mosscrate.core.machines import Machine, check
from mosscrate.core.maps import MapKind, written_kinds
from mosscrate.core.maps.edits import TRACK
from mosscrate.core.sheet.planning.forecasting import forecast
from mosscrate.core.sheet.planning.losses import what_would_be_lost
from mosscrate.core.sheet.sheet import JobSheet, reference
from mosscrate.core.sheet.steps import (
    AddPartition,
    AnyStep,
    Eject,
    FillWithDrives,
    FlagPartition,
    KeepCard,
    NewMap,
    PutFiles,
    Which,
)
from mosscrate.core.sizes import GIB, MIB
from mosscrate.core.slots import Medium
from mosscrate.core.volumes import facts_for, facts_of

LARGEST_MBR = 2 << 40                  # bytes: sectors of 512 are counted in 32 bits
LEAST_FAT32 = 64 * MIB                 # below it the number of clusters decides
FIRMWARE = 256 * MIB
DRIVE = 2 * GIB                        # of FAT16
OLD_PC = 8 * 10**9                     # what the BIOS of an old PC reaches
LEAST_DRIVE = 16 * MIB
EDGES = 5 * MIB                        # for the map and for alignment
MOST_PARTITIONS = 8


@dataclass(frozen=True)
class Wish:
    """What a person says of the card that they want.

    Attributes:
        layout: key of one of LAYOUTS.
        kind: file system of the volume for the files; "" for the usual one.
        label: of that volume.
        files: files and folders of this computer that are put on it.
        games: steps that put games to their places on that volume, see `fresh_games`.
    """

    layout: str = "one"
    kind: str = ""
    label: str = ""
    files: tuple[str, ...] = ()
    games: tuple[AnyStep, ...] = ()


@dataclass(frozen=True)
class FreshLayout:
    """One way to lay a card out: its key in the shell, its name, what it is good for."""

    key: str
    name: str
    about: str
    steps: Callable[[Wish, Layout, Machine | None], tuple[AnyStep, ...]]
    home: int = 1                      # number of the partition that takes the files


def prepared(wish: Wish, layout: Layout, machine: Machine | None = None) -> tuple[AnyStep, ...]:
    """The steps that lay a card out as wished, files included. Raises FitError with what stands against it."""
    fresh = _fresh(wish)
    steps = fresh.steps(wish, layout, machine)
    return (*steps, *((PutFiles(fresh.home, wish.files),) if wish.files else ()), *wish.games)


def home_of_layout(wish: Wish) -> int:
    """Number of the partition that takes the files. Raises FitError where there is no such layout."""
    return _fresh(wish).home


def _fresh(wish: Wish) -> FreshLayout:
    fresh = next((each for each in LAYOUTS if each.key == wish.layout), None)
    if fresh is None:
        raise FitError(f"A layout is {', '.join(each.key for each in LAYOUTS)}; “{wish.layout}” is none.")
    return fresh


def propose_preparation(medium: Medium, layout: Layout, crate: Crate, steps: tuple[AnyStep, ...]) -> JobSheet:
    """A sheet that lays a card out anew; one with files that are kept nowhere is kept first. Raises MediumError."""
    keep = any(f.severity == "warning" for f in what_would_be_lost(medium, layout, crate))
    return JobSheet((*((KeepCard(Which.TARGET),) if keep else ()), *steps, Eject()), None, reference(medium))


def kinds_for(layout: str) -> tuple[str, ...]:
    """File systems that the volume for the files may have in a layout, the usual one first."""
    return {"one": ("fat32", "exfat", "ext4", "ext3", "ext2", "fat16"), "firmware": ("fat32", "exfat", "ext4"),
            "drives": ("fat16",)}.get(layout, ())


def _one(wish: Wish, layout: Layout, _machine: Machine | None) -> tuple[AnyStep, ...]:
    kind = wish.kind or ("fat32" if layout.size >= LEAST_FAT32 else "fat")
    home = facts_for(kind).home if wish.kind else None
    map_ = home or (MapKind.GPT if layout.size > LARGEST_MBR else MapKind.MBR)
    return NewMap(str(map_)), AddPartition(kind, label=wish.label)


def _firmware(wish: Wish, layout: Layout, _machine: Machine | None) -> tuple[AnyStep, ...]:
    size = min(FIRMWARE, layout.size // 4 // MIB * MIB)
    return (NewMap("mbr"), AddPartition("fat", size, label="FIRMWARE"), FlagPartition(1, "active"),
            AddPartition(wish.kind or ("fat32" if layout.size - size >= 2 * LEAST_FAT32 else "fat"), label=wish.label))


def _drives(wish: Wish, layout: Layout, _machine: Machine | None) -> tuple[AnyStep, ...]:
    room = min(layout.size - 2 * MIB, OLD_PC)
    first = AddPartition("fat16" if room >= LEAST_DRIVE else "fat", None if room <= DRIVE else DRIVE, label=wish.label,
                         alignment=TRACK)
    more = (FillWithDrives(DRIVE, OLD_PC, "fat16"),) if room - DRIVE >= LEAST_DRIVE else ()
    return NewMap("mbr"), first, FlagPartition(1, "active"), *more


def _machine(wish: Wish, layout: Layout, machine: Machine | None) -> tuple[AnyStep, ...]:
    """The map, geometry, file system and sizes that a machine takes; the youngest file system that fits."""
    if machine is None:
        raise FitError("Choose the machine that the card is meant for first.")
    map_ = next((word for word in machine.maps if word in written_kinds()), "")
    kinds = [kind for kind in machine.volumes if (facts := facts_of(kind)) and facts.is_written
             and facts.stands_under(MapKind(map_))] if map_ else []
    kinds = [kind for kind in kinds if kind in machine.boot.volumes] or kinds
    kinds.sort(key=lambda kind: facts_for(kind).home is not None)          # its own come last, the youngest of all
    for kind, slack in product(reversed(kinds), (0, EDGES)):
        steps = _as_it_takes(machine, map_, kind, wish, layout.size, slack)
        seen = forecast(JobSheet(steps), None, layout)
        if seen.layout is not None and not seen.problems and all(
                f.severity in (Severity.GOOD, Severity.NOTE) for f in check(seen.layout, machine)):
            return steps
    raise FitError(f"Nothing that a {machine.name} reads can be made on this card.")


def _as_it_takes(machine: Machine, map_: str, kind: str, wish: Wish, size: int,
                 slack: int) -> tuple[AnyStep, ...]:
    """The first partition below what the machine starts from, the others below what it reaches."""
    reach = min(size, machine.reach.bytes if machine.reach else size)
    most = min(machine.partition.bytes - slack if machine.partition else size, DRIVE if kind == "fat16" else size)
    start = min(reach, machine.boot.ends_by.bytes if machine.boot.ends_by else size)
    first = None if min(most, start) >= size else min(most, start - EDGES)
    steps: list[AnyStep] = [NewMap(map_, *machine.tracks(map_)),
                            AddPartition(kind, first, label=wish.label, alignment=TRACK if machine.bios else None)]
    if machine.boot.must_be_marked:
        steps.append(FlagPartition(1, "active"))
    if first is not None and machine.most != 1:
        room = reach - EDGES - first
        steps += [FillWithDrives(min(most, reach), reach, kind)] if map_ == "mbr" and room >= LEAST_DRIVE else list(
            islice(_further(kind, most, room), (machine.most or MOST_PARTITIONS) - 1))
    return tuple(steps)


def _further(kind: str, most: int, room: int) -> Iterator[AnyStep]:
    """More partitions of the largest size, as far as the room goes."""
    while room >= LEAST_DRIVE + EDGES:
        size = min(most, room - EDGES)
        yield AddPartition(kind, size)
        room -= size + EDGES


LAYOUTS = (
    FreshLayout("one", "One volume for everything", "FAT32 is read by most machines, exFAT by newer ones; both take "
                "the whole card.", _one),
    FreshLayout("firmware", "Firmware and games", f"A small volume that the machine starts from ({FIRMWARE // MIB} MiB "
                "at most), all the rest for files.", _firmware, home=2),
    FreshLayout("drives", "Drives of an old PC", f"C and logical drives of FAT16, none above {OLD_PC // 10**9} GB.",
                _drives),
    FreshLayout("machine", "As its machine wants it", "Map, file system and sizes that the chosen machine takes.",
                _machine))
