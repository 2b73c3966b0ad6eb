"""A person's own folder plans beside those that ship: which there are, copied, learnt, changed, removed."""

from __future__ import annotations

import re
from dataclasses import dataclass, replace
from importlib.resources import files
from pathlib import Path

import tomli_w

from mosscrate.core.durable import write_whole
from mosscrate.core.errors import PlanError
from mosscrate.core.fill.plans import FolderPlan, parse_plan, plan_as_told, shipped
from mosscrate.core.fill.systems import systems

FOLDER = "plans"                         # in the state
_UNFIT = re.compile(r"[^a-z0-9]+")
_NAME = re.compile(r'^name = "(?:[^"\\]|\\.)*"$', re.MULTILINE)


@dataclass(frozen=True)
class PlanFile:
    """A plan with its text; `path` is None for one that ships, `plan` where it cannot be used, for which `wrong` says
    why."""

    id: str
    text: str
    path: Path | None
    plan: FolderPlan | None
    wrong: str = ""

    @property
    def name(self) -> str:
        """As it is offered."""
        return self.plan.name if self.plan else self.id


@dataclass(frozen=True)
class Makes:
    """The folders that a plan makes for a system, "" for those that it has no place for."""

    code: str
    about: str
    folder: str
    opens: tuple[str, ...]
    saves: str
    states: str
    pictures: str


def plan_files(folder: Path) -> list[PlanFile]:
    """A person's own in the order of their files, then those that ship. Raises PlanError where one cannot be read."""
    own = [_read(path) for path in sorted(folder.glob("*.toml"))]
    taken = {each.id for each in own}
    there = files("mosscrate.core.fill") / "data" / "plans"
    return [*own, *(PlanFile(id, (there / f"{id}.toml").read_text("utf-8"), None, plan)
                    for id, plan in shipped().items() if id not in taken)]


def made_by(plan: FolderPlan) -> tuple[Makes, ...]:
    """What a plan makes, system by system, with a game called GAME for an example."""
    found = []
    for code, system in plan.systems.items():
        parts = (system.saves or plan.saves, system.states or plan.states, system.pictures or plan.pictures)
        ending = (plan.opens(code) or plan.packings(code) or ("bin",))[0]
        saves, states, pictures = ("" if part is None else plan.fill_in(part.place, code, f"GAME.{ending}", slot="1")
                                   for part in parts)
        about = systems().by_code[code].about if code in systems().by_code else ""
        found.append(Makes(code, about, plan.folder_of(code), (*plan.opens(code), *plan.packings(code)), saves, states,
                           pictures))
    return tuple(found)


def copy_plan(each: PlanFile, folder: Path) -> PlanFile:
    """One of a person's own with the same contents, to be changed. Raises PlanError."""
    name = f"{each.name}, changed"
    said = tomli_w.dumps({"name": name}).strip()
    text = _NAME.sub(lambda _: said, each.text, count=1) if _NAME.search(each.text) else f"{said}\n{each.text}"
    return _add(name, text, folder)


def add_learnt(plan: FolderPlan, name: str, folder: Path) -> PlanFile:
    """One of a person's own of what a card has taught. Raises PlanError where it has taught nothing."""
    if not plan.systems:
        raise PlanError(f"{name} teaches no plan: none of its folders is known for certain. Copy a plan that is near, "
                        "and change it.")
    return _add(f"as {name} has it", tomli_w.dumps(plan_as_told(replace(plan, name=f"as {name} has it"))), folder)


def change_plan(each: PlanFile, text: str) -> PlanFile:
    """Another text for one of a person's own. Raises PlanError where it could not be used; then the file stays."""
    if each.path is None:
        raise PlanError(f"“{each.name}” ships with the program. Copy it, and change the copy.")
    plan = parse_plan(text, each.path.name)
    _write(each.path, text)
    return replace(each, text=text, plan=plan, wrong="")


def remove_plan(each: PlanFile) -> None:
    """Raises PlanError."""
    if each.path is None:
        raise PlanError(f"“{each.name}” ships with the program; it stays.")
    try:
        each.path.unlink(missing_ok=True)
    except OSError as error:
        raise PlanError(f"{each.path} cannot be removed: {error.strerror}.") from error


def _add(name: str, text: str, folder: Path) -> PlanFile:
    stem = _UNFIT.sub("-", name.lower()).strip("-") or "plan"
    taken = {path.name.lower() for path in folder.glob("*")} | {f"{id}.toml" for id in shipped()}
    file = next(file for number in range(1, 10000) if (
        file := f"{stem}{f'-{number}' if number > 1 else ''}.toml") not in taken)
    plan = parse_plan(text, file)
    try:
        folder.mkdir(parents=True, exist_ok=True)
    except OSError as error:
        raise PlanError(f"{folder} cannot be made: {error.strerror}.") from error
    _write(folder / file, text)
    return PlanFile(plan.id, text, folder / file, plan)


def _write(path: Path, text: str) -> None:
    try:
        write_whole(path, text.encode())
    except OSError as error:
        raise PlanError(f"{path} cannot be written: {error.strerror}.") from error


def _read(path: Path) -> PlanFile:
    id = path.name.removesuffix(".toml")
    try:
        text = path.read_text("utf-8")
        return PlanFile(id, text, path, parse_plan(text, path.name))
    except PlanError as error:
        return PlanFile(id, text, path, None, str(error))
    except (OSError, UnicodeDecodeError) as error:
        return PlanFile(id, "", path, None, f"{path.name} cannot be read: {error}")
