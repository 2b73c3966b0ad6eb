"""One ext file system as its superblock and group descriptors describe it, and where its parts lie.

Everything that reads or changes a volume works on one `Filesystem`; block numbers are counted in
blocks of `block` bytes from the start of the volume.
"""

from __future__ import annotations

from functools import cached_property

import fastcrc
import numpy as np
from numpy.typing import NDArray

from mosscrate.core.binary import Place, Record
from mosscrate.core.blocks import Blocks
from mosscrate.core.errors import FitError, FormatError
from mosscrate.core.volumes.ext.structures import (
    CHANGEABLE,
    CHECKSUM_AT,
    COMPAT,
    DESCRIPTOR,
    GOOD_OLD_FIRST,
    GOOD_OLD_INODE,
    INCOMPAT,
    MAGIC,
    READABLE,
    RO_COMPAT,
    SMALL_DESCRIPTOR,
    SUPERBLOCK,
    SUPERBLOCK_AT,
    feature_names,
)

_MOST_GROUPS = 1 << 22               # 512 TiB of 4 KiB blocks; a lie must not allocate memory


def crc32c(seed: int, data: bytes | memoryview) -> int:
    """CRC-32C without the inversions at both ends, as the kernel chains it."""
    return int(fastcrc.crc32.iscsi(bytes(data), seed ^ 0xFFFFFFFF)) ^ 0xFFFFFFFF


