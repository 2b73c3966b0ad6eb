"""ext2, ext3 and ext4 on disk: superblock, group descriptors, inodes, extents, directory entries.

Little-endian. Source: the Linux kernel's Documentation/filesystems/ext4 ("Data Structures and
Algorithms"); field names as there, without their prefixes.
"""

from __future__ import annotations

import struct

import numpy as np

MAGIC = 0xEF53
SUPERBLOCK_AT = 1024
SUPERBLOCK = np.dtype([                                   # 1024 bytes
    ("inodes_count", "<u4"), ("blocks_count_lo", "<u4"), ("r_blocks_count_lo", "<u4"),
    ("free_blocks_count_lo", "<u4"), ("free_inodes_count", "<u4"), ("first_data_block", "<u4"),
    ("log_block_size", "<u4"), ("log_cluster_size", "<u4"), ("blocks_per_group", "<u4"),
    ("clusters_per_group", "<u4"), ("inodes_per_group", "<u4"), ("mtime", "<u4"), ("wtime", "<u4"),
    ("mnt_count", "<u2"), ("max_mnt_count", "<u2"), ("magic", "<u2"), ("state", "<u2"), ("errors", "<u2"),
    ("minor_rev_level", "<u2"), ("lastcheck", "<u4"), ("checkinterval", "<u4"), ("creator_os", "<u4"),
    ("rev_level", "<u4"), ("def_resuid", "<u2"), ("def_resgid", "<u2"), ("first_ino", "<u4"),
    ("inode_size", "<u2"), ("block_group_nr", "<u2"), ("feature_compat", "<u4"), ("feature_incompat", "<u4"),
    ("feature_ro_compat", "<u4"), ("uuid", "V16"), ("volume_name", "V16"), ("last_mounted", "V64"),
    ("algorithm_usage_bitmap", "<u4"), ("prealloc_blocks", "u1"), ("prealloc_dir_blocks", "u1"),
    ("reserved_gdt_blocks", "<u2"), ("journal_uuid", "V16"), ("journal_inum", "<u4"), ("journal_dev", "<u4"),
    ("last_orphan", "<u4"), ("hash_seed", "V16"), ("def_hash_version", "u1"), ("jnl_backup_type", "u1"),
    ("desc_size", "<u2"), ("default_mount_opts", "<u4"), ("first_meta_bg", "<u4"), ("mkfs_time", "<u4"),
    ("jnl_blocks", "V68"), ("blocks_count_hi", "<u4"), ("r_blocks_count_hi", "<u4"),
    ("free_blocks_count_hi", "<u4"), ("min_extra_isize", "<u2"), ("want_extra_isize", "<u2"), ("flags", "<u4"),
    ("raid_stride", "<u2"), ("mmp_interval", "<u2"), ("mmp_block", "<u8"), ("raid_stripe_width", "<u4"),
    ("log_groups_per_flex", "u1"), ("checksum_type", "u1"), ("encryption_level", "u1"), ("reserved_pad", "u1"),
    ("kbytes_written", "<u8"), ("snapshot", "V20"), ("error_count", "<u4"), ("first_error", "V52"),
    ("last_error", "V52"), ("mount_opts", "V64"), ("usr_quota_inum", "<u4"), ("grp_quota_inum", "<u4"),
    ("overhead_clusters", "<u4"), ("backup_bgs", "<u4", 2), ("encrypt", "V20"), ("lpf_ino", "<u4"),
    ("prj_quota_inum", "<u4"), ("checksum_seed", "<u4"), ("times_hi", "V12"), ("orphan_file_inum", "<u4"),
    ("reserved", "V376"), ("checksum", "<u4")])
DESCRIPTOR = np.dtype([                                   # 64 bytes; 32 without the feature "64bit"
    ("block_bitmap_lo", "<u4"), ("inode_bitmap_lo", "<u4"), ("inode_table_lo", "<u4"),
    ("free_blocks_count_lo", "<u2"), ("free_inodes_count_lo", "<u2"), ("used_dirs_count_lo", "<u2"),
    ("flags", "<u2"), ("exclude_bitmap_lo", "<u4"), ("block_bitmap_csum_lo", "<u2"),
    ("inode_bitmap_csum_lo", "<u2"), ("itable_unused_lo", "<u2"), ("checksum", "<u2"),
    ("block_bitmap_hi", "<u4"), ("inode_bitmap_hi", "<u4"), ("inode_table_hi", "<u4"),
    ("free_blocks_count_hi", "<u2"), ("free_inodes_count_hi", "<u2"), ("used_dirs_count_hi", "<u2"),
    ("itable_unused_hi", "<u2"), ("exclude_bitmap_hi", "<u4"), ("block_bitmap_csum_hi", "<u2"),
    ("inode_bitmap_csum_hi", "<u2"), ("reserved", "<u4")])
