"""Proof that a target holds what its source holds: volumes file by file, everything else by bytes."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass

from blake3 import blake3

from mosscrate.core.blocks import Blocks, Window
from mosscrate.core.blocks.streaming import digest
from mosscrate.core.contents.straight import straight
from mosscrate.core.contents.survey import partition_window, survey
from mosscrate.core.contents.transfer import SKIPPED, Passage
from mosscrate.core.errors import FormatError, JobError
from mosscrate.core.maps import MapKind, Partition, read_map
from mosscrate.core.maps.mbr import is_extended
from mosscrate.core.sizes import binary, counted, some_of
from mosscrate.core.volumes import Entry, Kind, Volume, facts_of, open_volume
from mosscrate.core.volumes.places import in_order_of_place
from mosscrate.core.watch import Watch

_BOOT_CODE = {MapKind.MBR: 440, MapKind.GPT: 440, MapKind.AHDI: 342}   # bytes in front of the map's own fields
SHOWN = 5


@dataclass(frozen=True)
class Proof:
    """What was compared. `files` by digest, `bytes` read from the target; `unread` folders were not read in full."""

    partitions: int
    files: int
    bytes: int
    unread: int = 0

    @property
    def sentence(self) -> str:
        """For the result page."""
        if not self.files and not self.unread:
            return f"All {binary(self.bytes)} are equal by digest."
        said = f"{counted(self.files, 'file')} on {counted(self.partitions, 'partition')} " \
            f"{'is' if self.files == 1 else 'are'} equal by digest."
        if self.unread:
            said += f" {counted(self.unread, 'folder')} of the source could not be read in full: nothing is said of " \
                "what may be there."
        return said


def verify_copy(source: Blocks, target: Blocks, watch: Watch) -> Proof:
    """Compare a target with the source it was written from, also after partitions have grown.

    Raises JobError that names what differs.
    """
    target.drop_cache()
    source, target = straight(source), straight(target)
    old, new = read_map(source), read_map(target)
    differences: list[str] = []
    if survey(source).cut:
        differences.append("its end: the source itself is cut short, so nothing of it can be called equal")
    code = _BOOT_CODE.get(old.kind, 0)
    if (old.kind, old.id) != (new.kind, new.id) or old.origin[:code] != new.origin[:code]:
        differences.append("the partition map's boot code or disk id")
    files = done = unread = 0
    meter = _Meter(watch)
    for partition in old.partitions:
        twin = next((p for p in new.partitions if p.index == partition.index), None)
        if old.kind == MapKind.MBR and is_extended(partition):
            continue                                   # what it holds is compared drive by drive
        if twin is None:
            differences.append(f"partition {partition.index}, which is not there")
            continue
        compared, count, hidden = _partition(source, target, partition, twin, meter)
        differences += compared
        files, done, unread = files + count, done + partition.length, unread + hidden
    if old.kind == MapKind.NONE and not old.partitions:
        differences.append("everything: the source has no contents")
    if differences:
        raise JobError(f"The target differs from its source in {some_of(differences, SHOWN)}. "
                       "The source is untouched; write the target again or take another card.")
    return Proof(len(old.partitions), files, done, unread)


@dataclass
class _Meter:
    """Counts the bytes of the target that were compared; `total` grows with each volume."""

    watch: Watch
    done: int = 0
    total: int = 0

    def add(self, count: int) -> None:
        self.done += count
        self.watch.progress("Comparing", self.done, self.total)


def file_digests(volume: Volume, entries: Sequence[Entry], count: Callable[[int], None]
                 ) -> dict[str, tuple[Kind, str, int | None]]:
    """(kind, BLAKE3, time) of the entries of a volume; folders have an empty digest."""
    found = {e.path: (e.kind, _file_digest(volume, e, count), e.modified) for e in in_order_of_place(volume, entries)}
    return {e.path: found[e.path] for e in entries}


def must_have_arrived(old: Volume, new: Volume, passage: Passage, watch: Watch) -> None:
    """Compare the files of a volume that was made anew with those it was made from. Raises JobError with what differs.
    """
    meter, facts = _Meter(watch), facts_of(new.variant)
    fold = facts.folded if facts is not None else str.casefold
    came, here = old.tree().entries, new.tree().entries
    meter.total = sum(e.size for e in here)
    wanted = {fold(passage.renamed.get(path, path)): found[:2]
              for path, found in file_digests(old, came, lambda _: watch.check()).items()
              if path not in passage.left_out and path.split("/")[0] not in SKIPPED}
    arrived = {fold(path): found[:2] for path, found in file_digests(new, here, meter.add).items()}
    differences = sorted(f"“{path}”" for path, found in wanted.items() if arrived.get(path) != found)
    if differences:
        raise JobError(f"What was copied does not read back as it was: {some_of(differences, SHOWN)}. The source is "
                       "untouched; take another card.")


def _partition(source: Blocks, target: Blocks, partition: Partition, twin: Partition,
               meter: _Meter) -> tuple[list[str], int, int]:
    """What differs, how many files were compared, and how many folders could not be read in full."""
    window = partition_window(source, partition)
    try:
        volume = open_volume(window)
    except FormatError:
        other = Window(target, twin.start, window.size)
        same = digest(window, window.size, meter.watch, phase="Comparing") == digest(
            other, window.size, meter.watch, phase="Comparing")
        return ([] if same else [f"the bytes of partition {partition.index}"]), 0, 0
    copy = open_volume(partition_window(target, twin))
    tree, there = volume.tree(), copy.tree().entries
    with ThreadPoolExecutor(1, "compare") as pool:
        meter.total += sum(e.size for e in there)
        expected = pool.submit(file_digests, volume, tree.entries, lambda _: meter.watch.check())
        found = file_digests(copy, there, meter.add)
        wanted = expected.result()
    differences = [f"“{path}”" for path in wanted.keys() | found.keys() if wanted.get(path) != found.get(path)]
    if (volume.label, volume.id) != (copy.label, copy.id):
        differences.append(f"the label or serial number of partition {partition.index}")
    files = sum(kind == Kind.FILE for kind, _, _ in wanted.values())
    return sorted(differences), files, len(tree.unread())


def _file_digest(volume: Volume, entry: Entry, count: Callable[[int], None]) -> str:
    if entry.kind == Kind.FOLDER:
        return ""
    hasher = blake3()
    for piece in volume.read_file(entry):
        hasher.update(piece)
        count(len(piece))
    return hasher.hexdigest()
