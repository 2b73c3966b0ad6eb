"""plans, identify, fill: what a card's firmware expects, what files are, and what goes where."""

from __future__ import annotations

from dataclasses import asdict
from pathlib import Path

import click

from mosscrate.cli.outcome import run_sheet
from mosscrate.cli.progress import watching
from mosscrate.cli.speaking import FILE, answers_to, json_option, say, show_json
from mosscrate.core.errors import PlanError
from mosscrate.core.fill.bringing import bring
from mosscrate.core.fill.lists import lists_at
from mosscrate.core.fill.own_lists import FOLDER as FOLDER_OF_LISTS
from mosscrate.core.fill.own_lists import add_list, own_lists, remove_list
from mosscrate.core.fill.own_plans import FOLDER as FOLDER_OF_PLANS
from mosscrate.core.fill.own_plans import PlanFile, copy_plan, made_by, plan_files, remove_plan
from mosscrate.core.fill.plans import FolderPlan, read_plan, save_plan
from mosscrate.core.fill.said import remember, said_of
from mosscrate.core.fill.systems import systems as all_systems
from mosscrate.core.sheet.bench import Bench
from mosscrate.core.sheet.planning.choosing import (
    home_of,
    learn_from,
    nearest,
    plans_at,
    wrong_plans,
)
from mosscrate.core.sheet.planning.filling import regroup_under
from mosscrate.core.sheet.planning.wanting import wanted_on
from mosscrate.core.sizes import counted

PLACE = click.Path(exists=True, path_type=Path)


@click.group(invoke_without_command=True)
@json_option
@click.pass_context
def plans(context: click.Context, as_json: bool) -> None:
    """Folder plans: what cards expect where. A PLAN is said by its id, or by its file."""
    if context.invoked_subcommand is None:
        _list(context.obj, as_json=as_json)


@plans.command("list")
@json_option
@click.pass_obj
def list_(bench: Bench, as_json: bool) -> None:
    """Those that ship and your own, with what is wrong with a plan that cannot be used."""
    _list(bench, as_json=as_json)


def _list(bench: Bench, *, as_json: bool) -> None:
    found = plans_at(own_plans_of(bench))
    if as_json:
        show_json([{"id": plan.id, "name": plan.name, "about": plan.about, "systems": sorted(plan.systems)}
                   for plan in found.values()])
        return
    for plan in found.values():
        say(f"{plan.id:26} {plan.name}: {counted(len(plan.systems), 'system')}. {plan.about}")
    for wrong in wrong_plans(own_plans_of(bench)):
        say(f"  ! {wrong}", err=True)


@plans.command()
@click.argument("card")
@click.option("--partition", "-p", type=int, help="Its number; the one with the most free room when left out.")
@click.option("--answer", "answers", multiple=True, metavar="FOLDER=CODE",
              help="What a folder is; nothing behind = for none. It is noted for this card.")
@click.option("--save", help="Save it as your own plan under this id.")
@json_option
@click.pass_obj
def learn(bench: Bench, card: str, partition: int | None, answers: tuple[str, ...], save: str | None,
          as_json: bool) -> None:
    """What a CARD itself teaches: its folders with the evidence, what has to be asked, and the nearest plan."""
    medium = bench.shelf.find(card)
    if answers:
        remember(bench.state, medium.key, dict(answer.rpartition("=")[::2] for answer in answers))
    learnt = learn_from(medium, home_of(medium) if partition is None else partition,
                        said_of(bench.state, medium.key))
    near = nearest(learnt, plans_at(own_plans_of(bench)))
    if save:
        save_plan(learnt.plan, own_plans_of(bench) / f"{save}.toml")
    if as_json:
        show_json({"lines": [{"folder": line.folder, "system": line.system, "certain": line.is_certain,
                              "why_not": line.why_not, "guesses": [
                                  {"system": g.system, "weight": g.weight, "evidence": g.evidence}
                                  for g in line.guesses]} for line in learnt.lines], "nearest": near.id})
        return
    for line in learnt.lines:
        first = line.guesses[0]
        said = f"{first.system} ({', '.join(first.evidence)})" if line.is_certain else \
            f"? {' or '.join(g.system for g in line.guesses[:3])}: {line.why_not}"
        say(f"{line.folder:32} {said}")
    say(f"Nearest plan: {near.id}, {near.name}.")


