"""The file in which ext4 notes inodes that are to be removed: each block ends in a magic and a checksum.

The checksum contains the number of the block and the inode, so a block that moves is sealed anew: Linux mounts no
volume with a wrong one. Source: the Linux kernel's Documentation/filesystems/ext4, "Orphan file".
"""

from __future__ import annotations

from collections.abc import Iterator

from mosscrate.core.volumes.ext.filesystem import Filesystem, crc32c
from mosscrate.core.volumes.ext.inodes import Inodes, mapping_of, record_of

FEATURE, PRESENT = "orphan_file", "orphan_present"
MAGIC = 0x0B10CA04
TAIL = 8                                 # bytes: magic, checksum


def orphan_file(fs: Filesystem) -> int:
    """The number of its inode; 0 where the volume has none."""
    return int(fs.sb["orphan_file_inum"]) if FEATURE in fs.features else 0


def sealed_orphans(fs: Filesystem, number: int, generation: int, block: int, data: bytes) -> bytes:
    """A block of the file as it has to stand at a place."""
    body = data[:-TAIL]
    checksum = _checksum(fs, number, generation, block, body) if fs.has_checksums else 0
    return body + MAGIC.to_bytes(4, "little") + checksum.to_bytes(4, "little")


def orphan_file_faults(fs: Filesystem) -> Iterator[str]:
    """What keeps Linux from mounting a volume with this file, in words. Raises FormatError, MediumError."""
    number = orphan_file(fs)
    if not number:
        return
    inode = record_of(Inodes(fs).raw(number))
    mapping, generation = mapping_of(fs, inode, "the file of orphans"), int(inode["generation"])
    for run in mapping.runs:
        for block in range(int(run["physical"]), int(run["physical"]) + int(run["length"])):
            data = fs.blocks.read(block * fs.block, fs.block)
            if sealed_orphans(fs, number, generation, block, data) != data and (
                    fs.has_checksums or data[-TAIL:-4] != MAGIC.to_bytes(4, "little")):
                yield f"block {block} of the file of orphans (inode {number}) has a wrong checksum"


def _checksum(fs: Filesystem, number: int, generation: int, block: int, body: bytes) -> int:
    return crc32c(crc32c(fs.inode_seed(number, generation), block.to_bytes(8, "little")), body)
