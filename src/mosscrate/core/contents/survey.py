"""Reading a whole medium once: map, volumes, what is in them, and everything worth saying."""

from __future__ import annotations

from collections import Counter
from contextlib import suppress
from dataclasses import dataclass, field, replace
from itertools import islice

import numpy as np

from mosscrate.core.blocks import Blocks, Window
from mosscrate.core.contents.files import FileKind, count_kinds
from mosscrate.core.contents.layout import Layout, PartitionLook, VolumeLook, unknown_layout
from mosscrate.core.contents.naming import stands_for_device
from mosscrate.core.contents.roles import Role, guess_role
from mosscrate.core.contents.straight import SWAPPED, straight
from mosscrate.core.errors import FormatError, InProof, MediumError, NotReadYet
from mosscrate.core.findings import Finding, Severity, worst_first
from mosscrate.core.images import Compared, ContainedDisk, PackedDisk, packed_in
from mosscrate.core.images.packing import kind_by
from mosscrate.core.images.published import NAMES, unusable
from mosscrate.core.maps import MapKind, Partition, PartitionMap, map_format, mbr, rdb, read_map
from mosscrate.core.sizes import MIB, binary, counted
from mosscrate.core.volumes import (
    Tree,
    Volume,
    check,
    claimed_size,
    format_with,
    is_opened_here,
    kind_name,
    open_volume,
    soundness,
    volume_kind,
)
from mosscrate.core.volumes.soundness import contradictions

WORTH_OFFERING = 64 << 20          # a free tail below this is alignment, not room
GROW_INTO = "A firmware may have meant to grow into it at its first start; Move can do it now."
SHOWN_DEVICES = 3                  # names that stand for devices
PROBE, NEAR, FAR = 4096, 64, 192      # bytes that are read at a place, places in the first MiBs, and over the whole
SHOWS_AGAIN = "Put back what stood there: then it shows again."
MARKED = "marks of an interrupted proof stand there"
CONTRADICTS = "its tables and files contradict one another"
_PLURALS = {FileKind.ROM: "ROM", FileKind.SAVE: "save", FileKind.FIRMWARE: "firmware file",
            FileKind.SETTING: "setting", FileKind.PICTURE: "picture", FileKind.OTHER: "file"}


@dataclass
class Opened:
    """Volumes by the numbers of their partitions, and what is on them, for whoever goes on with them."""

    volumes: dict[int, tuple[Volume, Tree]] = field(default_factory=dict)


def survey(blocks: Blocks, *, thorough: bool = False, opened: Opened | None = None) -> Layout:
    """What is on a medium. Raises MediumError only where nothing at all can be read.

    Args:
        blocks: the medium.
        thorough: also check the structure of each volume.
        opened: is given what was opened; what it holds already is not opened and walked again.
    """
    try:
        return _surveyed(blocks, opened or Opened(), thorough=thorough)
    except InProof as met:
        finding = Finding(Severity.PROBLEM, str(met), remedy=SHOWS_AGAIN)
        layout = unknown_layout(blocks.size, blocks.sector, MARKED)
        return replace(layout, partitions=tuple(replace(look, is_unread=False) for look in layout.partitions),
                       findings=(finding,))


