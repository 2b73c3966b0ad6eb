"""HFS on disk: master directory block, B-tree nodes, catalog records. Big-endian.

Source: "Inside Macintosh: Files", chapter 2 ("Data Organization on Volumes"); field names as there.
"""

from __future__ import annotations

import struct

import numpy as np

MDB_AT = 1024
MDB = np.dtype([                          # 162 bytes
    ("signature", "V2"), ("created", ">u4"), ("modified", ">u4"), ("attributes", ">u2"), ("root_files", ">u2"),
    ("bitmap_start", ">u2"), ("alloc_ptr", ">u2"), ("block_count", ">u2"), ("block_size", ">u4"),
    ("clump_size", ">u4"), ("first_block", ">u2"), ("next_id", ">u4"), ("free_blocks", ">u2"), ("name", "V28"),
    ("backed_up", ">u4"), ("sequence", ">u2"), ("write_count", ">u4"), ("extents_clump", ">u4"),
    ("catalog_clump", ">u4"), ("root_folders", ">u2"), ("file_count", ">u4"), ("folder_count", ">u4"),
    ("finder_info", "V32"), ("embedded_signature", "V2"), ("embedded_extent", "V4"), ("extents_size", ">u4"),
    ("extents_extents", ">u2", 6), ("catalog_size", ">u4"), ("catalog_extents", ">u2", 6)])
SIGNATURE = b"BD"
UNMOUNTED = 0x100                         # attribute: put away properly
NODE = struct.Struct(">IIbBHH")           # next, previous, type, height, records, reserved
NODE_SIZE, LEAF = 512, -1
FOLDER, FILE = 1, 2
FOLDER_RECORD = struct.Struct(">BxHHIII")                 # type, flags, valence, id, created, modified
FILE_RECORD = struct.Struct(">BxBB16sIHIIHIIIII16sH12s12s")
ROOT_PARENT, ROOT = 1, 2
DATA_FORK, RESOURCE_FORK = 0x00, 0xFF
EPOCH = 2082844800                        # seconds from 1904 to 1970
MOST_NODES = 1 << 20