SMALL_DESCRIPTOR = 32
CHECKSUM_AT = 0x1E                                        # of a descriptor
INODE = np.dtype([                                        # 160 bytes; the first 128 are always there
    ("mode", "<u2"), ("uid", "<u2"), ("size_lo", "<u4"), ("atime", "<u4"), ("ctime", "<u4"), ("mtime", "<u4"),
    ("dtime", "<u4"), ("gid", "<u2"), ("links_count", "<u2"), ("blocks_lo", "<u4"), ("flags", "<u4"),
    ("version", "<u4"), ("block", "V60"), ("generation", "<u4"), ("file_acl_lo", "<u4"), ("size_high", "<u4"),
    ("obso_faddr", "<u4"), ("blocks_high", "<u2"), ("file_acl_high", "<u2"), ("uid_high", "<u2"),
    ("gid_high", "<u2"), ("checksum_lo", "<u2"), ("reserved", "<u2"), ("extra_isize", "<u2"),
    ("checksum_hi", "<u2"), ("ctime_extra", "<u4"), ("mtime_extra", "<u4"), ("atime_extra", "<u4"),
    ("crtime", "<u4"), ("crtime_extra", "<u4"), ("version_hi", "<u4"), ("projid", "<u4")])
GOOD_OLD_INODE = 128
GOOD_OLD_FIRST = 11
ROOT, RESIZE, JOURNAL = 2, 7, 8

EXTENT_HEADER = struct.Struct("<HHHHI")                   # magic, entries, max, depth, generation
EXTENT_MAGIC = 0xF30A
EXTENT = np.dtype([("block", "<u4"), ("len", "<u2"), ("start_hi", "<u2"), ("start_lo", "<u4")])
EXTENT_INDEX = np.dtype([("block", "<u4"), ("leaf_lo", "<u4"), ("leaf_hi", "<u2"), ("unused", "<u2")])
UNWRITTEN = 32768                                         # a longer length means: reads as zeros
MAX_DEPTH = 5
RUN = np.dtype([("logical", "i8"), ("physical", "i8"), ("length", "i8"), ("unwritten", "?")])

DIRECTORY_ENTRY = struct.Struct("<IHBB")                  # inode, rec_len, name_len, file_type
TAIL_TYPE = 0xDE
TAIL_SIZE = 12
FT_FILE, FT_FOLDER, FT_LINK = 1, 2, 7
XATTR_MAGIC = 0xEA020000
XATTR_ENTRY = struct.Struct("<BBHIII")                    # name_len, name_index, value_offs, value_inum, size, hash
XATTR_SYSTEM = 7

# inode flags
INDEX_FL, HUGE_FILE_FL, EXTENTS_FL, EA_INODE_FL, INLINE_DATA_FL = 0x1000, 0x40000, 0x80000, 0x200000, 0x10000000
# group flags
INODE_UNINIT, BLOCK_UNINIT, INODE_ZEROED = 1, 2, 4
# superblock state
CLEAN, HAS_ERRORS = 1, 2

COMPAT = {"has_journal": 0x4, "ext_attr": 0x8, "resize_inode": 0x10, "dir_index": 0x20, "sparse_super2": 0x200,
          "fast_commit": 0x400, "stable_inodes": 0x800, "orphan_file": 0x1000}
INCOMPAT = {"compression": 0x1, "filetype": 0x2, "recover": 0x4, "journal_dev": 0x8, "meta_bg": 0x10,
            "extents": 0x40, "64bit": 0x80, "mmp": 0x100, "flex_bg": 0x200, "ea_inode": 0x400, "dirdata": 0x1000,
            "csum_seed": 0x2000, "largedir": 0x4000, "inline_data": 0x8000, "encrypt": 0x10000, "casefold": 0x20000}
RO_COMPAT = {"sparse_super": 0x1, "large_file": 0x2, "btree_dir": 0x4, "huge_file": 0x8, "gdt_csum": 0x10,
             "dir_nlink": 0x20, "extra_isize": 0x40, "quota": 0x100, "bigalloc": 0x200, "metadata_csum": 0x400,
             "readonly": 0x1000, "project": 0x2000, "verity": 0x8000, "orphan_present": 0x10000}
READABLE = {"filetype", "recover", "meta_bg", "extents", "64bit", "mmp", "flex_bg", "ea_inode", "csum_seed", "largedir",
            "inline_data", "encrypt", "casefold"}
CHANGEABLE = {"filetype", "meta_bg", "extents", "64bit", "flex_bg", "csum_seed", "largedir", "inline_data",
              "sparse_super", "large_file", "btree_dir", "huge_file", "gdt_csum", "dir_nlink", "extra_isize",
              "metadata_csum"}


def feature_names(bits: int, table: dict[str, int]) -> set[str]:
    """Names of the bits that are set; an unknown one is named by its number."""
    found = {name for name, bit in table.items() if bits & bit}
    rest = bits & ~sum(table.values())
    return found | {f"unknown feature {1 << k:#x}" for k in range(32) if rest >> k & 1}
