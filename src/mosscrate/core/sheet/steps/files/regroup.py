"""Move or rename many files of a volume at once; nothing is copied."""

from __future__ import annotations

from typing import Annotated, ClassVar

from mosscrate.core.contents.naming import folders_above
from mosscrate.core.errors import FitError
from mosscrate.core.sheet.asking import Form, asked
from mosscrate.core.sheet.decision import Decision
from mosscrate.core.sheet.sights import Sight
from mosscrate.core.sheet.steps.files.editing import EditsNames
from mosscrate.core.sheet.steps.shared.filing import now
from mosscrate.core.sizes import counted
from mosscrate.core.volumes import Editor, Kind

BESIDE = ".moss-{}"                      # behind a name, while files change places in a circle


class RegroupFiles(EditsNames, tag="regroup", frozen=True):
    """See above. A place that another of the files leaves counts as free; folders on the way are made."""

    paths: Annotated[tuple[str, ...], asked("The files.", Form.PLACE, is_first=True)]
    places: Annotated[tuple[str, ...], asked("Where each of them goes, in their order.", Form.PLACE, flag="--place")]
    emptied: Annotated[tuple[str, ...], asked("Folders that hold nothing then, and go.", Form.PLACE,
                                              flag="--emptied")] = ()

    command: ClassVar[str] = "regroup"

    def decide(self, card: Sight, source: Sight | None = None) -> Decision:
        """See Step. Only a folder that will be empty goes."""
        volume = card.files(self.partition) if self.emptied else None
        within = tuple(f"{folder}/" for folder in self.emptied)
        stay = next((entry.path for entry in volume.tree().entries if entry.path.startswith(within)
                     and entry.kind != Kind.FOLDER and entry.path not in self.paths), "") if volume else ""
        if stay:
            raise FitError(f"A folder with “{stay}” would not be empty then. Nothing was changed.")
        return super().decide(card, source)

    def edit(self, editor: Editor) -> None:
        """See EditsNames."""
        if not len(self.paths) == len(self.places) == len(set(self.places)) or len(set(self.paths)) != len(self.paths):
            raise FitError("Each file needs a place of its own.")
        for folder in sorted(folders_above(self.places)):
            if not editor.has(folder):
                editor.add_folder(folder, now())
        for path, place in in_turn(dict(zip(self.paths, self.places, strict=True))):
            editor.rename(path, place)
        for folder in self.emptied:
            editor.remove(folder)

    def sentence(self, name: str) -> str:
        """See EditsNames."""
        return f"Give {counted(len(self.paths), 'file')} on {name} other places{self._gone('remove', '')}"

    def said(self, name: str) -> str:
        """See EditsNames."""
        return f"{counted(len(self.paths), 'file')} on {name} have other places now{self._gone('', ' gone')}."

    def _gone(self, before: str, behind: str) -> str:
        number = counted(len(self.emptied), "emptied folder")
        return f", {before}{' ' if before else ''}{number}{behind}" if self.emptied else ""


def in_turn(wanted: dict[str, str]) -> list[tuple[str, str]]:
    """Renames in an order in which every place is free: chains from their end, circles over one name beside."""
    left = {path: place for path, place in wanted.items() if path != place}
    found, number = list[tuple[str, str]](), 0
    while left:
        path = next(iter(left))
        chain, seen = [path], {path}
        while left[chain[-1]] in left and left[chain[-1]] not in seen:
            chain.append(left[chain[-1]])
            seen.add(chain[-1])
        if left[chain[-1]] in seen:                           # a circle: its last one waits beside
            aside = chain[-1] + BESIDE.format(number)
            number += 1
            found.append((chain[-1], aside))
            found += [(each, left.pop(each)) for each in reversed(chain[:-1])]
            found.append((aside, left.pop(chain[-1])))
        else:
            found += [(each, left.pop(each)) for each in reversed(chain)]
    return found
