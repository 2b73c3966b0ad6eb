"""Files that belong to another partition of the card than the one that is filled: a boot file, under its own name."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from mosscrate.core.blocks import Blocks
from mosscrate.core.contents.layout import Layout
from mosscrate.core.contents.roles import Role
from mosscrate.core.contents.survey import open_partition
from mosscrate.core.fill.placed import Act, Cause, Placed, Question
from mosscrate.core.sheet.step import Existing
from mosscrate.core.sheet.steps import AnyStep, PutFiles
from mosscrate.core.volumes import Kind

PUT, LEAVE = "put it there", "leave it out"
KEY = "boot file "                       # in front of its name, in the key of a question about it


@dataclass(frozen=True)
class Elsewhere:
    """What is asked of such files, and the steps for those that are put; the old ones stay under dated names."""

    questions: tuple[Question, ...] = ()
    steps: tuple[AnyStep, ...] = ()


def elsewhere(blocks: Blocks, layout: Layout, partition: int, placed: Sequence[Placed],
              answers: dict[str, str]) -> Elsewhere:
    """Files of which nothing tells what they are for, but whose name a firmware partition has, exactly once.

    Where nothing else is brought in they are put there unless it is said otherwise.
    """
    unknown = [each for each in placed if each.act == Act.LEAVE and each.cause == Cause.UNKNOWN
               and each.origin.home is None]
    if not unknown:
        return Elsewhere()
    homes = {each: found[0] for each in unknown if len(found := _named(blocks, layout, partition, each)) == 1}
    is_all = len(homes) == len(placed)
    questions, steps = list[Question](), list[AnyStep]()
    for each, (index, name, path) in homes.items():
        key, usual = f"{KEY}{each.file.path.name}", (PUT, LEAVE) if is_all else (LEAVE, PUT)
        questions.append(Question(key, f"“{each.file.path.name}” is on {name} of this card, at {path}. The old one "
                                  "would stay under a dated name.", usual, 7500.0, 1))
        if answers.get(key, usual[0]) == PUT:
            steps.append(PutFiles(index, (each.origin.said,), existing=Existing.KEEP_BOTH, places=(path,)))
    return Elsewhere(tuple(questions), tuple(steps))


def _named(blocks: Blocks, layout: Layout, partition: int, placed: Placed) -> list[tuple[int, str, str]]:
    """(number, name, path) of files of that name on firmware partitions."""
    name, found = placed.file.path.name.casefold(), list[tuple[int, str, str]]()
    for look in layout.partitions:
        if look.index == partition or look.role != Role.FIRMWARE or look.volume is None or look.volume.used is None:
            continue
        found += [(look.index, look.name, entry.path) for entry in open_partition(blocks, look.index).tree().entries
                  if entry.kind == Kind.FILE and entry.name.casefold() == name]
    return found