@plans.command()
@click.argument("file", type=FILE)
@click.pass_obj
def check(bench: Bench, file: Path) -> None:
    """Whether a plan in a FILE of your own can be used."""
    plan = read_plan(file)
    say(f"{file.name} can be used: {plan.name}, {counted(len(plan.systems), 'system')}.")


@plans.command()
@click.argument("plan")
@json_option
@click.pass_obj
def show(bench: Bench, plan: str, as_json: bool) -> None:
    """The folders that a PLAN makes, system by system, and where its file lies."""
    each = _file_of(bench, plan)
    if each.plan is None:
        raise PlanError(each.wrong)
    made = made_by(each.plan)
    if as_json:
        show_json({"id": each.id, "name": each.name, "about": each.plan.about, "file": each.path and str(each.path),
                   "systems": [asdict(line) for line in made]})
        return
    say(f"{each.name}. {each.plan.about}")
    say(str(each.path) if each.path else "It ships with the program. “plans copy” makes one of your own of it.")
    for line in made:
        beside = [f"{what} {place}" for what, place in (("saves", line.saves), ("states", line.states),
                                                       ("pictures", line.pictures)) if place]
        say(f"{line.folder:32} {line.code:10} {' '.join(line.opens)}{'; ' if beside else ''}{', '.join(beside)}")


@plans.command("copy")
@click.argument("plan")
@click.pass_obj
def copy_(bench: Bench, plan: str) -> None:
    """Make a plan of your own of a PLAN, to be changed with any editor."""
    made = copy_plan(_file_of(bench, plan), own_plans_of(bench))
    say(f"{made.id} is in {made.path}. Change it there; “plans check” tells whether it can be used.")


@plans.command()
@click.argument("plan")
@click.pass_obj
def remove(bench: Bench, plan: str) -> None:
    """Remove a PLAN of your own."""
    remove_plan(_file_of(bench, plan))
    say(f"{plan} is removed. Cards that were filled by it stay as they are.")


@plans.command("systems")
@json_option
def systems_(as_json: bool) -> None:
    """The systems by their short codes."""
    known = all_systems().by_code
    if as_json:
        show_json({code: {"about": system.about, "endings": system.endings} for code, system in known.items()})
        return
    for code, system in known.items():
        say(f"{code:12} {system.about}")


@plans.command()
@click.argument("card")
@click.option("--partition", "-p", type=int, help="Of the card; the one with the most free room when left out.")
@click.option("--plan", required=True, help="Id or file of the plan.")
@json_option
@click.pass_obj
def wants(bench: Bench, card: str, partition: int | None, plan: str, as_json: bool) -> None:
    """Which system files a plan wants, and where each of them is: on the CARD, in the crate, or nowhere."""
    medium = bench.shelf.find(card)
    found = wanted_on(medium, home_of(medium) if partition is None else partition, plan_called(bench, plan), bench)
    if as_json:
        show_json([{"file": each.want.file, "systems": each.want.systems, "there": each.there, "other": each.other,
                    "gone": each.gone, "crate": each.held, "games": each.games} for each in found])
        return
    for each in found:
        say(each.sentence)
    if not found:
        say("This plan names no system files.")


