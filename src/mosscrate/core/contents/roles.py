"""What a partition is for, with the reason, since nobody should have to believe a guess."""

from __future__ import annotations

from collections import Counter
from collections.abc import Set as AbstractSet
from dataclasses import dataclass
from enum import StrEnum

from mosscrate.core.contents.files import FileKind
from mosscrate.core.sizes import counted


class Role(StrEnum):
    """What a partition is for."""

    FIRMWARE = "firmware"
    ROMS = "roms"
    SAVES = "saves"
    SETTINGS = "settings"
    STORAGE = "storage"
    UNKNOWN = "unknown"


SYSTEM_TREE = frozenset(("bin", "sbin", "etc", "lib", "usr", "var", "boot", "init"))
LEAST_SYSTEM = 3                         # of these in a root folder


def is_system(top: AbstractSet[str]) -> bool:
    """Whether names in a root folder are those of a machine's system."""
    return len(SYSTEM_TREE & top) >= LEAST_SYSTEM


@dataclass(frozen=True)
class RoleGuess:
    """A role and why."""

    role: Role
    reason: str


def guess_role(kinds: Counter[FileKind], *, volume_kind: str, is_active: bool,
               top: frozenset[str] = frozenset(), is_read: bool = True) -> RoleGuess:
    """The role of a partition from the kinds of its files and the names in its root folder, if all could be read."""
    total = sum(kinds.values())
    if is_system(top):
        return RoleGuess(Role.FIRMWARE, f"it holds the system of a machine: {', '.join(sorted(SYSTEM_TREE & top))}")
    roms, saves, firmware = kinds[FileKind.ROM], kinds[FileKind.SAVE], kinds[FileKind.FIRMWARE]
    if roms and roms >= saves and roms * 3 >= total:
        return RoleGuess(Role.ROMS, _share(roms, total, "ROM"))
    if firmware and (is_active or firmware * 4 >= total or roms + saves == 0):
        return RoleGuess(Role.FIRMWARE, f"it holds {counted(firmware, 'file')} that a machine boots from")
    if saves and saves * 2 >= total:
        return RoleGuess(Role.SAVES, _share(saves, total, "save"))
    if kinds[FileKind.SETTING] * 2 >= total > 0:
        return RoleGuess(Role.SETTINGS, "most of its files are settings")
    if total:
        return RoleGuess(Role.STORAGE, "it holds files of several kinds")
    if volume_kind:
        return RoleGuess(Role.STORAGE, "it holds no files yet" if is_read else "none of its files can be read")
    return RoleGuess(Role.UNKNOWN, "no file system is recognised on it")


def _share(some: int, total: int, noun: str) -> str:
    if total == 1:
        return f"its only file is a {noun}"
    return f"{some} of its {total} files {'is a ' + noun if some == 1 else 'are ' + noun + 's'}"
