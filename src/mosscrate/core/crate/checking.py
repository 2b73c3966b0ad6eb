"""Whether a backup can be read in full, and which files are damaged where it cannot."""

from __future__ import annotations

import mmap
from collections.abc import Callable
from functools import lru_cache
from pathlib import Path

import numpy as np

from mosscrate.core.crate.trust import Trust
from mosscrate.core.errors import CrateError, FormatError
from mosscrate.core.images.kept import Manifest, packs_of, read_manifest
from mosscrate.core.images.kept.manifest import About, read_about
from mosscrate.core.images.kept.packs import Packs
from mosscrate.core.images.kept.proving import prove_pack
from mosscrate.core.sizes import counted, some_of
from mosscrate.core.there import below, is_there
from mosscrate.core.watch import Watch

NAMED = 5                                # files that a sentence names


@lru_cache(4096)
def about_of(path: Path, size: int, changed: int) -> About:
    """What is true of a whole backup, by path, bytes and time of change of its file. Raises OSError, FormatError."""
    with path.open("rb") as file:
        if not size:
            raise FormatError("backup", "size", 0, size, "a file that is not empty")
        with mmap.mmap(file.fileno(), 0, prot=mmap.PROT_READ) as data:
            return read_about(data)


def check_chunks(path: Path, watch: Watch) -> None:
    """Read every chunk of a backup and prove it by its name. Raises CrateError that names damaged files, Stopped."""
    manifest = manifest_at(path)
    packs = packs_of(path.resolve().parents[2])
    packs.refresh()
    if bad := damaged_in(manifest, packs, watch, phase="Checking the backup"):
        raise CrateError(_not_what_was_kept(manifest, bad))


def is_all_there(path: Path) -> bool:
    """Whether every chunk of a backup stands in some pack. Raises CrateError."""
    packs = packs_of(path.resolve().parents[2])
    packs.refresh()
    return bool(packs.has(manifest_at(path).names).all())


def has_known_damage(path: Path) -> bool:
    """Whether a backup lacks chunks by the tables, or holds some that were found damaged before; nothing is read."""
    packs, trust = packs_of(path.resolve().parents[2]), Trust(path.resolve().parents[2])
    packs.refresh()
    try:
        names = manifest_at(path).names
    except CrateError:
        return True
    bad = trust.known_bad(packs)
    return not packs.has(names).all() or any(name.tobytes() in bad for name in names)


def damaged_in(manifest: Manifest, packs: Packs, watch: Watch, *, phase: str) -> list[int]:
    """Numbers of the chunks of a backup that cannot be read. Raises Stopped."""
    bad = []
    for number, name in enumerate(manifest.names):
        watch.progress(phase, int(manifest.tape[number]), int(manifest.tape[-1]))
        try:
            packs.read(name.tobytes())
        except CrateError:
            bad.append(number)
    return bad


def manifest_at(path: Path) -> Manifest:
    """The list of chunks in a file. Raises CrateError."""
    try:
        return read_manifest(path.read_bytes())
    except (OSError, FormatError) as error:
        raise CrateError(f"The backup {path.stem} in “{path.parent.name}” cannot be used: {error}") from error


def check_store(crate: Path, watch: Watch) -> list[str]:
    """Read every pack and every list of chunks once; a sentence for each that is damaged. Raises Stopped.

    What goes or comes meanwhile, since somebody keeps or gives room back, is not damage: what a list lacks then is
    looked for once more.
    """
    told: list[str] = []
    good, trust = set[bytes](), Trust(crate)
    paths = _told_of(told, lambda: below(crate / "packs", ".pack"))
    for number, path in enumerate(paths):
        watch.progress("Checking what is kept", number, len(paths))
        try:
            proven = prove_pack(path)
            trust.proved(path, proven)
        except FileNotFoundError:
            continue
        except OSError as error:
            told.append(f"The pack {path.name} cannot be read: {error.strerror}.")
            continue
        good |= set(proven.good)
        if proven.where:
            told.append(f"The pack {path.name} is damaged in {proven.where[0]}; what is kept in it is found all the "
                        "same.")
    trust.save()
    packs = Packs(crate)
    for path in _told_of(told, lambda: below(crate / "backups", ".kept")):
        watch.check()
        try:
            manifest = manifest_at(path)
            missing = [number for number, name in enumerate(manifest.names) if name.tobytes() not in good]
            if missing and (missing := _still_missing(manifest, missing, packs)) and is_there(path):
                told.append(_not_what_was_kept(manifest, missing))
        except (CrateError, OSError) as error:
            if not _is_gone(path):                            # it may just have been forgotten
                told.append(str(error))
    packs.close()
    return told


def _told_of(told: list[str], ask: Callable[[], list[Path]]) -> list[Path]:
    """What a folder holds; one that cannot be read is told."""
    try:
        return ask()
    except OSError as error:
        told.append(f"The folder {error.filename} cannot be read: {error.strerror}. What is in it was not checked.")
        return []


def _still_missing(manifest: Manifest, missing: list[int], packs: Packs) -> list[int]:
    """Of the numbers of chunks, those that cannot be read now either."""
    packs.refresh()
    found = []
    for number in missing:
        try:
            packs.read(manifest.names[number].tobytes())
        except CrateError:
            found.append(number)
    return found


def _is_gone(path: Path) -> bool:
    try:
        return not is_there(path)
    except OSError:
        return False


def _not_what_was_kept(manifest: Manifest, bad: list[int]) -> str:
    about = manifest.about
    return (f"The backup of {about.card.name} of {about.kept_at[:16].replace('T', ' ')} is not what was kept: "
            f"{damage(manifest, bad)} Everything else of it can be put back.")


def damage(manifest: Manifest, bad: list[int]) -> str:
    """What damaged chunks hold, in a sentence: files by name, everything else by its place on the card."""
    starts, ends = manifest.tape[bad], manifest.tape[np.array(bad) + 1]
    files, in_files = [], np.zeros(len(bad), bool)
    for row in manifest.files:
        hit = (starts < row["tape"] + row["length"]) & (ends > row["tape"])
        if hit.any():
            files.append(manifest.paths[row["path"]])
            in_files |= hit
    told = []
    if files:
        told.append(f"{counted(len(files), 'file')} ({some_of(files, NAMED)})")
    elsewhere = np.flatnonzero(~in_files)
    if len(elsewhere):
        at = _place_of(manifest, int(starts[elsewhere[0]]))
        told.append(f"{counted(len(elsewhere), 'stretch', 'stretches')} outside of files, the first at byte {at:,} of "
                    "the card")
    return f"{' and '.join(told)} cannot be read."


def _place_of(manifest: Manifest, tape: int) -> int:
    """The byte of the card that a byte of the tape comes from; 0 where none does."""
    runs = manifest.runs
    inside = np.flatnonzero((runs["tape"] <= tape) & (tape < runs["tape"] + runs["length"]))
    return int(runs["card"][inside[0]] + tape - runs["tape"][inside[0]]) if len(inside) else 0
