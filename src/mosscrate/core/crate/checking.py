"""Whether a backup can be read in full, and which files are damaged where it cannot."""

from __future__ import annotations

import mmap
from functools import lru_cache
from pathlib import Path

import numpy as np

from mosscrate.core.errors import CrateError, FormatError
from mosscrate.core.images.kept import Manifest, packs_of, read_manifest
from mosscrate.core.images.kept.manifest import About, read_about
from mosscrate.core.images.kept.packs import Packs
from mosscrate.core.images.kept.proving import prove_pack
from mosscrate.core.sizes import counted
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
    """Read every pack and every list of chunks once; a sentence for each that is damaged. Raises Stopped."""
    told: list[str] = []
    paths = sorted(crate.glob("packs/*/*.pack"))
    good = set[bytes]()
    for number, path in enumerate(paths):
        watch.progress("Checking what is kept", number, len(paths))
        try:
            proven = prove_pack(path)
            good |= set(proven.good)
        except OSError as error:
            told.append(f"The pack {path.name} cannot be read: {error.strerror}.")
            continue
        if proven.where:
            told.append(f"The pack {path.name} is damaged in {proven.where[0]}; what is kept in it is found all the "
                        "same.")
    for path in sorted(crate.glob("backups/*/*.kept")):
        watch.check()
        try:
            manifest = manifest_at(path)
        except CrateError as error:
            told.append(str(error))
            continue
        missing = [number for number, name in enumerate(manifest.names) if name.tobytes() not in good]
        if missing:
            told.append(_not_what_was_kept(manifest, missing))
    return told


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
        more = f" and {len(files) - NAMED} more" if len(files) > NAMED else ""
        told.append(f"{counted(len(files), 'file')} ({', '.join(files[:NAMED])}{more})")
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
