"""A person's own lists of checksums: which there are, what each knows, one more, one less."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

from mosscrate.core.durable import write_whole
from mosscrate.core.errors import PlanError
from mosscrate.core.fill.lists import ENDINGS, Lists
from mosscrate.core.sizes import counted, listed

FOLDER = "lists"                         # in the state


@dataclass(frozen=True)
class OwnList:
    """One file; `wrong` is why it cannot be used, "" where it can."""

    name: str
    games: int = 0
    systems: tuple[str, ...] = ()
    wrong: str = ""

    @property
    def sentence(self) -> str:
        """What it knows."""
        return self.wrong or f"{counted(self.games, 'game')} of {listed(list(self.systems))}"


def own_lists(folder: Path) -> list[OwnList]:
    """All of them, in the order of their names."""
    return [_read(path) for path in sorted(folder.glob("*")) if path.suffix in ENDINGS]


def add_list(folder: Path, path: Path) -> OwnList:
    """Take a list over. Raises PlanError where it cannot be used, or where another one has its name."""
    found = _read(path)
    if path.suffix not in ENDINGS or found.wrong:
        raise PlanError(found.wrong or f"{path.name} is no list of checksums; they end with {listed(list(ENDINGS))}.")
    try:
        data, own = path.read_bytes(), folder / path.name
        folder.mkdir(parents=True, exist_ok=True)
        if own.exists() and own.read_bytes() != data:
            raise PlanError(f"There is a list {path.name} with other contents already. Remove it first, or give this "
                            "one another name.")
        write_whole(own, data)
    except OSError as error:
        raise PlanError(f"{path.name} cannot be taken over: {error.strerror}.") from error
    return found


def remove_list(folder: Path, name: str) -> None:
    """Raises PlanError where there is none of that name."""
    known = [each.name for each in own_lists(folder)]
    if name not in known:
        raise PlanError(f"There is no list {name}; there {'is' if len(known) == 1 else 'are'} "
                        f"{listed(known) if known else 'none'}.")
    try:
        (folder / name).unlink()
    except OSError as error:
        raise PlanError(f"{name} cannot be removed: {error.strerror}.") from error


def _read(path: Path) -> OwnList:
    try:
        lists = Lists([path])
    except PlanError as error:
        return OwnList(path.name, wrong=str(error))
    return OwnList(path.name, lists.games, lists.systems)
