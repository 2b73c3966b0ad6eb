"""What the running system does with its devices: mounted, swapped onto, stood upon; and on which of them it lives.

Two views are asked, the kernel's trees and the desktop's disk service, and what either of them says counts. Sources:
proc(5) on mountinfo and swaps, the kernel's Documentation/ABI/stable/sysfs-block, ABI/testing/sysfs-block-zram and
ABI/testing/sysfs-fs-btrfs.
"""

from __future__ import annotations

import os
import re
import stat
from collections.abc import Iterator
from contextlib import suppress
from dataclasses import dataclass, replace
from functools import cached_property
from pathlib import Path

from mosscrate.core.slots.kernel_tree import Tree, lines_of, number_in, text_in
from mosscrate.core.slots.service import View
from mosscrate.core.slots.service.service import NO_VIEW
from mosscrate.core.slots.storage import Storage, ask_loop, of_number

# Where a running system keeps itself; a live system has its medium under the last ones.
OWN_PLACES = frozenset((
    "/", "/boot", "/boot/efi", "/efi", "/usr", "/usr/local", "/var", "/var/log", "/home", "/etc", "/opt", "/root",
    "/srv", "/tmp", "/nix", "/nix/store", "/gnu/store", "/sysroot", "/cdrom", "/run/live/medium", "/run/initramfs/live",
    "/run/archiso/bootmnt", "/rofs"))
_DELETED = " (deleted)"
_ESCAPED = re.compile(r"\\([0-7]{3})")


@dataclass(frozen=True)
class Use:
    """One thing that the system does with a device.

    Attributes:
        number: of the device.
        sentence: what, such as "mounted at /media/x".
        is_own: whether the system itself lives there.
        place: where it is mounted; "" for everything else.
    """

    number: str
    sentence: str
    is_own: bool = False
    place: str = ""

    @classmethod
    def mount(cls, number: str, place: str) -> Use:
        """A file system that is mounted somewhere."""
        return cls(number, f"mounted at {place}", place in OWN_PLACES, place)


class System:
    """How the system uses its devices at one moment.

    Attributes:
        tree: of the kernel.
        view: of the service.
        devices: {number: folder} of every device and partition that holds something.
    """

    def __init__(self, tree: Tree | None = None, view: View = NO_VIEW) -> None:
        self.tree, self.view = tree or Tree(), view
        self.devices = dict(_devices(self.tree))

    @cached_property
    def uses(self) -> tuple[Use, ...]:
        """Mounts and swaps, each device of a group that is mounted as one."""
        found = [*self._mounted(), *self._swapped(), *self._told()]
        together = self._groups()
        return tuple(replace(use, number=number) for use in found
                     for number in together.get(use.number, (use.number,)))

    def number_at(self, path: Path) -> str:
        """The number of a device by its path, also of one that has gone; "" for everything else."""
        return number_of(path) or self._named(str(path))

    def is_own(self, number: str) -> bool:
        """Whether the computer's own system lives on the disk of a device, or on the same disks as it."""
        return bool(self._disks(number) & self._own)

    def of(self, storage: Storage, path: Path) -> str:
        """Why a storage must not be written, "" where nothing speaks against it.

        `path` is the thing itself, which is not counted as its own user.
        """
        own, found = self.number_at(path), ""
        uses = {use.number: use for use in reversed(self.uses)}
        for number, folder in self.devices.items():
            if not self.storage(number).meets(storage) and not self._may_stand_on(folder, path):
                continue
            if number in uses:
                return uses[number].sentence + ("" if number == own else f" through {folder.name}")
            found = found or self._held_by(number, folder, own)
        return found

    def _held_by(self, number: str, folder: Path, own: str) -> str:
        """What stands on a thing through another device, itself and what it stands on left aside."""
        if number == own:
            return ""
        if (folder / "loop/backing_file").exists():
            return "" if own and _member(number) in self.storage(own).members else \
                f"the loop device {folder.name} stands on it"
        device = self.view.at(number)
        is_mapped = any((folder / "slaves").glob("*")) or (device and any(a != device.table for a in device.below))
        return "used by a mapped device" if is_mapped else ""

    @cached_property
    def _own(self) -> frozenset[str]:
        return frozenset(disk for use in self.uses if use.is_own for disk in self._disks(use.number))

    def _disks(self, number: str) -> frozenset[str]:
        """The lowest of what a device stands on."""
        seen, queue, lowest = set[str](), [number], set[str]()
        while queue:
            here = queue.pop()
            if here in seen:
                continue
            seen.add(here)
            below = self._below(here)
            queue += below
            if not below:
                lowest.add(_member(here))
                if (self.devices.get(here, Path()) / "loop/backing_file").exists():
                    lowest |= of_number(here, self.tree).members
        return frozenset(lowest)

    def _below(self, number: str) -> set[str]:
        """What a device stands on directly, as either view tells."""
        found = set[str]()
        if (folder := self.devices.get(number)) is not None:
            found |= {text_in(slave / "dev") for slave in (folder / "slaves").glob("*")}
            if (folder / "partition").exists():
                found.add(text_in(folder.resolve().parent / "dev"))
            for backing in (text_in(folder / "loop/backing_file"), text_in(folder / "backing_dev")):
                found |= {n for n in (self._named(backing),) if n}
        if (device := self.view.at(number)) is not None:
            found |= {other.number for other in self.view.devices if other.address in device.below}
        return found - {"", number}

    def storage(self, number: str) -> Storage:
        """What a device stands on, as both views tell it."""
        storage = of_number(number, self.tree)
        disks = {member for member, _, _ in storage.spans}
        below = (n for n in self._below(number) if _member(n) not in disks)
        return Storage(storage.members.union(*(of_number(n, self.tree).members for n in below)), storage.spans)

    def _mounted(self) -> Iterator[Use]:
        for place, number, source in _mounts(self.tree):
            for found in {number, self._named(source)} & self.devices.keys():
                yield Use.mount(found, place)

    def _swapped(self) -> Iterator[Use]:
        for line in lines_of(self.tree.proc / "swaps")[1:]:
            name = _plain(line.split()[0]).removesuffix(_DELETED)
            number = self._named(name)
            if number:
                yield Use(number, "used as swap", is_own=True)
            else:
                yield from (Use(n, "the swap file of this computer lies on it", is_own=True)
                            for n in self._carrying(name))

    def _carrying(self, file: str) -> set[str]:
        """The devices of the mount in which a file lies."""
        inside = [(len(place), number, source) for place, number, source in _mounts(self.tree)
                  if file == place or file.startswith(place.rstrip("/") + "/")]
        if not inside:
            return set()
        _, number, source = max(inside)
        return {number, self._named(source)} & self.devices.keys()

    def _told(self) -> Iterator[Use]:
        """What the service says; it sees mounts of the system that this process may not."""
        for device in self.view.devices:
            for place in device.mounts:
                yield Use.mount(device.number, place)
            if device.is_swap:
                yield Use(device.number, "used as swap", is_own=True)

    def _groups(self) -> dict[str, frozenset[str]]:
        """Devices that carry one file system together."""
        groups = dict[str, frozenset[str]]()
        for folder in (self.tree.sys / "fs/btrfs").glob("*/devices"):
            numbers = frozenset(filter(None, (self._named(f"/dev/{device.name}") for device in folder.iterdir())))
            groups |= dict.fromkeys(numbers, numbers)
        return groups

    def _named(self, source: str) -> str:
        """The number of the device that a table calls by a path; "" for none."""
        source = source.removeprefix(str(self.tree.dev.parent).rstrip("/"))
        if not source.startswith("/dev/"):
            return ""
        real = os.path.realpath(self.tree.dev / source.removeprefix("/dev/"))
        return self._by_name.get(Path(real).name) or self._by_name.get(Path(source).name, "")

    @cached_property
    def _by_name(self) -> dict[str, str]:
        """Numbers by the kernel's names and by those of mapped devices and arrays."""
        names = {folder.name: number for number, folder in self.devices.items()}
        for number, folder in self.devices.items():
            for other in (text_in(folder / "dm/name"), text_in(folder / "md/array_name")):
                if other:
                    names.setdefault(other, number)
        return names

    def _may_stand_on(self, folder: Path, path: Path) -> bool:
        """Whether a loop whose file cannot be told has the name or size of this one: it counts as standing on it."""
        backing = text_in(folder / "loop/backing_file")
        if not backing.endswith(_DELETED) or ask_loop(self.tree.dev / folder.name) is not None:
            return False
        try:
            size = path.stat().st_size
        except OSError:
            return True
        return Path(backing.removesuffix(_DELETED)).name == path.name or number_in(folder / "size") * 512 == size


