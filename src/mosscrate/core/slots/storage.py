"""Which storage a thing is, whatever it is called: a hard link, a loop device, a partition, another node.

A storage is the set of all that a thing stands on; two things are one where their sets meet. Sources: stat(2), the
kernel's Documentation/ABI/stable/sysfs-block, loop(4), proc(5) on mountinfo.
"""

from __future__ import annotations

import fcntl
import os
import stat
import struct
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

from mosscrate.core.slots.kernel_tree import Tree, lines_of, number_in, text_in

LOOP_GET_STATUS64 = 0x4C05
_LOOP_INFO = struct.Struct("<QQQ")       # lo_device, lo_inode, lo_rdevice: the first fields of struct loop_info64
_DELETED = " (deleted)"


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
    fd = os.open(path, os.O_RDONLY | os.O_CLOEXEC | os.O_NONBLOCK)
    try:
        return storage_of_open(fd, tree)
    finally:
        os.close(fd)


def storage_of_open(fd: int, tree: Tree | None = None) -> Storage:
    """The storage behind an open descriptor. Raises OSError."""
    status = os.fstat(fd)
    if not stat.S_ISBLK(status.st_mode):
        return _of_file(status, tree or Tree())
    number = f"{os.major(status.st_rdev)}:{os.minor(status.st_rdev)}"
    return _of_device(number, tree or Tree(), set())


def uses_of(storage: Storage, path: Path, tree: Tree | None = None) -> str:
    """Why a storage must not be written, "" where nothing speaks against it: what is mounted, swapped, stood upon.

    `path` is the thing itself, which is not counted as its own user.
    """
    tree = tree or Tree()
    own = _number_of(path)
    mounts, swaps = _mounts(tree), _swap_numbers(tree)
    found = ""
    for number, folder in _devices(tree):
        others = _of_device(number, tree, set())
        if not others.meets(storage) and not _may_stand_on(folder, path):
            continue
        if number in mounts:
            return f"mounted at {mounts[number]}" + ("" if number == own else f" through {folder.name}")
        if number in swaps:
            return "used as swap"
        if (folder / "loop/backing_file").exists() and number != own and not _stands_on(own, number, tree):
            found = found or f"the loop device {folder.name} stands on it"
        if not (folder / "loop").is_dir() and any((folder / "slaves").glob("*")) and number != own:
            found = found or "used by a mapped device"
    return found


def _of_file(status: os.stat_result, tree: Tree) -> Storage:
    return Storage(frozenset((f"file-{status.st_dev}-{status.st_ino}",)))


def _of_device(number: str, tree: Tree, seen: set[str]) -> Storage:
    """A device and all that it stands on: the disk of a partition, the file of a loop, the parts of a mapped one."""
    if number in seen:
        return Storage(frozenset())
    seen.add(number)
    member = f"dev-{number.replace(':', '-')}"
    folder = tree.sys / "dev/block" / number
    members, spans = {member}, list[tuple[str, int, int]]()
    if (folder / "partition").exists():
        disk = text_in(folder.resolve().parent / "dev")
        below = _of_device(disk, tree, seen)
        start = number_in(folder / "start") * 512
        spans.append((f"dev-{disk.replace(':', '-')}", start, start + number_in(folder / "size") * 512))
        members |= below.members
    elif (folder / "loop/backing_file").exists():
        below = _of_loop(folder, tree, seen)
        members |= below.members
    for slave in (folder / "slaves").glob("*"):
        below = _of_device(text_in(slave / "dev"), tree, seen)
        members |= below.members
    return Storage(frozenset(members), tuple(spans))


def _of_loop(folder: Path, tree: Tree, seen: set[str]) -> Storage:
    """What a loop device stands on: by asking the device where that is allowed, else by the name of its file."""
    asked = _ask_loop(tree.dev / folder.resolve().name)
    backing = text_in(folder / "loop/backing_file")
    try:
        status = os.stat(backing)
    except OSError:
        status = None
    if status is not None and stat.S_ISBLK(status.st_mode):
        return _of_device(f"{os.major(status.st_rdev)}:{os.minor(status.st_rdev)}", tree, seen)
    if asked is not None:
        return Storage(frozenset((f"file-{asked[0]}-{asked[1]}",)))
    return _of_file(status, tree) if status is not None else Storage(frozenset())


def _ask_loop(device: Path) -> tuple[int, int] | None:
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


def _may_stand_on(folder: Path, path: Path) -> bool:
    """Whether a loop whose file cannot be told has the name or size of this one: it counts as standing on it."""
    backing = text_in(folder / "loop/backing_file")
    if not backing.endswith(_DELETED) or _ask_loop(Path("/dev") / folder.name) is not None:
        return False
    try:
        size = path.stat().st_size
    except OSError:
        return True
    return Path(backing.removesuffix(_DELETED)).name == path.name or number_in(folder / "size") * 512 == size


def _stands_on(own: str, number: str, tree: Tree) -> bool:
    """Whether the thing itself is a partition of, or a loop over, that device."""
    if not own:
        return False
    return f"dev-{number.replace(':', '-')}" in _of_device(own, tree, set()).members


def _devices(tree: Tree) -> Iterator[tuple[str, Path]]:
    """Every device and partition that holds something: its number and its folder."""
    for folder in sorted((tree.sys / "block").iterdir()) if (tree.sys / "block").is_dir() else []:
        if number_in(folder / "size") == 0:
            continue
        yield text_in(folder / "dev"), folder
        for part in folder.iterdir():
            if (part / "partition").exists():
                yield text_in(part / "dev"), part


def _mounts(tree: Tree) -> dict[str, str]:
    """{device number: the first place where it is mounted}."""
    found: dict[str, str] = {}
    names = {folder.name: number for number, folder in _devices(tree)}
    for line in lines_of(tree.proc / "self/mountinfo"):
        fields = line.split()
        tail = fields.index("-") if "-" in fields else len(fields) - 3
        place = fields[4].replace("\\040", " ")
        found.setdefault(fields[2], place)
        source = Path(fields[tail + 2])
        if fields[tail + 2].startswith("/") and source.name in names:
            found.setdefault(names[source.name], place)
    return found


def _swap_numbers(tree: Tree) -> set[str]:
    names = {folder.name: number for number, folder in _devices(tree)}
    return {names[name] for line in lines_of(tree.proc / "swaps")[1:] if (name := Path(line.split()[0]).name) in names}


def _number_of(path: Path) -> str:
    try:
        status = path.stat()
    except OSError:
        return ""
    return f"{os.major(status.st_rdev)}:{os.minor(status.st_rdev)}" if stat.S_ISBLK(status.st_mode) else ""
