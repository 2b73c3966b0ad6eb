"""What an archive holds, and which of it is most likely a disk."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from heapq import nsmallest
from pathlib import PurePosixPath
from typing import Protocol

from mosscrate.core.blocks import Blocks
from mosscrate.core.errors import MediumError
from mosscrate.core.sizes import counted

DISKS = frozenset((".img", ".ima", ".image", ".raw", ".dd", ".bin", ".dsk", ".hdf", ".hda", ".hdd", ".ahd", ".adf",
                   ".st", ".vhd", ".qcow2", ".drive"))
PACKED = frozenset((".gz", ".xz", ".bz2", ".zst", ".zip", ".7z", ".rar", ".tar", ".tgz", ".txz", ".tzst", ".tbz2",
                    ".001", ".lz4", ".lz", ".lzma"))
OTHERS = frozenset((".txt", ".md", ".pdf", ".html", ".htm", ".nfo", ".url", ".sha256", ".sha1", ".md5", ".sfv", ".b3",
                    ".sha256sum", ".sig", ".asc", ".json", ".xml", ".png", ".jpg", ".exe", ".sh", ".bat", ".py",
                    ".bmap", ".log", ".doc", ".rtf"))
_HIDDEN = (".", "__")
SECTOR = 512
SHRUNK = 3                              # times that a disk is packed to, at a guess


@dataclass(frozen=True)
class Member:
    """One file in an archive.

    Attributes:
        name: with its folders.
        size: bytes unpacked; None where nobody knows.
        open: gives its bytes. Raises MediumError.
    """

    name: str
    size: int | None
    open: Callable[[], Blocks]


class NothingInside(MediumError):
    """An archive holds no disk."""


class Wrapping(Protocol):
    """One format for files that hold other files.

    Attributes:
        kind: as people write it.
        needs_end: whether its list stands at the end.
    """

    kind: str
    needs_end: bool

    def probe(self, first: bytes) -> bool:
        """Whether a file that begins like this is of it."""

    def members(self, file: Blocks) -> Sequence[Member]:
        """What is in it. Raises MediumError."""


def chosen(members: Sequence[Member], wanted: str, name: str) -> Member:
    """The member that was asked for, or the likely one. Raises MediumError, NothingInside."""
    if wanted:
        found = [m for m in members if m.name == wanted] or [m for m in members if PurePosixPath(m.name).name == wanted]
        if not found:
            raise MediumError(f"There is no {wanted} in {name}. It holds {_listed(members)}.")
        return found[0]
    likely = candidates(members, 1)
    if not likely:
        raise NothingInside(f"{name} holds no disk image that is known here: {_listed(members)}. Nothing was changed.")
    return likely[0]


def candidates(members: Sequence[Member], most: int) -> list[Member]:
    """What may be a disk, the likely ones first: by the ending of their names, then by their sizes."""
    return nsmallest(most, (m for m in members if _may_be_one(m)),
                     key=lambda m: (-_rank(m.name), -_likely_size(m), m.name))


def _likely_size(member: Member) -> int:
    """Bytes once it is unpacked: what is packed once more is larger than it looks."""
    is_packed = _ending(member.name) in PACKED
    return 1 << 62 if member.size is None else member.size * (SHRUNK if is_packed else 1)


def is_disk_by_name(name: str) -> bool:
    """Whether a name ends like that of a disk, packed or not."""
    return _rank(name) >= 2


def _may_be_one(member: Member) -> bool:
    name = member.name.removeprefix("./")
    is_hidden = name.startswith(_HIDDEN) or any(f"/{start}" in name for start in _HIDDEN)
    return not is_hidden and (member.size is None or member.size >= SECTOR) and _ending(name) not in OTHERS


def _rank(name: str) -> int:
    ending = _ending(name)
    if ending in DISKS:
        return 3
    return (3 if _ending(name[:-len(ending)]) in DISKS else 1) if ending in PACKED else 0


def _ending(name: str) -> str:
    """Its last suffix in small letters: a path of its own for each of many thousands takes long."""
    stem, dot, ending = name.rpartition("/")[2].rpartition(".")
    return f".{ending.lower()}" if dot and stem else ""


def _listed(members: Sequence[Member]) -> str:
    names = ", ".join(m.name for m in members[:3])
    more = f" and {counted(len(members) - 3, 'other file')}" if len(members) > 3 else ""
    return f"{names}{more}" if members else "nothing"
