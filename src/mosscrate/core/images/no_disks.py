"""Files that are known by their first bytes to be no raw disks: published magic values, and what to do."""

from __future__ import annotations

from dataclasses import dataclass

UNPACK = "unpack it with the tool that packed it, then open what comes out"
CONVERT = "save it as a raw disk with the emulator that made it, then open that"


@dataclass(frozen=True)
class Known:
    """Bytes at a place, what a file with them is, and what to do with it."""

    magic: bytes
    words: str
    advice: str = ""
    at: int = 0


KNOWN = (
    Known(b"\x02\x21\x4c\x18", "packed by an older lz4", UNPACK),
    Known(b"\x1f\x9d", "packed by compress", UNPACK), Known(b"\x1f\xa0", "packed by an older compress", UNPACK),
    Known(b"\x89LZO\0\r\n\x1a\n", "packed by lzop", UNPACK), Known(b"\xff\x06\0\0sNaPpY", "packed by Snappy", UNPACK),
    Known(b"LRZI", "packed by lrzip", UNPACK), Known(b"MSCF\0\0\0\0", "a cabinet archive", UNPACK),
    Known(b"!<arch>\n", "an ar archive", UNPACK), Known(b"\xed\xab\xee\xdb", "an rpm package"),
    Known(b"070707", "a cpio archive", UNPACK), Known(b"070701", "a cpio archive", UNPACK),
    Known(b"MSWIM\0\0\0", "an archive of an installation", UNPACK), Known(b"xar!", "a xar archive", UNPACK),
    Known(b"KDMV", "the disk of an emulator in a form that is not read here", CONVERT),
    Known(b"COWD", "the disk of an emulator in a form that is not read here", CONVERT),
    Known(b"\x7f\x10\xda\xbe", "the disk of an emulator in a form that is not read here", CONVERT, 64),
    Known(b"vhdxfile", "a VHDX file, which is not read here", CONVERT),
    Known(b"QED\0", "the disk of an emulator in a form that is not read here", CONVERT),
    Known(b"WithoutFreeSpace", "the disk of an emulator in a form that is not read here", CONVERT),
    Known(b"WithouFreSpacExt", "the disk of an emulator in a form that is not read here", CONVERT),
    Known(b"MComprHD", "a packed hard drive of an arcade emulator", CONVERT),
    Known(b"EVF\t\r\n\xff\0", "a disk in an evidence file", CONVERT),
    Known(b"\x7fELF", "a program"), Known(b"%PDF-", "a document"), Known(b"\x89PNG\r\n\x1a\n", "a picture"),
    Known(b"\xff\xd8\xff", "a picture"), Known(b"GIF8", "a picture"), Known(b"SQLite format 3\0", "a database"),
    Known(b"OggS\0", "a recording"), Known(b"fLaC", "a recording"), Known(b"ID3", "a recording"),
    Known(b"MOSSPACK", "a pack of a crate; its backups are in the folder “backups”"))


def known_by(first: bytes) -> str:
    """What a file that begins like this is, with what to do; "" where it may be a disk."""
    known = next((each for each in KNOWN if first[each.at:].startswith(each.magic)), None)
    if known is None:
        return ""
    return f"{known.words}, not a raw disk" + (f": {known.advice}" if known.advice else "")
