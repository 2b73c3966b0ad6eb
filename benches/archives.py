"""7z archives by the system's library, for benches and tests."""

from __future__ import annotations

from collections.abc import Mapping
from ctypes import c_char_p, c_int, c_void_p
from pathlib import Path

from libarchive import ffi
from libarchive.write import ArchiveWrite


def write_7z(path: Path, members: Mapping[str, bytes], compression: str = "lzma2") -> None:
    """Make an archive; its ending tells the library which kind it is."""
    by_ending = ffi.libarchive.archive_write_set_format_filter_by_ext
    by_ending.argtypes, by_ending.restype = [c_void_p, c_char_p], c_int
    pointer = ffi.write_new()
    try:
        if by_ending(pointer, str(path).encode()):
            raise OSError(f"{path} has no ending that the library knows")
        ffi.write_set_options(pointer, f"compression={compression}".encode())
        ffi.write_open_filename_w(pointer, str(path))
        archive = ArchiveWrite(pointer)
        for name, data in members.items():
            archive.add_file_from_memory(name, len(data), data)
        ffi.write_close(pointer)
    finally:
        ffi.write_free(pointer)
