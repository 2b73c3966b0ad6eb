"""An empty HFS volume, laid out by hand from "Inside Macintosh: Files": something for a kernel to fill."""

from __future__ import annotations

import struct

SECTOR = 512
TREE = 200                               # blocks of each B-tree
WHEN = 3_000_000_000                     # seconds since 1904


def _header_node(*, max_key: int, root: int, leaves: int, nodes_used: int) -> bytes:
    record = struct.pack(">HIIIIHHII", 1 if root else 0, root, leaves, root, root, SECTOR, max_key, TREE,
                         TREE - nodes_used)
    node = struct.pack(">IIbBHH", 0, 0, 1, 0, 3, 0) + record.ljust(106, b"\0") + bytes(128)
    node += bytes(((0xFF << 8 - nodes_used) & 0xFF,)).ljust(256, b"\0")
    return node + struct.pack(">HHHH", 504, 248, 120, 14)


def _leaf(records: list[bytes]) -> bytes:
    node, offsets = struct.pack(">IIbBHH", 0, 0, -1, 1, len(records), 0), [14]
    for record in records:
        node += record + bytes(len(record) % 2)
        offsets.append(len(node))
    tail = b"".join(struct.pack(">H", o) for o in reversed(offsets))
    return node.ljust(SECTOR - len(tail), b"\0") + tail


def _key(parent: int, name: bytes) -> bytes:
    key = struct.pack(">BBIB", 6 + len(name), 0, parent, len(name)) + name
    return key + bytes(len(key) % 2)


def empty_volume(size: int, name: bytes) -> bytes:
    """A volume with nothing in it."""
    sectors = size // SECTOR
    bitmap = -(-sectors // 8 // SECTOR)
    first = 3 + bitmap
    count = sectors - first - 2
    mdb = struct.pack(">2sIIHHHHHIIHIH", b"BD", WHEN, WHEN, 0x100, 0, 3, 0, count, SECTOR, 4 * SECTOR, first, 16,
                      count - 2 * TREE) + bytes((len(name),)) + name.ljust(27, b"\0")
    mdb += struct.pack(">IHIIIHII", 0, 0, 1, TREE * SECTOR, TREE * SECTOR, 0, 0, 0) + bytes(32) + bytes(6)
    for start in (0, TREE):
        mdb += struct.pack(">I6H", TREE * SECTOR, start, TREE, 0, 0, 0, 0)
    data = bytearray(size)
    data[1024:1024 + len(mdb)] = mdb
    data[size - 1024:size - 1024 + len(mdb)] = mdb
    data[3 * SECTOR:3 * SECTOR + 2 * TREE // 8] = b"\xff" * (2 * TREE // 8)
    base = first * SECTOR
    data[base:base + SECTOR] = _header_node(max_key=7, root=0, leaves=0, nodes_used=1)
    folder = _key(1, name) + struct.pack(">BBHHIII", 1, 0, 0, 0, 2, WHEN, WHEN).ljust(70, b"\0")
    thread = _key(2, b"") + struct.pack(">BB8sI", 3, 0, bytes(8), 1) + (bytes((len(name),)) + name).ljust(32, b"\0")
    catalog = base + TREE * SECTOR
    data[catalog:catalog + SECTOR] = _header_node(max_key=37, root=1, leaves=2, nodes_used=2)
    data[catalog + SECTOR:catalog + 2 * SECTOR] = _leaf([folder, thread])
    return bytes(data)
