"""The card that is filled: what is on it, and what is going to be."""

from __future__ import annotations

from collections import defaultdict
from dataclasses import dataclass, field

from mosscrate.core.fill.bringing import Brought
from mosscrate.core.volumes import Entry, Facts


@dataclass
class Ground:
    """The card that is filled: what is on it, and what is going to be.

    Attributes:
        there: by folded path.
        taken: folded places that something is going to have, with it.
        names: folded folder → lower-case names that are going to stand there.
        used: folded folder → bytes of its entries.
    """

    facts: Facts
    there: dict[str, Entry]
    taken: dict[str, Brought] = field(default_factory=dict)
    names: defaultdict[str, set[str]] = field(default_factory=lambda: defaultdict(set))
    used: defaultdict[str, int] = field(default_factory=lambda: defaultdict(int))

    def __post_init__(self) -> None:
        for path in self.there:
            folder, _, name = path.rpartition("/")
            self.used[folder] += self.facts.entry_bytes(name)

    def is_full(self, path: str) -> bool:
        """Whether a new name has no room in its folder, however much is free."""
        most = self.facts.largest_folder
        if most is None:
            return False
        folder, _, name = path.rpartition("/")
        return self.used[self.facts.folded(folder)] + self.facts.entry_bytes(name) > most

    def take(self, path: str, file: Brought) -> None:
        """Note a place as taken."""
        folded, name = self.facts.folded(path), path.rpartition("/")[2]
        folder = folded.rpartition("/")[0]
        self.taken[folded] = file
        self.names[folder].add(name.lower())
        if folded not in self.there:
            self.used[folder] += self.facts.entry_bytes(name)
