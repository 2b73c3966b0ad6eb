"""The journal of ext3 and ext4: what it holds is replayed on a view, or for real when that is asked.

Big-endian. Source: the kernel's ext4 documentation, "Journal (jbd2)". Only whole transactions
count: a descriptor's blocks are taken once its commit block is there with the right sequence.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field

import numpy as np

from mosscrate.core.binary import Place, Record
from mosscrate.core.blocks import Blocks
from mosscrate.core.errors import FormatError
from mosscrate.core.volumes.ext.filesystem import Filesystem, crc32c, open_filesystem
from mosscrate.core.volumes.ext.inodes import Inodes, mapping_of, size_of
from mosscrate.core.volumes.ext.structures import SUPERBLOCK_AT
from mosscrate.core.volumes.patched import Patched

MAGIC = 0xC03B3998
DESCRIPTOR, COMMIT, SUPER_1, SUPER_2, REVOKE = 1, 2, 3, 4, 5
HEADER = np.dtype([("magic", ">u4"), ("blocktype", ">u4"), ("sequence", ">u4")])
SUPERBLOCK = np.dtype([
    ("header", HEADER), ("blocksize", ">u4"), ("maxlen", ">u4"), ("first", ">u4"), ("sequence", ">u4"),
    ("start", ">u4"), ("errno", ">u4"), ("feature_compat", ">u4"), ("feature_incompat", ">u4"),
    ("feature_ro_compat", ">u4"), ("uuid", "V16"), ("nr_users", ">u4"), ("dynsuper", ">u4"),
    ("max_transaction", ">u4"), ("max_trans_data", ">u4"), ("checksum_type", "u1"), ("padding2", "V3"),
    ("num_fc_blocks", ">u4"), ("head", ">u4"), ("padding", "V160"), ("checksum", ">u4"), ("users", "V768")])
REVOKE_IS, IS_64BIT, ASYNC_COMMIT, CSUM_V2, CSUM_V3, FAST_COMMIT = 1, 2, 4, 8, 0x10, 0x20
KNOWN = REVOKE_IS | IS_64BIT | ASYNC_COMMIT | CSUM_V2 | CSUM_V3 | FAST_COMMIT
ESCAPED, SAME_UUID, LAST_TAG = 1, 2, 8
LARGEST = 1 << 30                   # bytes; a lie must not allocate memory


@dataclass
class Pending:
    """What a journal would write: {block of the volume: block of the journal inode}, and how it would end."""

    writes: dict[int, bytes] = field(default_factory=dict)
    transactions: int = 0
    next_sequence: int = 0


def replayed_view(fs: Filesystem) -> tuple[Blocks, bool]:
    """The volume seen through its journal, and whether there was anything to replay. Raises FormatError."""
    if "recover" not in fs.features or "has_journal" not in fs.features:
        return fs.blocks, False
    pending = read(fs)
    view = Patched(fs.blocks, fs.block, pending.writes)
    view.writable = False
    return view, True


def replay(blocks: Blocks) -> int:
    """Write what the journal holds to where it belongs; returns how many transactions. Raises FormatError.

    The caller puts a journal of ours below; the volume's own one is empty afterwards.
    """
    fs = open_filesystem(blocks)
    if "recover" not in fs.features:
        return 0
    pending = read(fs)
    for number, data in sorted(pending.writes.items()):
        blocks.write(number * fs.block, data)
    _empty(fs, pending.next_sequence)
    fs = open_filesystem(blocks)                           # the superblock itself may have been replayed
    fs.set_feature("recover", is_set=False)
    blocks.write(SUPERBLOCK_AT, fs.seal_superblock())
    blocks.flush()
    return pending.transactions


def read(fs: Filesystem) -> Pending:
    """What the journal holds: its whole transactions in order, revoked blocks left out. Raises FormatError."""
    log = _Log(fs)
    sb, pending = log.superblock(), Pending()
    pending.next_sequence = int(sb["sequence"])
    if int(sb["start"]) == 0:
        return pending
    at = Place("journal superblock", SUPERBLOCK, 0)
    unknown = int(sb["feature_incompat"]) & ~KNOWN
    if unknown:
        raise at.error("feature_incompat", hex(unknown), "journal features that are known here")
    transactions = list(_transactions(log, sb))
    revoked: dict[int, int] = {}
    for transaction in transactions:
        for block in transaction.revoked:
            revoked[block] = transaction.sequence
    for transaction in transactions:
        for block, data in transaction.writes.items():
            if revoked.get(block, -1) < transaction.sequence:
                if not 0 <= block < fs.block_count:
                    raise FormatError("journal", "blocknr", 0, block, "a block of the volume")
                pending.writes[block] = data
        pending.next_sequence = transaction.sequence + 1
    pending.transactions = len(transactions)
    return pending


def fresh_superblock(fs: Filesystem, blocks: int, uuid: bytes) -> bytes:
    """The first block of an empty journal of `blocks` blocks."""
    sb = np.zeros((), SUPERBLOCK)
    sb["header"]["magic"], sb["header"]["blocktype"] = MAGIC, SUPER_2
    sb["blocksize"], sb["maxlen"], sb["first"], sb["sequence"] = fs.block, blocks, 1, 1
    sb["uuid"], sb["nr_users"] = np.void(uuid), 1
    return bytes(sb.tobytes()).ljust(fs.block, b"\0")


@dataclass
class _Transaction:
    sequence: int
    writes: dict[int, bytes] = field(default_factory=dict)
    revoked: list[int] = field(default_factory=list)


class _Log:
    """The blocks of the journal inode in their order."""

    def __init__(self, fs: Filesystem) -> None:
        self.fs = fs
        number = int(fs.sb["journal_inum"])
        inode = Inodes(fs).get(number)
        if size_of(inode) > LARGEST:
            raise FormatError("journal", "size", 0, size_of(inode), f"at most {LARGEST} bytes")
        runs = mapping_of(fs, inode, "journal").runs
        pieces = [np.arange(r["physical"], r["physical"] + r["length"]) for r in runs]
        self.places = np.concatenate(pieces) if pieces else np.zeros(0, np.int64)

    def block(self, number: int) -> bytes:
        if number >= len(self.places):
            raise FormatError("journal", "block", 0, number, f"one of {len(self.places)} blocks")
        return self.fs.blocks.read(int(self.places[number]) * self.fs.block, self.fs.block)

    def superblock(self) -> Record:
        at = Place("journal superblock", SUPERBLOCK, 0)
        raw = at.read(self.block(0))
        if int(raw["header"]["magic"]) != MAGIC or int(raw["header"]["blocktype"]) not in (SUPER_1, SUPER_2):
            raise at.error("header", int(raw["header"]["magic"]), "the magic of a journal")
        at.require("blocksize", int(raw["blocksize"]), {self.fs.block})
        at.require("maxlen", int(raw["maxlen"]), range(2, len(self.places) + 1))
        at.require("first", int(raw["first"]), range(1, int(raw["maxlen"])))
        at.require("start", int(raw["start"]), range(int(raw["maxlen"])))
        return raw


def _transactions(log: _Log, sb: Record) -> Iterator[_Transaction]:
    """The whole transactions from the start on; the first one that is not whole ends them."""
    features, first = int(sb["feature_incompat"]), int(sb["first"])
    end = int(sb["maxlen"]) - (int(sb["num_fc_blocks"]) or 256 if features & FAST_COMMIT else 0)
    at, sequence, left = int(sb["start"]), int(sb["sequence"]), end
    seed = crc32c(0xFFFFFFFF, sb["uuid"].tobytes()) if features & (CSUM_V2 | CSUM_V3) else None
    current = _Transaction(sequence)
    while left > 0:
        data = log.block(at)
        head = np.frombuffer(data, HEADER, count=1)[0]
        if int(head["magic"]) != MAGIC or int(head["sequence"]) != sequence:
            return
        at, left = _after(at, first, end), left - 1
        kind = int(head["blocktype"])
        if kind == DESCRIPTOR:
            for block, flags in _tags(data, features, seed):
                if left <= 0:
                    return
                content = log.block(at)
                if flags & ESCAPED:
                    content = MAGIC.to_bytes(4, "big") + content[4:]
                current.writes[block] = content
                at, left = _after(at, first, end), left - 1
        elif kind == REVOKE:
            current.revoked += _revoked(data, features, seed)
        elif kind == COMMIT:
            if seed is not None and not _commit_is_right(data, seed):
                return
            yield current
            sequence += 1
            current = _Transaction(sequence)
        else:
            return


def _tags(data: bytes, features: int, seed: int | None) -> Iterator[tuple[int, int]]:
    """(block, flags) of a descriptor block."""
    is_wide = bool(features & IS_64BIT)
    step = 16 if features & CSUM_V3 else 8 + (4 if is_wide else 0) + (2 if features & CSUM_V2 else 0)
    at, end = HEADER.itemsize, len(data) - (4 if seed is not None else 0)
    while at + step <= end:
        block = int.from_bytes(data[at:at + 4], "big")
        if features & CSUM_V3:
            flags = int.from_bytes(data[at + 4:at + 8], "big")
            high = data[at + 8:at + 12]
        else:
            flags = int.from_bytes(data[at + 6:at + 8], "big")
            high = data[at + 8:at + 12] if is_wide else b""
        block |= int.from_bytes(high, "big") << 32 if is_wide else 0
        yield block, flags
        at += step + (0 if flags & SAME_UUID else 16)
        if flags & LAST_TAG:
            return


def _revoked(data: bytes, features: int, seed: int | None) -> list[int]:
    width = 8 if features & IS_64BIT else 4
    used = int.from_bytes(data[HEADER.itemsize:HEADER.itemsize + 4], "big")
    used = min(used, len(data) - (4 if seed is not None else 0))
    body = data[HEADER.itemsize + 4:used]
    return [int(n) for n in np.frombuffer(body[:len(body) // width * width], f">u{width}")]


def _commit_is_right(data: bytes, seed: int) -> bool:
    """h_chksum[0] of the commit block at byte 16, over the whole block with that field as zero."""
    stored = int.from_bytes(data[16:20], "big")
    return crc32c(seed, data[:16] + bytes(4) + data[20:]) == stored


def _after(at: int, first: int, end: int) -> int:
    return first if at + 1 >= end else at + 1


def _empty(fs: Filesystem, sequence: int) -> None:
    """Mark the journal as empty, its next transaction being `sequence`."""
    log = _Log(fs)
    raw = log.superblock()
    raw["start"], raw["sequence"] = 0, sequence
    if int(raw["feature_incompat"]) & (CSUM_V2 | CSUM_V3):
        raw["checksum"] = 0
        raw["checksum"] = crc32c(0xFFFFFFFF, raw.tobytes())
    fs.blocks.write(int(log.places[0]) * fs.block, raw.tobytes())
