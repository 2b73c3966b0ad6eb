"""An HFS volume laid out with its files in one go, for the demo bench; the product itself only reads HFS.

Source: "Inside Macintosh: Files", chapter 2. Names are plain letters, digits and spaces, so that sorting
them in upper case is the order of the catalog.
"""

from __future__ import annotations

import struct
from collections.abc import Iterable
from dataclasses import dataclass, field

from mosscrate.core.blocks import Blocks
from mosscrate.core.volumes.hfs.structures import EPOCH, FILE_RECORD, MDB, NODE, NODE_SIZE
from mosscrate.demo.contents import MadeFile

SECTOR = 512
TREE = 400                               # blocks of each B-tree
LEAF, INDEX, HEADER = -1, 0, 1
EXTENTS_KEY, CATALOG_KEY = 7, 37         # longest keys
ROOT_PARENT, ROOT, FIRST_ID = 1, 2, 16


def make_hfs(blocks: Blocks, label: str, files: Iterable[MadeFile], when: int) -> None:
    """Fill all of `blocks` with an HFS volume; `when` in seconds since 1970."""
    sectors = blocks.size // SECTOR
    bitmap = -(-sectors // 8 // SECTOR)
    first, count = 3 + bitmap, sectors - 5 - bitmap
    catalog = _Catalog(label, when + EPOCH, first)
    for made in files:
        catalog.add(blocks, made)
    tree, used = catalog.tree(), catalog.next_block
    name = label.encode("mac_roman")
    mdb = struct.pack(">2sIIHHHHHIIHIH", b"BD", when + EPOCH, when + EPOCH, 0x100, catalog.in_root.files, 3, 0, count,
                      SECTOR, 4 * SECTOR, first, catalog.next_id, count - used)
    mdb += bytes((len(name),)) + name.ljust(27, b"\0")
    mdb += struct.pack(">IHIIIHII", 0, 0, 1, TREE * SECTOR, TREE * SECTOR, catalog.in_root.folders, catalog.files,
                       catalog.folders) + bytes(38)
    for start in (0, TREE):
        mdb += struct.pack(">I6H", TREE * SECTOR, start, TREE, 0, 0, 0, 0)
    assert len(mdb) == MDB.itemsize, "the master directory block has its length"
    blocks.write(first * SECTOR, _tree([], EXTENTS_KEY))
    blocks.write((first + TREE) * SECTOR, tree)
    bits = ((1 << used) - 1) << (-used % 8)
    blocks.write(3 * SECTOR, bits.to_bytes(-(-used // 8), "big"))
    for at in (blocks.size - 1024, 1024):
        blocks.write(at, mdb)


@dataclass
class _Count:
    """How much stands directly in the root."""

    files: int = 0
    folders: int = 0


@dataclass
class _Catalog:
    """Records of a catalog by (parent, name), and the blocks that its files take."""

    label: str
    when: int                            # seconds since 1904
    first: int                           # sector of block 0
    records: dict[tuple[int, str], bytes] = field(default_factory=dict)
    ids: dict[str, int] = field(default_factory=lambda: {"": ROOT})
    inside: dict[int, int] = field(default_factory=lambda: {ROOT: 0})
    in_root: _Count = field(default_factory=_Count)
    next_id: int = FIRST_ID
    next_block: int = 2 * TREE
    files: int = 0

    @property
    def folders(self) -> int:
        """All but the root."""
        return len(self.ids) - 1

    def add(self, blocks: Blocks, made: MadeFile) -> None:
        """A folder, or a file with its data written."""
        above, _, name = made.path.rpartition("/")
        parent, when = self.ids[above], made.modified + EPOCH
        self.inside[parent] += 1
        number, self.next_id = self.next_id, self.next_id + 1
        if made.data is None:
            self.ids[made.path], self.inside[number] = number, 0
            self.in_root.folders += parent == ROOT
            self.records[parent, name] = struct.pack(">BBHHIII", 1, 0, 0, 0, number, when, when).ljust(70, b"\0")
            return
        size = max(made.size or 0, len(made.data))
        count = -(-size // SECTOR)
        blocks.write((self.first + self.next_block) * SECTOR, made.data)
        extent = struct.pack(">6H", self.next_block, count, 0, 0, 0, 0) if count else bytes(12)
        self.next_block += count
        self.files += 1
        self.in_root.files += parent == ROOT
        record = FILE_RECORD.pack(2, 0, 0, bytes(16), number, 0, size, count * SECTOR, 0, 0, 0, when, when, 0,
                                  bytes(16), 0, extent, bytes(12))
        self.records[parent, name] = record.ljust(102, b"\0")

    def tree(self) -> bytes:
        """The catalog's B-tree, with the records of folders completed and their threads added."""
        self.records[ROOT_PARENT, self.label] = struct.pack(
            ">BBHHIII", 1, 0, 0, 0, ROOT, self.when, self.when).ljust(70, b"\0")
        for path, number in self.ids.items():
            above, _, name = path.rpartition("/")
            parent, name = (self.ids[above], name) if path else (ROOT_PARENT, self.label)
            record = bytearray(self.records[parent, name])
            record[4:6] = self.inside[number].to_bytes(2, "big")
            self.records[parent, name] = bytes(record)
            raw = name.encode("mac_roman")
            self.records[number, ""] = struct.pack(">BB8sI", 3, 0, bytes(8), parent) + (
                bytes((len(raw),)) + raw).ljust(32, b"\0")
        ordered = sorted(self.records.items(), key=lambda item: (item[0][0], item[0][1].upper()))
        return _tree([(_key(parent, name), record) for (parent, name), record in ordered], CATALOG_KEY)


def _key(parent: int, name: str) -> bytes:
    raw = name.encode("mac_roman")
    key = struct.pack(">BBIB", 6 + len(raw), 0, parent, len(raw)) + raw
    return key + bytes(len(key) % 2)


def _tree(records: list[tuple[bytes, bytes]], max_key: int) -> bytes:
    """A B-tree of `TREE` nodes over sorted records: leaves in a chain, index nodes above them."""
    levels, nodes, entries, depth = list[list[int]](), [b""], records, 0
    while records and (depth == 0 or len(levels[-1]) > 1):
        depth += 1
        parts = _packed(entries)
        numbers = [len(nodes) + k for k in range(len(parts))]
        for number, part in zip(numbers, parts, strict=True):
            kind = LEAF if depth == 1 else INDEX
            nodes.append(_node(part, kind, depth, number + 1 if number + 1 in numbers else 0,
                               number - 1 if number - 1 in numbers else 0))
        entries = [(bytes((max_key,)) + part[0][0][1:].ljust(max_key, b"\0"), number.to_bytes(4, "big"))
                   for number, part in zip(numbers, parts, strict=True)]
        levels.append(numbers)
    root, leaves = (levels[-1][0], levels[0]) if levels else (0, [0])
    head = struct.pack(">HIIIIHHII", depth, root, len(records), leaves[0], leaves[-1], NODE_SIZE, max_key, TREE,
                       TREE - len(nodes))
    bits = ((1 << len(nodes)) - 1) << (-len(nodes) % 8)
    nodes[0] = NODE.pack(0, 0, HEADER, 0, 3, 0) + head.ljust(106, b"\0") + bytes(128) \
        + bits.to_bytes(-(-len(nodes) // 8), "big").ljust(256, b"\0") + struct.pack(">HHHH", 504, 248, 120, 14)
    return b"".join(nodes).ljust(TREE * NODE_SIZE, b"\0")


def _packed(entries: list[tuple[bytes, bytes]]) -> list[list[tuple[bytes, bytes]]]:
    """Entries into as few nodes as they fill in their order."""
    parts, left = list[list[tuple[bytes, bytes]]](), 0
    for key, data in entries:
        size = len(key) + len(data) + len(data) % 2 + 2
        if size > left:
            parts.append([])
            left = NODE_SIZE - NODE.size - 2
        parts[-1].append((key, data))
        left -= size
    return parts


def _node(entries: list[tuple[bytes, bytes]], kind: int, height: int, following: int, before: int) -> bytes:
    node, offsets = NODE.pack(following, before, kind, height, len(entries), 0), [NODE.size]
    for key, data in entries:
        node += key + data + bytes(len(data) % 2)
        offsets.append(len(node))
    tail = b"".join(struct.pack(">H", o) for o in reversed(offsets))
    return node.ljust(NODE_SIZE - len(tail), b"\0") + tail
