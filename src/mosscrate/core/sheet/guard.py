"""The guard: the single door for writing to what a person owns.

It compares the target with what was planned for, refuses what must not be written at all, and
opens the medium only when its tag was typed. No other module opens a medium for writing.
"""

from __future__ import annotations

import stat
from dataclasses import dataclass

from mosscrate.core.blocks import Blocks
from mosscrate.core.errors import GuardRefusal, MossError
from mosscrate.core.sheet.sheet import MediumRef
from mosscrate.core.slots import Medium, Source, fingerprint, sysfs


@dataclass(frozen=True)
class Check:
    """One thing the guard looked at. A check that failed cannot be confirmed away."""

    is_good: bool
    sentence: str


def inspect(medium: Medium, planned: MediumRef, source: MediumRef | None, *,
            compare_contents: bool = True) -> tuple[Check, ...]:
    """Everything the guard looks at before it would open the target for writing.

    Args:
        medium: the target as it is now.
        planned: the target as it was when the sheet was made.
        source: what is written from, if anything.
        compare_contents: False when an interrupted job goes on: then the contents have changed.
    """
    checks = [
        _answer(_own(medium), "This is one of the computer's own disks.", "Not one of the computer's own disks"),
        _answer(bool(_use(medium)), f"It is in use: {_use(medium)}.", "Not mounted, not in use"),
        _answer(medium.is_write_protected, "It is write-protected: by its switch, or by its permissions.",
                "Not write-protected"),
        _answer(medium.source == Source.BACKUP, "It is a kept backup. Backups are never written over.",
                "Not a kept backup")]
    if source:
        checks.append(_answer(_is_same(medium, source), "It is the source itself.", "Not the source"))
    is_other = medium.key != planned.key or medium.size != planned.size
    if not is_other and compare_contents:
        try:
            with medium.open() as blocks:
                is_other = fingerprint(blocks) != planned.fingerprint
        except MossError as error:
            return (*checks, Check(is_good=False, sentence=f"It cannot be read: {error}"))
    checks.append(_answer(is_other, "It is not the card that was planned for, or it was changed since. "
                          "Plan again with what is there now.", "The same card as when planned"))
    return tuple(checks)


def admit(medium: Medium, planned: MediumRef, source: MediumRef | None, typed_tag: str, *,
          compare_contents: bool = True) -> Blocks:
    """Open the target for writing. Raises GuardRefusal before anything was written, MediumError."""
    failed = [c.sentence for c in inspect(medium, planned, source, compare_contents=compare_contents)
              if not c.is_good]
    if failed:
        raise GuardRefusal(f"{medium.name} will not be written. {' '.join(failed)} Nothing was changed.")
    if typed_tag.strip().upper() != medium.tag:
        given = f"“{typed_tag}” is not it" if typed_tag else "it was not given"
        raise GuardRefusal(f"{medium.name} is only written when its tag is typed: {medium.tag}; {given}. "
                           "Nothing was changed.")
    return medium.open_for_guard()


def _own(medium: Medium) -> bool:
    return medium.path.resolve().name in sysfs.own_disks() if _is_device(medium) else False


def _use(medium: Medium) -> str:
    if medium.in_use:
        return medium.in_use
    return sysfs.in_use(medium.path) if _is_device(medium) else sysfs.loop_over(medium.path)


def _is_device(medium: Medium) -> bool:
    try:
        return stat.S_ISBLK(medium.path.stat().st_mode)
    except OSError:
        return False


def _is_same(medium: Medium, source: MediumRef) -> bool:
    if medium.key == source.key:
        return True
    try:
        return medium.path.samefile(source.path)
    except OSError:
        return False


def _answer(failed: bool, bad: str, good: str) -> Check:  # noqa: FBT001 - a verdict, not a mode
    return Check(not failed, bad if failed else good)
