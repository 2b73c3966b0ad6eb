"""System files that a plan wants and some backup holds, under whatever name: found by size, then by checksum."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import PurePosixPath

from mosscrate.core.contents.survey import open_partition
from mosscrate.core.crate.library import KeptFile, of_sizes
from mosscrate.core.errors import MossError
from mosscrate.core.fill.bringing import Brought, Role
from mosscrate.core.fill.origins import LocalFile
from mosscrate.core.fill.plans import Want
from mosscrate.core.fill.wanted import is_it
from mosscrate.core.sheet.bench import Bench
from mosscrate.core.sheet.planning.fetching import fetch

LARGEST = 64 << 20                       # bytes of a system file that is fetched
GROUP = "from the crate"


@dataclass(frozen=True)
class Held:
    """A wanted file that a backup holds: a sentence about it, and the file, which lies in the state folder now."""

    sentence: str
    brought: Brought


def held_for(wants: Sequence[Want], bench: Bench) -> dict[str, Held]:
    """Wanted files by name that are in the crate; those without size and checksum are not looked for."""
    known = [want for want in wants if want.size and want.digests and want.size <= LARGEST]
    found = dict[str, Held]()
    for file in of_sizes(bench.crate, sorted({want.size for want in known})):
        for want in known:
            if want.size == file.size and want.file not in found and (held := _fetched(want, file, bench)):
                found[want.file] = held
    return found


def _fetched(want: Want, file: KeptFile, bench: Bench) -> Held | None:
    try:
        with bench.shelf.medium_at(file.backup.path).open() as blocks:
            volume = open_partition(blocks, file.partition)
            entry = volume.tree().find(file.path)
            data = b"".join(volume.read_file(entry)) if entry is not None and entry.size == file.size else b""
        if not is_it(want, lambda: iter((data,))):
            return None
        path = fetch((data,), file.modified or 0, bench.state)
    except (OSError, MossError):
        return None                                          # a backup that cannot be read holds nothing for us
    card = file.path.rpartition("/")[2]
    return Held(f"The crate has it as “{card}”, compared.",
                Brought(PurePosixPath(GROUP, want.file), LocalFile(path), GROUP, len(data), file.modified or 0,
                        Role.SYSTEM, want.systems[0] if want.systems else "", "the crate has it", 3))
