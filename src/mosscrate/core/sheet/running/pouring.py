"""A folder filled as it was sorted: renames first, then what is copied; what was there stays under dated names."""

from __future__ import annotations

import posixpath
from dataclasses import replace
from datetime import datetime

from mosscrate.core.contents.comparing import are_equal
from mosscrate.core.errors import FitError, MossError
from mosscrate.core.fill.placed import Act, Placed, Sorted, in_order
from mosscrate.core.fill.tree_home import TreeHome, read_file
from mosscrate.core.sheet.steps.files.regroup import in_turn
from mosscrate.core.sizes import binary, counted
from mosscrate.core.volumes import Entry, Kind
from mosscrate.core.watch import Watch


def pour(home: TreeHome, found: Sorted, watch: Watch) -> str:
    """Do it; says what was done. Raises MediumError, FitError, Stopped: what was written until then is whole."""
    if not found.fits:
        raise FitError(f"{binary(found.need - found.free)} do not fit into {home.name}. Nothing was written.")
    home.begin()
    there = {home.facts.folded(entry.path): entry for entry in home.entries() if entry.kind == Kind.FILE}
    for path, place in in_turn(found.renamed):
        watch.check()
        home.rename(path, place)
    gone = {place: there.pop(home.facts.folded(path)) for path, place in found.renamed.items()}
    there |= {home.facts.folded(place): replace(entry, path=place) for place, entry in gone.items()}
    order = sorted((*found.coming, *found.seeming), key=in_order)
    total, done, written = sum(each.size for each in order), 0, 0
    for number, placed in enumerate(order):
        watch.progress(f"Filling {home.name}", done, total)
        try:
            written += _poured(home, placed, there)
        except MossError as error:
            raise type(error)(f"{error} {counted(number, 'file')} came before it and are whole.") from error
        done += placed.size
    moved = f" {counted(len(found.renamed), 'file')} renamed." if found.renamed else ""
    return f"{counted(written, 'file')} put into {home.name}, {binary(total)}.{moved}"


def _poured(home: TreeHome, placed: Placed, there: dict[str, Entry]) -> bool:
    """One file; whether it was written."""
    old = there.get(home.facts.folded(placed.to))
    if old is not None and placed.act in (Act.SEEMS, Act.COPY):
        if old.size == placed.size and are_equal(placed.origin.read(), read_file(home, old)):
            return False
        if placed.act == Act.COPY:
            raise FitError(f"“{placed.to}” has come to {home.name} meanwhile, with other contents. It is untouched; "
                           "look again.")
    aside = None if old is None else (old.path, _dated(placed.to, there, home))
    home.put(placed.to, placed.origin.read(), placed.file.modified, old=aside)
    return True


def _dated(path: str, there: dict[str, Entry], home: TreeHome) -> str:
    stem, ending = posixpath.splitext(path)
    for number in range(1, 1000):
        wanted = f"{stem} {datetime.now():%Y-%m-%d}{f' {number}' if number > 1 else ''}{ending}"
        if home.facts.folded(wanted) not in there:
            there[home.facts.folded(wanted)] = there[home.facts.folded(path)]
            return wanted
    raise FitError(f"No name is left for the old “{path}”.")