def is_swap_file(path: Path, tree: Tree) -> bool:
    """Whether this computer swaps onto a file, under whatever name."""
    for line in lines_of(tree.proc / "swaps")[1:]:
        with suppress(OSError):
            if path.samefile(_plain(line.split()[0])):
                return True
    return False


def number_of(path: Path) -> str:
    """The "major:minor" of a device file; "" for everything else."""
    try:
        status = path.stat()
    except OSError:
        return ""
    return f"{os.major(status.st_rdev)}:{os.minor(status.st_rdev)}" if stat.S_ISBLK(status.st_mode) else ""


def _member(number: str) -> str:
    return f"dev-{number.replace(':', '-')}"


def _devices(tree: Tree) -> Iterator[tuple[str, Path]]:
    """Every device and partition that holds something: its number and its folder."""
    for folder in sorted((tree.sys / "block").iterdir()) if (tree.sys / "block").is_dir() else []:
        if number_in(folder / "size") == 0:
            continue
        yield text_in(folder / "dev"), folder
        for part in folder.iterdir():
            if (part / "partition").exists():
                yield text_in(part / "dev"), part


def _mounts(tree: Tree) -> Iterator[tuple[str, str, str]]:
    """(place, device number, source) of every mount that this process may see, in whatever namespace."""
    seen = set[str]()
    for table in _mount_tables(tree):
        for line in lines_of(table):
            if line in seen:
                continue
            seen.add(line)
            fields = line.split()
            if len(fields) < 7:
                continue
            tail = fields.index("-") if "-" in fields else len(fields) - 4
            yield _plain(fields[4]), fields[2], _plain(fields[min(tail + 2, len(fields) - 1)])


def _mount_tables(tree: Tree) -> Iterator[Path]:
    """The table of this process, and one of each other namespace in which this person's processes run."""
    yield tree.proc / "self/mountinfo"
    known = {_namespace(tree.proc / "self")}
    for process in tree.proc.glob("[0-9]*"):
        where = _namespace(process)
        if where and where not in known:
            known.add(where)
            yield process / "mountinfo"


def _namespace(process: Path) -> str:
    try:
        return os.readlink(process / "ns/mnt")
    except OSError:
        return ""


def _plain(text: str) -> str:
    """A path without the escapes of the kernel's tables."""
    return _ESCAPED.sub(lambda found: chr(int(found[1], 8)), text)