def _surveyed(blocks: Blocks, opened: Opened, *, thorough: bool) -> Layout:
    unread = packed_in(blocks)
    if unread is not None and not unread.is_reached:
        return _unreached(blocks, unread)
    whole, blocks = blocks, straight(blocks)
    map_ = read_map(blocks)
    looks, findings = [], list(map_.findings)
    if blocks.container == SWAPPED:
        findings.append(Finding(Severity.NOTE, "The two bytes of every word are swapped on this medium, as some "
                                "adapters do it. It is shown as its machine sees it.",
                                remedy="It is kept and written exactly as it stands."))
    for partition in map_.partitions:
        look, found = _look(blocks, map_, partition, opened, thorough=thorough)
        looks.append(look)
        findings += found
    layout = Layout(blocks.size, blocks.sector, map_.kind, map_.id, tuple(looks), blocks.container,
                    findings=tuple(findings), map=map_)
    with suppress(NotReadYet):
        is_blank = map_.kind == MapKind.NONE and has_blank_ends(blocks)
        layout = replace(layout, is_blank=is_blank, trace=trace_between(blocks) if is_blank else None)
    layout = replace(layout, cut=_cut(blocks, map_))
    packed = packed_in(blocks)
    if packed is not None:
        layout = replace(layout, packing=packed.packing, is_size_known=packed.is_size_known,
                         least=0 if packed.is_size_known else packed.least,
                         is_read_through=packed.remembered.is_read_through, fault=packed.remembered.fault,
                         places=packed.places,
                         cut=layout.cut if packed.is_size_known else 0)
    first = blocks.read(0, min(blocks.size, 512)) if layout.map_kind == MapKind.NONE else b""
    if lack := lack_of(whole):
        layout = replace(layout, fault=f"The file {lack}.")
    about = (*_about_all(layout, kind_by(first)), *_out_of_reach(layout), *_about_checksums(whole))
    return replace(layout, findings=worst_first((*layout.findings, *about)))


def _unreached(blocks: Blocks, packed: PackedDisk) -> Layout:
    """Of a disk behind the far end of an archive in another one."""
    why = Finding(Severity.NOTE, f"The list of what is in {packed.packing.name} stands at its end, which has not been "
                  "unpacked yet.", remedy="Reading it through tells what is inside, and compares its checksums.")
    return replace(unknown_layout(blocks.size, blocks.sector, "not read yet"), packing=packed.packing,
                   is_size_known=False, is_read_through=False, places=packed.places, findings=(why,))


def lack_of(blocks: Blocks) -> str:
    """What is missing of the file that holds a disk, in words that follow its name; "" for nothing."""
    seen: Blocks | None = blocks
    while seen is not None and not isinstance(seen, ContainedDisk):
        seen = getattr(seen, "inner", None)
    return seen.lack if seen is not None else ""


def _about_checksums(blocks: Blocks) -> list[Finding]:
    """What is known, or could be, of whether a download is what was published."""
    packed = packed_in(blocks)
    if lack := lack_of(blocks):
        return [Finding(Severity.PROBLEM, f"The file {lack}. What is in it is read.",
                        remedy="It is not written to a card as it is.")]
    if packed is not None and packed.remembered.fault:
        return [Finding(Severity.PROBLEM, packed.remembered.fault, remedy="It is not written to a card as it is.")]
    if packed is not None and packed.remembered.checked:
        return [Finding(Severity.GOOD, f"It was read through: {', '.join(packed.remembered.checked)}.")]
    if not isinstance(blocks, Compared):
        return []
    published = (*blocks.published[1], *blocks.published[2])
    kinds = ", ".join(f"{NAMES[p.kind]} in {p.found_in}" for p in published if p.digest)
    told = [Finding(Severity.WARNING, f"{sentence[0].upper()}{sentence[1:]}.", remedy="Fetch the list again.")
            for sentence in (unusable(p) for p in published if not p.digest)]
    if kinds:
        told.append(Finding(Severity.NOTE, f"A published checksum lies beside it ({kinds}): it is compared while it is "
                            "read."))
    return told


def _cut(blocks: Blocks, map: PartitionMap) -> int:
    """Bytes that a map, or a volume without one, counts on behind the end of its medium."""
    if map.kind == MapKind.NONE:
        return max(0, claimed_size(blocks) - blocks.size)
    return max((0, *(p.end - blocks.size for p in map.partitions)))


def has_blank_ends(blocks: Blocks) -> bool:
    """Whether the first and the last MiB are zeros. Raises MediumError."""
    edge = min(blocks.size, 1 << 20)
    return not any(np.frombuffer(blocks.read(at, edge), np.uint8).any() for at in (0, blocks.size - edge))