class Filesystem:
    """Superblock and descriptors of one volume, held in memory.

    Attributes:
        blocks: the volume.
        sb: superblock record, 0-d.
        desc: descriptors, shape (groups,); the high halves are zero where the volume has none.
    """

    def __init__(self, blocks: Blocks, sb: Record) -> None:
        self.blocks, self.sb = blocks, sb
        self.desc = self._read_descriptors()

    # --- facts of the superblock -----------------------------------------------------------------

    @property
    def block(self) -> int:
        """Bytes in a block."""
        return 1024 << int(self.sb["log_block_size"])

    @property
    def block_count(self) -> int:
        """Blocks of the volume."""
        return int(self.sb["blocks_count_lo"]) | (int(self.sb["blocks_count_hi"]) << 32 if self.is_64bit else 0)

    @property
    def first_data(self) -> int:
        """The block that group 0 starts with."""
        return int(self.sb["first_data_block"])

    @property
    def per_group(self) -> int:
        """Blocks in a group."""
        return int(self.sb["blocks_per_group"])

    @property
    def inodes_per_group(self) -> int:
        """Inodes in a group."""
        return int(self.sb["inodes_per_group"])

    @property
    def inode_size(self) -> int:
        """Bytes of an inode."""
        return int(self.sb["inode_size"]) if int(self.sb["rev_level"]) else GOOD_OLD_INODE

    @property
    def first_inode(self) -> int:
        """The first that is not reserved."""
        return int(self.sb["first_ino"]) if int(self.sb["rev_level"]) else GOOD_OLD_FIRST

    @property
    def groups(self) -> int:
        """How many groups the block count makes."""
        return -(-(self.block_count - self.first_data) // self.per_group)

    @property
    def table_blocks(self) -> int:
        """Blocks of one group's inode table."""
        return -(-self.inodes_per_group * self.inode_size // self.block)

    @property
    def is_64bit(self) -> bool:
        """Whether block numbers have high halves."""
        return bool(int(self.sb["feature_incompat"]) & INCOMPAT["64bit"])

    @property
    def desc_size(self) -> int:
        """Bytes of a descriptor on disk."""
        return max(SMALL_DESCRIPTOR, int(self.sb["desc_size"])) if self.is_64bit else SMALL_DESCRIPTOR

    @property
    def desc_per_block(self) -> int:
        """Descriptors in a block."""
        return self.block // self.desc_size

    @cached_property
    def features(self) -> frozenset[str]:
        """Names of all features."""
        if not int(self.sb["rev_level"]):
            return frozenset()
        return frozenset(feature_names(int(self.sb["feature_compat"]), COMPAT)
                         | feature_names(int(self.sb["feature_incompat"]), INCOMPAT)
                         | feature_names(int(self.sb["feature_ro_compat"]), RO_COMPAT))

    def set_feature(self, name: str, *, is_set: bool) -> None:
        """Switch one of the known features on or off."""
        for field, table in (("feature_compat", COMPAT), ("feature_incompat", INCOMPAT),
                             ("feature_ro_compat", RO_COMPAT)):
            if name in table:
                bits = int(self.sb[field])
                self.sb[field] = bits | table[name] if is_set else bits & ~table[name]
        self.__dict__.pop("features", None)

    def must_be_changeable(self) -> None:
        """Raises FitError that names what stands against changing this volume."""
        unknown = self.features - CHANGEABLE - set(COMPAT)
        if "recover" in unknown:
            raise FitError("The volume was not put away properly: its journal must be replayed before anything else "
                           "is changed. Nothing was written.")
        if unknown:
            names = ", ".join(sorted(unknown))
            raise FitError(f"The volume uses what this program cannot change yet: {names}. It can be read and "
                           "copied exactly; nothing was written.")
        if not int(self.sb["state"]) & 1 or int(self.sb["state"]) & 2:
            raise FitError("The volume notes errors of its own and must be mended first. Nothing was written.")

    # --- where things lie ------------------------------------------------------------------------

    def group_start(self, group: int) -> int:
        """First block of a group."""
        return self.first_data + group * self.per_group

    def group_length(self, group: int) -> int:
        """Blocks of a group; the last one may be shorter."""
        return min(self.per_group, self.block_count - self.group_start(group))

    def has_super(self, group: int) -> bool:
        """Whether a group starts with a copy of the superblock (sparse_super, sparse_super2)."""
        if group == 0:
            return True
        if "sparse_super2" in self.features:
            return group in self.sb["backup_bgs"].tolist()
        if "sparse_super" not in self.features or group == 1:
            return True
        return any(_is_power(group, base) for base in (3, 5, 7))

    @property
    def desc_blocks(self) -> int:
        """Blocks that all descriptors take."""
        return -(-self.groups // self.desc_per_block)

    @property
    def old_desc_blocks(self) -> int:
        """Of them, those that follow each superblock (all without meta_bg)."""
        return min(self.desc_blocks, int(self.sb["first_meta_bg"])) if "meta_bg" in self.features else self.desc_blocks

    @property
    def reserved_gdt(self) -> int:
        """Blocks kept free behind the descriptors for growing."""
        return int(self.sb["reserved_gdt_blocks"]) if "resize_inode" in self.features else 0

    def meta_copies(self, number: int) -> list[int]:
        """Blocks in which descriptor block `number` of the meta_bg kind stands, in existing groups."""
        first = number * self.desc_per_block
        groups = dict.fromkeys((first, first + 1, first + self.desc_per_block - 1))
        return [self.group_start(g) + self.has_super(g) for g in groups if g < self.groups]

    def base_blocks(self, group: int) -> int:
        """Blocks at the start of a group for superblock and descriptors."""
        has_super = self.has_super(group)
        number = group // self.desc_per_block
        if "meta_bg" in self.features and number >= int(self.sb["first_meta_bg"]):
            return has_super + (group % self.desc_per_block in (0, 1, self.desc_per_block - 1))
        return 1 + self.old_desc_blocks + self.reserved_gdt if has_super else 0

    def wide(self, field: str) -> NDArray[np.int64]:
        """A field of all descriptors with its high half. Shape (groups,)."""
        low = self.desc[f"{field}_lo"].astype(np.int64)
        shift = 8 * self.desc.dtype[f"{field}_lo"].itemsize
        return low | self.desc[f"{field}_hi"].astype(np.int64) << shift

    def put(self, field: str, group: int, value: int) -> None:
        """Set a field of one descriptor, both halves."""
        bits = 8 * self.desc.dtype[f"{field}_lo"].itemsize
        self.desc[f"{field}_lo"][group] = value & (1 << bits) - 1
        if self.desc_size > SMALL_DESCRIPTOR:
            self.desc[f"{field}_hi"][group] = value >> bits

    def get(self, field: str, group: int) -> int:
        """A field of one descriptor with its high half."""
        bits = 8 * self.desc.dtype[f"{field}_lo"].itemsize
        return int(self.desc[f"{field}_lo"][group]) | int(self.desc[f"{field}_hi"][group]) << bits

    # --- checksums -------------------------------------------------------------------------------

    @property
    def has_checksums(self) -> bool:
        """Whether all metadata carry CRC-32C."""
        return "metadata_csum" in self.features

    @property
    def has_group_checksums(self) -> bool:
        """Whether descriptors are checksummed, so that parts of a group may be left unwritten."""
        return self.has_checksums or "gdt_csum" in self.features

    @cached_property
    def seed(self) -> int:
        """What every CRC-32C of this volume starts from."""
        if "csum_seed" in self.features:
            return int(self.sb["checksum_seed"])
        return crc32c(0xFFFFFFFF, self.sb["uuid"].tobytes())

    def descriptor_checksum(self, group: int) -> int:
        """What a descriptor's checksum should be; 0 where there is none."""
        raw = self.desc[group].tobytes()[:self.desc_size]
        number = group.to_bytes(4, "little")
        if self.has_checksums:
            return crc32c(crc32c(self.seed, number), raw[:CHECKSUM_AT] + b"\0\0" + raw[CHECKSUM_AT + 2:]) & 0xFFFF
        if "gdt_csum" in self.features:
            state = fastcrc.crc16.arc(self.sb["uuid"].tobytes() + number + raw[:CHECKSUM_AT], 0xFFFF)
            return int(fastcrc.crc16.arc(raw[CHECKSUM_AT + 2:], state)) if self.is_64bit else int(state)
        return 0

    def inode_seed(self, number: int, generation: int) -> int:
        """What checksums of an inode's own blocks start from."""
        return crc32c(crc32c(self.seed, number.to_bytes(4, "little")), generation.to_bytes(4, "little"))

    def seal_superblock(self) -> bytes:
        """The superblock with its checksum."""
        if self.has_checksums:
            self.sb["checksum"] = 0
            self.sb["checksum"] = crc32c(0xFFFFFFFF, self.sb.tobytes()[:-4])
        return bytes(self.sb.tobytes())

    def seal_descriptors(self) -> None:
        """Set the checksum of every descriptor."""
        if self.has_group_checksums:
            for group in range(len(self.desc)):
                self.desc["checksum"][group] = self.descriptor_checksum(group)

    # --- reading and writing the whole -----------------------------------------------------------

    def super_groups(self) -> list[int]:
        """The groups that start with a superblock."""
        return [g for g in range(self.groups) if self.has_super(g)]

    def descriptor_block_places(self, number: int, super_groups: list[int]) -> list[int]:
        """Every block that holds a copy of descriptor block `number`, the one that counts first.

        With meta_bg, groups whose own descriptors are of that kind have no copies of the others behind their superblock
        (fs/ext4/balloc.c, ext4_bg_num_gdb).
        """
        if "meta_bg" not in self.features:
            return [self.group_start(g) + 1 + number for g in super_groups]
        first = int(self.sb["first_meta_bg"])
        if number >= first:
            return self.meta_copies(number)
        return [self.group_start(g) + 1 + number for g in super_groups if g // self.desc_per_block < first]

    def descriptor_bytes(self) -> bytes:
        """All descriptors as they stand on disk, filled up to whole blocks."""
        rows = np.frombuffer(self.desc.tobytes(), np.uint8).reshape(-1, DESCRIPTOR.itemsize)[:, :self.desc_size]
        return rows.tobytes().ljust(self.desc_blocks * self.block, b"\0")

    def table_writes(self, *, backups: bool) -> list[tuple[int, bytes]]:
        """(block, bytes) of descriptors and superblocks, the primary superblock left out."""
        self.seal_descriptors()
        raw, found, with_super = self.descriptor_bytes(), [], self.super_groups()
        for number in range(self.desc_blocks):
            places = self.descriptor_block_places(number, with_super)
            data = raw[number * self.block:(number + 1) * self.block]
            found += [(place, data) for place in (places if backups else places[:1])]
        if backups:
            for group in with_super[1:]:
                self.sb["block_group_nr"] = group
                found.append((self.group_start(group), self.seal_superblock().ljust(self.block, b"\0")))
            self.sb["block_group_nr"] = 0
        return found

    def _read_descriptors(self) -> Record:
        count, size, per_block = self.groups, self.desc_size, self.desc_per_block
        first_meta = int(self.sb["first_meta_bg"]) if "meta_bg" in self.features else self.desc_blocks
        pieces = []
        for number in range(self.desc_blocks):
            place = SUPERBLOCK_AT // self.block + 1 + number if number < first_meta else \
                self.group_start(number * per_block) + self.has_super(number * per_block)
            if (place + 1) * self.block > self.blocks.size:
                raise FormatError("ext group descriptors", "block", place * self.block, place, "a block of the volume")
            pieces.append(self.blocks.read(place * self.block, per_block * size))
        rows = np.frombuffer(b"".join(pieces), np.uint8)[:count * size].reshape(count, size)
        full = np.zeros((count, DESCRIPTOR.itemsize), np.uint8)
        width = min(size, DESCRIPTOR.itemsize)
        full[:, :width] = rows[:, :width]
        return full.reshape(-1).view(DESCRIPTOR).copy()


def parse_superblock(data: bytes, volume_size: int | None) -> Record:
    """The superblock, its counts checked. Raises FormatError; `volume_size` None trusts it."""
    at = Place("ext superblock", SUPERBLOCK, SUPERBLOCK_AT)
    sb = at.read(data)
    at.require("magic", int(sb["magic"]), {MAGIC})
    at.require("log_block_size", int(sb["log_block_size"]), range(7))
    block = 1024 << int(sb["log_block_size"])
    revision = at.require("rev_level", int(sb["rev_level"]), {0, 1})
    ratio = 0                                # of a cluster to a block, in powers of two
    if revision and int(sb["feature_ro_compat"]) & RO_COMPAT["bigalloc"]:
        ratio = int(sb["log_cluster_size"]) - int(sb["log_block_size"])
        at.require("log_cluster_size", ratio, range(21), "clusters that are not smaller than blocks")
    at.require("first_data_block", int(sb["first_data_block"]), {0} if block > 1024 else {0, 1} if ratio else {1})
    at.require("blocks_per_group", int(sb["blocks_per_group"]), range(8, (8 * block << ratio) + 1))
    at.require("inodes_per_group", int(sb["inodes_per_group"]), range(8, 8 * block + 1))
    if revision:
        at.require("inode_size", int(sb["inode_size"]), {1 << k for k in range(7, 17) if 1 << k <= block})
        bad = feature_names(int(sb["feature_incompat"]), INCOMPAT) - READABLE
        if bad:
            raise at.error("feature_incompat", ", ".join(sorted(bad)), "features that are known here")
        if int(sb["feature_incompat"]) & INCOMPAT["64bit"]:
            at.require("desc_size", int(sb["desc_size"]), {0, 32, 64, 128, 256, 512, 1024})
    count = int(sb["blocks_count_lo"])
    if revision and int(sb["feature_incompat"]) & INCOMPAT["64bit"]:
        count |= int(sb["blocks_count_hi"]) << 32
    at.require("blocks_count_lo", count, range(int(sb["first_data_block"]) + 8, 1 << 48))
    if volume_size is not None and count * block > volume_size:
        raise at.error("blocks_count_lo", count, f"at most the {volume_size // block} blocks of the partition")
    groups = -(-(count - int(sb["first_data_block"])) // int(sb["blocks_per_group"]))
    at.require("blocks_per_group", groups, range(1, _MOST_GROUPS), "few enough groups")
    at.require("inodes_count", int(sb["inodes_count"]), {groups * int(sb["inodes_per_group"])},
               "inodes_per_group times the number of groups")
    return sb


def open_filesystem(blocks: Blocks) -> Filesystem:
    """Superblock and descriptors of a volume, as they stand. Raises FormatError, MediumError."""
    data = blocks.read(SUPERBLOCK_AT, min(SUPERBLOCK.itemsize, max(0, blocks.size - SUPERBLOCK_AT)))
    return Filesystem(blocks, parse_superblock(data, blocks.size))


def _is_power(number: int, base: int) -> bool:
    while number % base == 0:
        number //= base
    return number == 1
