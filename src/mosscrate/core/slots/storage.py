"""Which storage a thing is, whatever it is called: a hard link, a loop device, a partition, another node.

A storage is the set of all that a thing stands on; two things are one where their sets meet. Sources: stat(2), the
kernel's Documentation/ABI/stable/sysfs-block, loop(4), proc(5) on mountinfo.
"""

from __future__ import annotations

import fcntl
import os
import stat
import struct
from dataclasses import dataclass
from pathlib import Path

from mosscrate.core.slots.kernel_tree import Tree, number_in, text_in

LOOP_GET_STATUS64 = 0x4C05
_LOOP_INFO = struct.Struct("<QQQ")       # lo_device, lo_inode, lo_rdevice: the first fields of struct loop_info64


@dataclass(frozen=True)
class Storage:
    """What a thing stands on.

    Attributes:
        members: names such as "file-66-1234" (device and inode) and "dev-8-16" (major and minor).
        spans: for disks of which it is only a part, (member, first byte, last + 1).
    """

    members: frozenset[str]
    spans: tuple[tuple[str, int, int], ...] = ()

    def meets(self, other: Storage) -> bool:
        """Whether some byte of one may be a byte of the other."""
        mine, theirs = {s[0]: s[1:] for s in self.spans}, {s[0]: s[1:] for s in other.spans}
        for member in self.members & other.members:
            if member in mine and member in theirs:
                (a, b), (c, d) = mine[member], theirs[member]
                if a < d and c < b:
                    return True
            else:
                return True
        return False


def storage_of(path: Path, tree: Tree | None = None) -> Storage:
    """The storage behind a path. Raises OSError where there is none."""
    return _of_status(os.stat(path), tree or Tree())        # a device may be named by whoever may not open it


def storage_of_open(fd: int, tree: Tree | None = None) -> Storage:
    """The storage behind an open descriptor. Raises OSError."""
    return _of_status(os.fstat(fd), tree or Tree())


def _of_status(status: os.stat_result, tree: Tree) -> Storage:
    if not stat.S_ISBLK(status.st_mode):
        return _of_file(status)
    return of_number(f"{os.major(status.st_rdev)}:{os.minor(status.st_rdev)}", tree)


def _of_file(status: os.stat_result) -> Storage:
    return Storage(frozenset((f"file-{status.st_dev}-{status.st_ino}",)))


def of_number(number: str, tree: Tree, seen: set[str] | None = None) -> Storage:
    """A device and all that it stands on: the disk of a partition, the file of a loop, the parts of a mapped one."""
    seen = seen if seen is not None else set()
    if number in seen:
        return Storage(frozenset())
    seen.add(number)
    member = f"dev-{number.replace(':', '-')}"
    folder = tree.sys / "dev/block" / number
    members, spans = {member}, list[tuple[str, int, int]]()
    if (folder / "partition").exists():
        disk = text_in(folder.resolve().parent / "dev")
        below = of_number(disk, tree, seen)
        start = number_in(folder / "start") * 512
        spans.append((f"dev-{disk.replace(':', '-')}", start, start + number_in(folder / "size") * 512))
        members |= below.members
    elif (folder / "loop/backing_file").exists():
        below = _of_loop(folder, tree, seen)
        members |= below.members
    for slave in (folder / "slaves").glob("*"):
        below = of_number(text_in(slave / "dev"), tree, seen)
        members |= below.members
    return Storage(frozenset(members), tuple(spans))


def _of_loop(folder: Path, tree: Tree, seen: set[str]) -> Storage:
    """What a loop device stands on: by asking the device where that is allowed, else by the name of its file."""
    asked = ask_loop(tree.dev / folder.resolve().name)
    backing = text_in(folder / "loop/backing_file")
    try:
        status = os.stat(backing)
    except OSError:
        status = None
    if status is not None and stat.S_ISBLK(status.st_mode):
        return of_number(f"{os.major(status.st_rdev)}:{os.minor(status.st_rdev)}", tree, seen)
    if asked is not None:
        return Storage(frozenset((f"file-{asked[0]}-{asked[1]}",)))
    return _of_file(status) if status is not None else Storage(frozenset())


def ask_loop(device: Path) -> tuple[int, int] | None:
    """(device, inode) of the file that a loop stands on, also when it was renamed or deleted."""
    try:
        fd = os.open(device, os.O_RDONLY | os.O_CLOEXEC)
    except OSError:
        return None
    try:
        raw = fcntl.ioctl(fd, LOOP_GET_STATUS64, bytes(512))
    except OSError:
        return None
    finally:
        os.close(fd)
    where, inode, _ = _LOOP_INFO.unpack_from(raw)
    return _user_number(where), inode


def _user_number(encoded: int) -> int:
    """A device number as stat(2) gives it, from the kernel's own encoding of it (huge_encode_dev)."""
    return os.makedev((encoded & 0xFFF00) >> 8, (encoded & 0xFF) | ((encoded >> 12) & 0xFFF00))
