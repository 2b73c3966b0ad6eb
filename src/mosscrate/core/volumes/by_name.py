"""The names of a folder, found whatever the case of their letters; several may be alike, as other systems make them."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from typing import Generic, Protocol, TypeVar

from mosscrate.core.errors import FitError


class Named(Protocol):
    """Something with a name."""

    name: str


T = TypeVar("T", bound=Named)


class ByName(Generic[T]):
    """Items by folded name. None is ever dropped because another one is called alike."""

    def __init__(self, fold: Callable[[str], str]) -> None:
        self._fold = fold
        self._alike: dict[str, list[T]] = {}

    def __iter__(self) -> Iterator[T]:
        for group in self._alike.values():
            yield from group

    def __contains__(self, name: str) -> bool:
        return self._fold(name) in self._alike

    def put(self, item: T) -> None:
        """One more."""
        self._alike.setdefault(self._fold(item.name), []).append(item)

    def drop(self, item: T) -> None:
        """One fewer."""
        key = self._fold(item.name)
        self._alike[key] = [each for each in self._alike[key] if each is not item]
        if not self._alike[key]:
            del self._alike[key]

    def find(self, name: str) -> T | None:
        """The one that is meant: of several that are alike the one with just these letters. Raises FitError."""
        group = self._alike.get(self._fold(name), [])
        if len(group) < 2:
            return group[0] if group else None
        same = [item for item in group if item.name == name]
        if len(same) == 1:
            return same[0]
        listed = ", ".join(f"“{item.name}”" for item in group)
        raise FitError(f"“{name}” may be any of {listed}: this file system takes these names for the same. Nothing was "
                       "changed.")

    def others(self, name: str, item: T) -> bool:
        """Whether another one is called alike."""
        return any(each is not item for each in self._alike.get(self._fold(name), []))

    def is_alone(self, item: T) -> bool:
        """Whether no other one is called alike."""
        return len(self._alike.get(self._fold(item.name), [])) < 2