@plans.command()
@click.argument("card")
@click.argument("plan")
@click.option("--partition", "-p", type=int, help="Of the card; the one with the most free room when left out.")
@click.option("--from", "by", help="Plan by which it is laid out now; what the card teaches when left out.")
@click.option("--answer", "answers", multiple=True, metavar="KEY=WORD", help="To a question, by its key.")
@click.option("--run", "is_run", is_flag=True, help="Do it; without this it is only shown.")
@click.option("--tag", default="", help="The four-character tag of the card, as `slots` shows it.")
@json_option
@click.pass_obj
def move(bench: Bench, card: str, plan: str, partition: int | None, by: str | None, answers: tuple[str, ...],
         is_run: bool, tag: str, as_json: bool) -> None:
    """Lay the games of a CARD out by another PLAN, with saves and pictures, by renaming alone."""
    medium = bench.shelf.find(card)
    home = home_of(medium) if partition is None else partition
    found = regroup_under(medium, plan_called(bench, plan), partition=home, now=plan_called(bench, by) if by else None,
                          plans=own_plans_of(bench), said=said_of(bench.state, medium.key),
                          answers=dict(answer.rpartition("=")[::2] for answer in answers))
    if is_run and found.sheet:
        run_sheet(bench, found.sheet, tag, as_json=as_json)
        return
    if as_json:
        show_json({"moves": found.found.moves, "homeless": found.found.homeless, "met": found.found.met,
                   "emptied": found.found.emptied, "questions": [
                       {"key": each.key, "sentence": each.sentence, "answers": each.answers}
                       for each in found.questions]})
        return
    for path, place in found.found.moves.items():
        say(f"{path} → {place}")
    say(f"{counted(len(found.found.moves), 'file')} would get another place, "
        f"{counted(len(found.found.emptied), 'emptied folder')} would go.")
    for folder in found.unsure:
        say(f"  ? It is not known whose “{folder}” is; it stays. “plans learn --answer …” says so.")
    for question in found.questions:
        say(answers_to(question))


LISTS = click.option("--list", "listed", multiple=True, type=FILE, help="A list of checksums, beside those in your own "
                     "folder of lists.")


@click.group(invoke_without_command=True)
@json_option
@click.pass_context
def lists(context: click.Context, as_json: bool) -> None:
    """Your own lists of checksums, and what each knows."""
    if context.invoked_subcommand is not None:
        return
    found = own_lists(context.obj.state / FOLDER_OF_LISTS)
    if as_json:
        show_json([{"name": each.name, "games": each.games, "systems": each.systems, "wrong": each.wrong}
                   for each in found])
        return
    for each in found:
        say(f"{each.name:32} {each.sentence}")
    if not found:
        say("There is no list yet. “lists add FILE” takes one over.")


@lists.command("add")
@click.argument("file", type=FILE)
@click.pass_obj
def add_list_(bench: Bench, file: Path) -> None:
    """Take a list in a FILE over: XML with games and their checksums, or TOML."""
    say(f"{file.name} knows {add_list(bench.state / FOLDER_OF_LISTS, file).sentence}.")


@lists.command("remove")
@click.argument("name")
@click.pass_obj
def remove_list_(bench: Bench, name: str) -> None:
    """Remove a list by its NAME."""
    remove_list(bench.state / FOLDER_OF_LISTS, name)
    say(f"{name} is removed.")


@click.command()
@click.argument("places", nargs=-1, required=True, type=PLACE)
@LISTS
@json_option
@click.pass_obj
def identify(bench: Bench, places: tuple[Path, ...], listed: tuple[Path, ...], as_json: bool) -> None:
    """What files are, by header, contents, ending and folder, with the reason. Folders and archives are opened."""
    with watching() as watch:
        found = bring(places, watch, lists_at(bench.state / "lists", listed))
    if as_json:
        show_json([{"path": str(each.path), "role": each.role, "system": each.system, "reason": each.reason,
                    "sure": each.sure, "saves": each.saves} for each in found])
        return
    for each in found:
        say(f"{each.system or '-':10} {each.role:12} {each.path.name}  ({each.reason})")


def own_plans_of(bench: Bench) -> Path:
    """Where a person's own plans lie."""
    return bench.state / FOLDER_OF_PLANS


def _file_of(bench: Bench, text: str) -> PlanFile:
    known = {each.id: each for each in plan_files(own_plans_of(bench))}
    if text not in known:
        raise PlanError(f"There is no plan “{text}”; there are {', '.join(known)}.")
    return known[text]


def plan_called(bench: Bench, text: str) -> FolderPlan:
    """A plan by its id or file. Raises PlanError."""
    known = plans_at(own_plans_of(bench))
    if text in known:
        return known[text]
    if Path(text).is_file():
        return read_plan(Path(text))
    raise PlanError(f"There is no plan “{text}”; there are {', '.join(known)}. Or say the file of one.")


COMMANDS: dict[str, click.Command] = {"plans": plans, "lists": lists, "identify": identify}
