"""How much room files take on a volume of another kind: never less than they will, seldom much more."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable

from mosscrate.core.contents.transfer import SKIPPED
from mosscrate.core.volumes import Entry, Facts, Kind


def room_for(entries: Iterable[Entry], facts: Facts, block: int) -> int:
    """Bytes that a tree takes in allocation units of `block` bytes, its folders too."""
    blocks, folders = 0, Counter[str]()
    for entry in entries:
        if entry.path.split("/")[0] in SKIPPED:
            continue
        parent, _, name = entry.path.rpartition("/")
        folders[parent] += facts.entry_bytes(name)
        if entry.kind == Kind.FOLDER:
            folders[entry.path] += 2 * facts.entry_bytes("..")
        blocks += (-(-entry.size // block) if entry.kind == Kind.FILE else 0) + facts.extra_blocks(entry.size, block)
    return (blocks + sum(-(-size // block) for size in folders.values())) * block
