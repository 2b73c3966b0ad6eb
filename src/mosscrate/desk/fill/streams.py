"""Groups on the left, folders on the right, and the streams between them, with their places in pixels. No Qt."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Callable, Sequence
from dataclasses import dataclass

from mosscrate.core.fill.placed import Act, Flow

BOX, GAP, LEAST = 38.0, 8.0, 2.0
TIGHTEST = 0.75                          # of a box, where there are many
NOWHERE = "left out"


@dataclass(frozen=True)
class Box:
    """A group that is brought in, or a folder on the card; `is_out` for what is left out."""

    name: str
    top: float
    files: int
    size: int
    is_on_card: bool = False
    is_out: bool = False


@dataclass(frozen=True)
class Stream:
    """What flows from a group into a folder: edges on both sides in pixels."""

    group: str
    folder: str
    act: Act
    left: tuple[float, float]
    right: tuple[float, float]
    files: int
    size: int


@dataclass(frozen=True)
class Streams:
    """Everything with its place, and how tall it is."""

    groups: tuple[Box, ...]
    folders: tuple[Box, ...]
    streams: tuple[Stream, ...]
    height: float


def lay_out(flows: Sequence[Flow], height: float) -> Streams:
    """Largest first on the left; folders beside their largest group; boxes closer together where there are many."""
    groups, folders = _sums(flows, lambda flow: flow.group), _sums(flows, _target)
    order = [name for name, _ in sorted(groups.items(), key=lambda each: -each[1][1])]
    first_group = {name: min(order.index(f.group) for f in flows if _target(f) == name) for name in folders}
    right = sorted(folders, key=lambda name: (name == NOWHERE, first_group[name], name))
    step = BOX + GAP
    many = max(len(order), len(right), 1)
    if many * step > height:
        step = max(BOX * TIGHTEST, height / many)
    box = min(BOX, step - 3)
    left_at, right_at = ({name: k * step for k, name in enumerate(names)} for names in (order, right))
    most = max([1, *(size for _, size in groups.values()), *(size for _, size in folders.values())])
    used = defaultdict[tuple[str, str], float](float)
    streams = []
    for flow in sorted(flows, key=lambda f: (order.index(f.group), right.index(_target(f)))):
        thick = max(LEAST, (box - 8) * flow.size / most)
        edges = []
        for side, at, name in (("left", left_at, flow.group), ("right", right_at, _target(flow))):
            begin = at[name] + 4 + min(used[side, name], box - 8 - LEAST)
            used[side, name] += thick
            edges.append((begin, min(begin + thick, at[name] + box - 4)))
        streams.append(Stream(flow.group, _target(flow), flow.act, edges[0], edges[1], flow.files, flow.size))
    there = tuple(Box(name, right_at[name], *folders[name], is_on_card=True, is_out=name == NOWHERE) for name in right)
    return Streams(tuple(Box(name, left_at[name], *groups[name]) for name in order), there, tuple(streams), many * step)


def _target(flow: Flow) -> str:
    return NOWHERE if flow.act == Act.LEAVE else flow.folder or "/"


def _sums(flows: Sequence[Flow], name_of: Callable[[Flow], str]) -> dict[str, tuple[int, int]]:
    found: dict[str, tuple[int, int]] = {}
    for flow in flows:
        files, size = found.get(name_of(flow), (0, 0))
        found[name_of(flow)] = (files + flow.files, size + flow.size)
    return found