def trace_between(blocks: Blocks) -> int | None:
    """A byte that is not zero between blank ends, looked for at some places, most of them near the beginning.

    None too where one of them cannot be read: that is another matter, and each may take seconds.
    """
    last = blocks.size // PROBE - 1
    numbers = {min(last, (MIB * place) // PROBE) for place in range(1, NEAR)} | {
        last * place // FAR for place in range(1, FAR)}
    with suppress(MediumError):
        for number in sorted(numbers) if last > 0 else ():
            places = np.flatnonzero(np.frombuffer(blocks.read(number * PROBE, PROBE), np.uint8))
            if len(places):
                return number * PROBE + int(places[0])
    return None


def partition_window(blocks: Blocks, partition: Partition) -> Window:
    """The part of a medium that a partition names, cut at the medium's end. Raises MediumError."""
    if partition.start >= blocks.size:
        raise MediumError(f"Partition {partition.index} starts behind the end of the medium.", partition.start)
    return Window(blocks, partition.start, min(partition.length, blocks.size - partition.start))


def whole_partition(blocks: Blocks, index: int) -> Window:
    """All bytes of a partition, as its machine sees them. Raises MediumError, also where the medium is too short."""
    blocks = straight(blocks)
    partition = _partition(blocks, index)
    if partition.end > blocks.size:
        raise MediumError(f"Partition {index} goes on behind the end of the medium. Keep the whole medium instead.",
                          blocks.size)
    return Window(blocks, partition.start, partition.length)


def open_partition(blocks: Blocks, index: int) -> Volume:
    """The volume on a partition by number. Raises FormatError, MediumError."""
    blocks = straight(blocks)
    return open_volume(partition_window(blocks, _partition(blocks, index)))


def open_volumes(blocks: Blocks, layout: Layout) -> dict[int, Volume]:
    """Every volume of a layout whose files can be listed, by its number. Raises FormatError, MediumError."""
    return {look.index: open_partition(blocks, look.index) for look in layout.partitions
            if look.volume and look.volume.used is not None}


def _partition(blocks: Blocks, index: int) -> Partition:
    partitions = read_map(blocks).partitions
    found = next((p for p in partitions if p.index == index), None)
    if found is None:
        have = ", ".join(str(p.index) for p in partitions) or "none"
        raise MediumError(f"There is no partition {index} on this medium; it has {have}.")
    return found


def _look(blocks: Blocks, map_: PartitionMap, partition: Partition, into: Opened, *,
          thorough: bool) -> tuple[PartitionLook, list[Finding]]:
    if map_.kind == MapKind.MBR and mbr.is_extended(partition):
        return PartitionLook(partition, None, Role.UNKNOWN, "it only holds the logical drives"), []
    kind = ""
    try:
        if (known := into.volumes.get(partition.index)) is not None:
            return _with_map(map_, *_opened(partition, known[0], into, thorough=thorough))
        window = partition_window(blocks, partition)
        kind = volume_kind(window)
        if not kind and map_.kind != MapKind.NONE and rdb.probe(window.read(0, min(window.size, rdb.SEARCHED * 512))):
            return _drive_within(partition, read_map(window))
        if not kind:
            return PartitionLook(partition, None, Role.UNKNOWN, "no file system is recognised on it"), []
        if not is_opened_here(window):
            return _closed(partition, kind)
        return _with_map(map_, *_opened(partition, open_volume(window), into, thorough=thorough))
    except NotReadYet:
        return PartitionLook(partition, VolumeLook(kind) if kind else None, Role.UNKNOWN, "not read yet",
                             is_unread=True), []
    except InProof as met:
        finding = Finding(Severity.PROBLEM, str(met), f"Partition {partition.index}", partition.index,
                          SHOWS_AGAIN)
        return PartitionLook(partition, VolumeLook(kind) if kind else None, Role.UNKNOWN, MARKED), [finding]
    except (FormatError, MediumError) as error:
        finding = Finding(Severity.PROBLEM, f"The volume cannot be opened: {error}", f"Partition {partition.index}",
                          partition.index, "Keep the card exactly before trying to mend it.")
        look = VolumeLook(kind) if kind else None
        return PartitionLook(partition, look, Role.UNKNOWN, "it cannot be opened"), [finding]


def _drive_within(partition: Partition, map: PartitionMap) -> tuple[PartitionLook, list[Finding]]:
    """A partition that is a whole drive of another family, as boards keep it that know an MBR first."""
    found = Finding(Severity.GOOD, f"This partition is a whole drive of its own, with an RDB and "
                    f"{counted(len(map.partitions), 'partition')}.", f"Partition {partition.index}", partition.index,
                    "“Save as…” saves it as a drive image that opens like any other; it is kept and copied exactly.")
    return PartitionLook(partition, None, Role.STORAGE, "it is a whole drive with a map of its own"), [found]


def _closed(partition: Partition, kind: str) -> tuple[PartitionLook, list[Finding]]:
    name = kind_name(kind)
    finding = Finding(Severity.GOOD, f"This is {name}. It is not opened here yet, but kept and copied exactly.",
                      f"Partition {partition.index}", partition.index)
    return PartitionLook(partition, VolumeLook(kind), Role.STORAGE, f"it is {name}, not opened here yet"), [finding]


def look_at(blocks: Blocks, map: PartitionMap, partition: Partition) -> PartitionLook:
    """One partition of a straight medium, as a survey shows it."""
    return _look(blocks, map, partition, Opened(), thorough=False)[0]


def look_into(partition: Partition, window: Blocks) -> PartitionLook:
    """A partition with the volume that stands in a window of its bytes. Raises FormatError, MediumError."""
    return _opened(partition, open_volume(window), Opened(), thorough=False)[0]


def volume_look(volume: Volume, tree: Tree, kinds: Counter[FileKind], unsound: str = "") -> VolumeLook:
    """A volume from outside; `kinds` counts its files."""
    named = [counted(kinds[k], noun) for k, noun in _PLURALS.items() if kinds[k]]
    format = format_with(volume)
    largest, because = (0, CONTRADICTS) if unsound else format.largest(volume)
    smallest, at_least_because = format.smallest(volume)
    return VolumeLook(volume.kind, volume.label, volume.id, volume.block, volume.size, volume.size - volume.free,
                      volume.is_clean, sum(kinds.values()), kinds[FileKind.SAVE],
                      ", ".join(named[:3]) or ("no file that can be read" if tree.findings else "empty"),
                      largest, because, smallest, at_least_because,
                      max((e.name for e in tree.entries), key=len, default=""), unsound, volume.variant,
                      0 if unsound else format.largest_in_place(volume)[0],
                      tuple(islice((e.path for e in tree.entries if stands_for_device(e.name)), SHOWN_DEVICES)),
                      tuple(finding.sentence for finding in tree.findings))


def _opened(partition: Partition, volume: Volume, into: Opened, *,
            thorough: bool) -> tuple[PartitionLook, list[Finding]]:
    known = into.volumes.get(partition.index)
    tree = volume.tree() if known is None else known[1]
    into.volumes[partition.index] = volume, tree
    sound = soundness(volume, tree)
    kinds = count_kinds(tree.entries)
    guess = guess_role(kinds, volume_kind=volume.kind, is_active="active" in partition.flags,
                       top=frozenset(e.path for e in tree.entries if "/" not in e.path), is_read=not tree.findings)
    look = volume_look(volume, tree, kinds, sound.because)
    where = look.label or f"Partition {partition.index}"
    told = {finding.sentence for finding in tree.findings}
    found = check(volume) if thorough else (*tree.findings, *(
        finding for finding in contradictions(sound, volume.block) if finding.sentence not in told))
    findings = [replace(f, partition=partition.index, where=where) for f in found]
    slack = partition.length - volume.size
    if slack >= WORTH_OFFERING:
        can_grow = look.largest > volume.size
        remedy = "Growing it gives that room to its files." if can_grow else \
            f"It goes no further: {look.largest_because}." if look.largest_because else ""
        findings.append(Finding(Severity.NOTE, f"The file system leaves {binary(slack)} of its partition unused.",
                                where, partition.index, remedy))
    return PartitionLook(partition, look, guess.role, guess.reason), findings


def _with_map(map_: PartitionMap, look: PartitionLook, findings: list[Finding]) -> tuple[PartitionLook, list[Finding]]:
    """With what its map and its machine make of it."""
    return look, [*findings, *_denied(map_, look), *_misread(look)]


def _denied(map_: PartitionMap, look: PartitionLook) -> list[Finding]:
    """Where the map says something else of a volume than the volume itself."""
    volume = look.volume
    denial = map_format(map_.kind).denial(look.partition, volume.variant, volume.block) if volume else ""
    return [Finding(Severity.PROBLEM, f"Its machine cannot mount {look.name}: {denial}.", look.name,
                    look.index, "“Rebuild with its files…” makes both agree and keeps its files.")] if denial else []


def _misread(look: PartitionLook) -> list[Finding]:
    """Where other machines than its own read a volume otherwise."""
    facts = look.volume.facts if look.volume else None
    return [Finding(Severity.WARNING, f"{look.name} is read rightly by its own machine alone: {facts.misread}.",
                    look.name, look.partition.index, "Grown, it is made anew so that all read it alike.")] \
        if facts is not None and facts.misread else []


def _for_tail(layout: Layout, last: PartitionLook) -> str:
    """What can be done with the room behind the last partition."""
    if layout.map_kind == MapKind.MBR and mbr.is_extended(last.partition):
        return "More logical drives fit there."
    if layout.map_kind in (MapKind.MBR, MapKind.GPT) and last.volume and last.volume.largest > last.partition.length:
        return GROW_INTO
    return "Move can put another partition there."


def _unread_sentence(layout: Layout) -> str:
    names = ", ".join(p.name for p in layout.partitions if p.is_unread)
    size = "" if layout.is_size_known else f"Nobody knows yet how large it unpacks; its map counts on " \
        f"{binary(layout.least)}. " if layout.least else "Nobody knows yet how large it unpacks. "
    return f"{size}What is on {names} has not been read yet." if names else size.strip()


def _out_of_reach(layout: Layout) -> list[Finding]:
    """Where the map counts no further than a part of the card."""
    if not layout.can_be_arranged or layout.is_unread or layout.cut:
        return []
    beyond = layout.size - map_format(layout.map_kind).room(layout.as_map, layout.size).end
    return [Finding(Severity.NOTE, f"{binary(beyond)} at its end are out of reach: its map counts no further.",
                    "partition map", remedy="Another map, such as a GPT, reaches it, where the machine knows one.")
            ] if beyond >= WORTH_OFFERING else []


def _about_all(layout: Layout, kind: str) -> list[Finding]:
    """What is true of the whole; `kind` is of an archive that it begins like, "" for none."""
    last = layout.last()
    if layout.is_unread:
        return [Finding(Severity.NOTE, _unread_sentence(layout), remedy="Reading it through tells the rest, and "
                        "compares its checksums.")]
    if layout.cut:
        return [Finding(Severity.PROBLEM, f"It is cut short: its own contents count on {binary(layout.cut)} more.",
                        remedy="It may be one part of several, or a download that was broken off. Get the rest of it.")]
    if layout.can_be_arranged and not layout.partitions:
        return [Finding(Severity.NOTE, "The card has a partition map but no partitions.", "partition map")]
    if layout.can_be_arranged and last and layout.tail >= WORTH_OFFERING:
        return [Finding(Severity.NOTE, f"{binary(layout.tail)} behind {last.name} are unused.", last.name, last.index,
                        _for_tail(layout, last))]
    if layout.map_kind == MapKind.NONE and layout.partitions and not layout.partitions[0].volume:
        if layout.is_blank:
            if layout.trace is not None:
                return [Finding(Severity.NOTE, f"No map, no file system, blank ends; yet something stands at byte "
                                f"{layout.trace:,}: its map was cleared or its beginning erased, and what lay behind "
                                "is still there.", remedy="If that was not meant, keep the card before all else.")]
            return [Finding(Severity.GOOD, "The card is blank: no map and no file system; its ends, and the places "
                            "between that were read, hold only zeros.")]
        if kind:
            article = "an" if kind == "xz" else "a"
            return [Finding(Severity.PROBLEM, f"It begins like {article} {kind} file: most likely the archive "
                            "itself was written to it, not the disk in it.",
                            remedy="Write it again from the archive, which is unpacked on the way.")]
        return [Finding(Severity.NOTE, "There is no map and no file system that is known here.",
                        remedy="It may be exactly right for its machine. Keep it before anything else.")]
    return []
