"""Block and inode bitmaps, and taking free blocks and inodes from them.

Source: the kernel's ext4 documentation, "Block and Inode Bitmaps" and "Lazy Block Group
Initialization": where a group is marked as uninitialised, its bitmap follows from the layout.
"""

from __future__ import annotations

from collections import Counter, deque
from collections.abc import Iterator

import numpy as np
from numpy.typing import NDArray

from mosscrate.core.blocks import Extent
from mosscrate.core.blocks.runs import runs_of
from mosscrate.core.errors import FitError, FormatError
from mosscrate.core.sizes import binary
from mosscrate.core.volumes.ext.filesystem import Filesystem, crc32c
from mosscrate.core.volumes.ext.structures import BLOCK_UNINIT, INODE_UNINIT

Bits = NDArray[np.bool_]
_BITMAPS_HELD = 512                    # of unchanged groups; 32 KiB each


class Bitmaps:
    """The bitmaps of one volume, read when asked for; `changed_*` names the groups to write."""

    def __init__(self, fs: Filesystem) -> None:
        self.fs = fs
        self._blocks: dict[int, Bits] = {}
        self._inodes: dict[int, Bits] = {}
        self.changed_blocks: set[int] = set()
        self.changed_inodes: set[int] = set()

    def block_bits(self, group: int) -> Bits:
        """Used blocks of a group, shape (blocks_per_group,); those behind the volume's end count as used."""
        if group not in self._blocks:
            if len(self._blocks) - len(self.changed_blocks) > _BITMAPS_HELD:
                self._blocks = {g: b for g, b in self._blocks.items() if g in self.changed_blocks}
            bits = self._implied(group) if self._is_uninit(group, BLOCK_UNINIT) else self._read(
                self.fs.get("block_bitmap", group), self.fs.per_group, group)
            bits[self.fs.group_length(group):] = True
            self._blocks[group] = bits
        return self._blocks[group]

    def inode_bits(self, group: int) -> Bits:
        """Used inodes of a group, shape (inodes_per_group,)."""
        if group not in self._inodes:
            count = self.fs.inodes_per_group
            self._inodes[group] = np.zeros(count, bool) if self._is_uninit(group, INODE_UNINIT) else self._read(
                self.fs.get("inode_bitmap", group), count, group)
        return self._inodes[group]

    def writes(self) -> Iterator[tuple[int, bytes]]:
        """(block, bytes) of every changed bitmap; their checksums go into the descriptors."""
        for group in sorted(self.changed_blocks):
            raw = self._encoded(self.block_bits(group))
            self._note(group, "block_bitmap", raw[:self.fs.per_group // 8], BLOCK_UNINIT)
            yield self.fs.get("block_bitmap", group), raw
        for group in sorted(self.changed_inodes):
            raw = self._encoded(self.inode_bits(group))
            self._note(group, "inode_bitmap", raw[:self.fs.inodes_per_group // 8], INODE_UNINIT)
            yield self.fs.get("inode_bitmap", group), raw

    def checksum_of(self, group: int, field: str) -> int:
        """The checksum of a bitmap as it stands on disk, cut to what a descriptor can hold."""
        count = self.fs.per_group if field == "block_bitmap" else self.fs.inodes_per_group
        raw = self.fs.blocks.read(self.fs.get(field, group) * self.fs.block, count // 8)
        return crc32c(self.fs.seed, raw) & (0xFFFFFFFF if self.fs.desc_size > 32 else 0xFFFF)

    def _note(self, group: int, field: str, raw: bytes, flag: int) -> None:
        if self.fs.has_checksums:
            self.fs.put(f"{field}_csum", group, crc32c(self.fs.seed, raw))
        self.fs.desc["flags"][group] &= 0xFFFF ^ flag

    def _is_uninit(self, group: int, flag: int) -> bool:
        return self.fs.has_group_checksums and bool(int(self.fs.desc["flags"][group]) & flag)

    def _implied(self, group: int) -> Bits:
        """What a group that was never written to holds: its share of superblocks and its own tables."""
        fs, start = self.fs, self.fs.group_start(group)
        bits = np.zeros(fs.per_group, bool)
        bits[:fs.base_blocks(group)] = True
        for field, length in (("block_bitmap", 1), ("inode_bitmap", 1), ("inode_table", fs.table_blocks)):
            first = fs.get(field, group) - start
            if 0 <= first < fs.per_group:
                bits[first:first + length] = True
        return bits

    def _read(self, block: int, count: int, group: int) -> Bits:
        fs = self.fs
        if not 0 < block < fs.block_count:
            raise FormatError("ext group descriptor", f"bitmap of group {group}", 0, block, "a block of the volume")
        raw = np.frombuffer(fs.blocks.read(block * fs.block, -(-count // 8)), np.uint8)
        return np.unpackbits(raw, bitorder="little")[:count].astype(bool)

    def _encoded(self, bits: Bits) -> bytes:
        """A bitmap filled up to its block with ones."""
        return np.packbits(bits, bitorder="little").tobytes().ljust(self.fs.block, b"\xff")


class Allocator:
    """Takes blocks in the order in which they lie; what was freed meanwhile is taken last.

    Args:
        bitmaps: of the volume.
        end: block behind the last one that may be taken; None takes any.
        forgoes_free: whether a journal need not save what stands in free blocks.
    """

    def __init__(self, bitmaps: Bitmaps, *, end: int | None = None, forgoes_free: bool = True) -> None:
        self.forgoes_free = forgoes_free
        self.bitmaps, self.fs = bitmaps, bitmaps.fs
        self.end = self.fs.block_count if end is None else end
        self._fresh = self._free_runs()
        self._runs: deque[tuple[int, int]] = deque()
        self._freed: list[tuple[int, int]] = []
        self._inodes = self._free_inodes()
        self._freed_inodes: list[int] = []
        self._delta: Counter[int] = Counter()                # free blocks by group, until `settle`
        self._inode_delta: Counter[int] = Counter()
        self._folder_delta: Counter[int] = Counter()
        self.free = int(self.fs.wide("free_blocks_count").sum())
        self._highest: dict[int, int] = {}                   # place of the last inode taken, by group

    def take(self, count: int) -> list[tuple[int, int]]:
        """(first, count) of runs of free blocks. Raises FitError, having taken nothing."""
        taken: list[tuple[int, int]] = []
        left = count
        while left:
            if not self._runs and not self._refill():
                for first, length in taken:
                    self._runs.append((first, length))
                raise FitError(f"There is no room: {binary(count * self.fs.block)} are needed, "
                               f"{binary((count - left) * self.fs.block)} are free.")
            first, length = self._runs.popleft()
            part = min(length, left)
            taken.append((first, part))
            if part < length:
                self._runs.appendleft((first + part, length - part))
            left -= part
        for first, length in taken:
            self._mark(first, length, is_used=True)
        return taken

    def take_one(self) -> int:
        """One free block. Raises FitError."""
        return self.take(1)[0][0]

    def release(self, first: int, count: int) -> None:
        """Blocks that are no longer used."""
        self._mark(first, count, is_used=False)
        if first + count <= self.end:
            self._freed.append((first, count))

    def take_inode(self, *, is_folder: bool) -> int:
        """A free inode. Raises FitError."""
        number = next(self._inodes, None)
        if number is None and self._freed_inodes:
            number = self._freed_inodes.pop()
        if number is None:
            raise FitError("The volume has no free inode left: it cannot hold more files.")
        self._mark_inode(number, is_used=True, is_folder=is_folder)
        return number

    def release_inode(self, number: int, *, is_folder: bool) -> None:
        """An inode that is no longer used."""
        self._mark_inode(number, is_used=False, is_folder=is_folder)
        self._freed_inodes.append(number)

    def settle(self) -> None:
        """Note the counts of free blocks in the descriptors and everything in the superblock."""
        for field, deltas in (("free_blocks_count", self._delta), ("free_inodes_count", self._inode_delta),
                              ("used_dirs_count", self._folder_delta)):
            for group, delta in deltas.items():
                self.fs.put(field, group, self.fs.get(field, group) + delta)
            deltas.clear()
        for group, place in self._highest.items() if self.fs.has_group_checksums else ():
            unused = min(self.fs.get("itable_unused", group), self.fs.inodes_per_group - place - 1)
            self.fs.put("itable_unused", group, unused)
        self._highest.clear()
        free = int(self.fs.wide("free_blocks_count").sum())
        self.fs.sb["free_blocks_count_lo"] = free & 0xFFFFFFFF
        if self.fs.is_64bit:
            self.fs.sb["free_blocks_count_hi"] = free >> 32
        self.fs.sb["free_inodes_count"] = int(self.fs.wide("free_inodes_count").sum())

    def _refill(self) -> bool:
        run = next(self._fresh, None)
        if run is not None:
            self._runs.append(run)
        elif self._freed:
            self._runs.extend(self._freed)
            self._freed.clear()
        return bool(self._runs)

    def _free_runs(self) -> Iterator[tuple[int, int]]:
        fs = self.fs
        for group in range(fs.groups):
            start = fs.group_start(group)
            if start >= self.end:
                return
            if fs.get("free_blocks_count", group) == 0 and group not in self._delta:
                continue
            bits = self.bitmaps.block_bits(group)[:self.end - start].copy()
            for first, count in self._freed:                 # they are handed out from their own list, last
                bits[max(0, first - start):max(0, first + count - start)] = True
            edges = runs_of(~bits).tolist()
            runs = [(start + a, b - a) for a, b in edges]
            if self.forgoes_free:
                fs.blocks.forgo([Extent(first * fs.block, count * fs.block) for first, count in runs])
            yield from runs

    def _free_inodes(self) -> Iterator[int]:
        fs = self.fs
        for group in range(fs.groups):
            if fs.group_start(group) >= self.end or fs.get("free_inodes_count", group) == 0:
                continue
            bits = self.bitmaps.inode_bits(group)
            for place in np.flatnonzero(~bits).tolist():
                number = group * fs.inodes_per_group + place + 1
                if number >= fs.first_inode and not bits[place] and number not in self._freed_inodes:
                    yield number

    def _mark(self, first: int, count: int, *, is_used: bool) -> None:
        fs = self.fs
        while count:
            group, place = divmod(first - fs.first_data, fs.per_group)
            part = min(count, fs.per_group - place)
            self.bitmaps.block_bits(group)[place:place + part] = is_used
            self.bitmaps.changed_blocks.add(group)
            self._delta[group] += -part if is_used else part
            self.free += -part if is_used else part
            first, count = first + part, count - part

    def _mark_inode(self, number: int, *, is_used: bool, is_folder: bool) -> None:
        fs = self.fs
        group, place = divmod(number - 1, fs.inodes_per_group)
        if fs.has_group_checksums and int(fs.desc["flags"][group]) & INODE_UNINIT:
            self.bitmaps.inode_bits(group)
            fs.put("itable_unused", group, fs.inodes_per_group)
            fs.desc["flags"][group] &= 0xFFFF ^ INODE_UNINIT
        self.bitmaps.inode_bits(group)[place] = is_used
        self.bitmaps.changed_inodes.add(group)
        step = -1 if is_used else 1
        self._inode_delta[group] += step
        if is_folder:
            self._folder_delta[group] -= step
        if is_used:
            self._highest[group] = max(self._highest.get(group, 0), place)
