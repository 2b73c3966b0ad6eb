"""plans, identify, fill: what a card's firmware expects, what files are, and what goes where."""

from __future__ import annotations

from pathlib import Path

import click

from mosscrate.cli.outcome import run_sheet
from mosscrate.cli.progress import watching
from mosscrate.cli.speaking import FILE, json_option, show_json
from mosscrate.core.errors import PlanError
from mosscrate.core.fill.bringing import bring
from mosscrate.core.fill.lists import lists_at
from mosscrate.core.fill.pictures.gallery import Gallery
from mosscrate.core.fill.plans import FolderPlan, read_plan, save_plan
from mosscrate.core.fill.said import remember, said_of
from mosscrate.core.fill.systems import systems as all_systems
from mosscrate.core.sheet.bench import Bench
from mosscrate.core.sheet.planning.choosing import (
    choose_plan,
    home_of,
    learn_from,
    nearest,
    plans_at,
    wrong_plans,
)
from mosscrate.core.sheet.planning.filling import Filling, Sources, lay_over, regroup_under
from mosscrate.core.sheet.planning.filling import fill as fill_card
from mosscrate.core.sheet.planning.picturing import fetch_missing, scale_waiting
from mosscrate.core.sheet.sheet import save_sheet
from mosscrate.core.sizes import binary, counted
from mosscrate.core.watch import Watch

PLACE = click.Path(exists=True, path_type=Path)


@click.group(invoke_without_command=True)
@json_option
@click.pass_context
def plans(context: click.Context, as_json: bool) -> None:
    """Folder plans: what cards expect where. A PLAN is said by its id, or by its file."""
    if context.invoked_subcommand is not None:
        return
    found = plans_at(_own(context.obj))
    if as_json:
        show_json([{"id": plan.id, "name": plan.name, "about": plan.about, "systems": sorted(plan.systems)}
                   for plan in found.values()])
        return
    for plan in found.values():
        click.echo(f"{plan.id:26} {plan.name}: {counted(len(plan.systems), 'system')}. {plan.about}")
    for wrong in wrong_plans(_own(context.obj)):
        click.echo(f"  ! {wrong}", err=True)


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
    near = nearest(learnt, plans_at(_own(bench)))
    if save:
        save_plan(learnt.plan, _own(bench) / f"{save}.toml")
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
        click.echo(f"{line.folder:32} {said}")
    click.echo(f"Nearest plan: {near.id}, {near.name}.")


@plans.command()
@click.argument("file", type=FILE)
@click.pass_obj
def check(bench: Bench, file: Path) -> None:
    """Whether a plan in a FILE of your own can be used."""
    plan = read_plan(file)
    click.echo(f"{file.name} can be used: {plan.name}, {counted(len(plan.systems), 'system')}.")


@plans.command("systems")
@json_option
def systems_(as_json: bool) -> None:
    """The systems by their short codes."""
    known = all_systems().by_code
    if as_json:
        show_json({code: {"about": system.about, "endings": system.endings} for code, system in known.items()})
        return
    for code, system in known.items():
        click.echo(f"{code:12} {system.about}")


@plans.command()
@click.argument("card")
@click.argument("plan")
@click.option("--partition", "-p", type=int, help="Of the card; the one with the most free room when left out.")
@click.option("--from", "by", help="Plan by which it is laid out now; what the card teaches when left out.")
@click.option("--run", "is_run", is_flag=True, help="Do it; without this it is only shown.")
@click.option("--tag", default="", help="The four-character tag of the card, as `slots` shows it.")
@json_option
@click.pass_obj
def move(bench: Bench, card: str, plan: str, partition: int | None, by: str | None, is_run: bool, tag: str,
         as_json: bool) -> None:
    """Lay the games of a CARD out by another PLAN, with saves and pictures, by renaming alone."""
    medium = bench.shelf.find(card)
    home = home_of(medium) if partition is None else partition
    found = regroup_under(medium, _plan(bench, plan), partition=home, now=_plan(bench, by) if by else None,
                          plans=_own(bench), said=said_of(bench.state, medium.key))
    if is_run and found.sheet:
        run_sheet(bench, found.sheet, tag, as_json=as_json)
        return
    if as_json:
        show_json({"moves": found.found.moves, "homeless": found.found.homeless, "met": found.found.met})
        return
    for path, place in found.found.moves.items():
        click.echo(f"{path} → {place}")
    click.echo(f"{counted(len(found.found.moves), 'file')} would get another place.")
    for folder in found.unsure:
        click.echo(f"  ? It is not known whose “{folder}” is; it stays. “plans learn --answer …” says so.")
    for code in found.found.homeless:
        click.echo(f"  ? {code} has no folder in that plan; its files stay.")
    if found.found.met:
        met = found.found.met
        click.echo(f"  ? {counted(len(met), 'file')} would meet another one and stay, first {met[0]}.")


LISTS = click.option("--list", "listed", multiple=True, type=FILE, help="A list of checksums, beside those in your own "
                     "folder of lists.")


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
        click.echo(f"{each.system or '-':10} {each.role:12} {each.path.name}  ({each.reason})")


@click.command()
@click.argument("card")
@click.argument("places", nargs=-1, type=PLACE)
@click.option("--from", "source", help="Another card, a backup or an image whose files are brought in too.")
@click.option("--pictures-from", "server", default="", metavar="ADDRESS",
              help="A picture server that is asked for games without one; their names leave this computer.")
@LISTS
@click.option("--partition", "-p", type=int, help="Of the card; the one with the most free room when left out.")
@click.option("--plan", "wanted", help="Id or file of a plan; what the card teaches when left out.")
@click.option("--answer", "answers", multiple=True, metavar="KEY=WORD", help="To a question, by its key.")
@click.option("--files", is_flag=True, help="Name every file with its place and the reason.")
@click.option("--out", type=FILE, help="Save the sheet here.")
@click.option("--run", "is_run", is_flag=True, help="Do it; without this it is only shown.")
@click.option("--tag", default="", help="The four-character tag of the card, as `slots` shows it.")
@json_option
@click.pass_obj
def fill(bench: Bench, card: str, places: tuple[Path, ...], source: str | None, server: str,
         listed: tuple[Path, ...], partition: int | None, wanted: str | None, answers: tuple[str, ...], files: bool,
         out: Path | None, is_run: bool, tag: str, as_json: bool) -> None:
    """Bring what is in PLACES to where a CARD wants it: what goes where, what needs a word, what does not fit."""
    if not places and not source and not server:
        raise click.UsageError("Say what is brought in: folders, files and archives, or a card with --from.")
    medium, other = bench.shelf.find(card), bench.shelf.find(source) if source else None
    home, told = home_of(medium) if partition is None else partition, _answers(answers)
    choice = _plan(bench, wanted) if wanted else choose_plan(
        medium, home, plans_at(_own(bench)), bench.state, answers=told, like=other)
    gallery, lists = Gallery(bench.state / "pictures"), lists_at(bench.state / "lists", listed)

    def sort(watch: Watch) -> Filling:
        return fill_card(medium, Sources(places, other, server), choice, watch, partition=home, answers=told,
                         lists=lists, gallery=gallery, bench=bench)

    with watching() as watch:
        found = sort(watch)
        if server and found.sorted.bare:
            click.echo(fetch_missing(found, server, gallery, watch), err=True)
            found = sort(watch)
        if found.sorted.waiting:
            click.echo(scale_waiting(found, gallery, watch), err=True)
            found = sort(watch)
    _tell(bench, found, files=files, out=out, is_run=is_run, tag=tag, as_json=as_json)


@click.command("lay-over")
@click.argument("card")
@click.argument("places", nargs=-1, required=True, type=PLACE)
@click.option("--partition", "-p", type=int, help="Of the card; the one with the most free room when left out.")
@click.option("--answer", "answers", multiple=True, metavar="KEY=WORD", help="To a question, by its key.")
@click.option("--files", is_flag=True, help="Name every file with its place and the reason.")
@click.option("--out", type=FILE, help="Save the sheet here.")
@click.option("--run", "is_run", is_flag=True, help="Do it; without this it is only shown.")
@click.option("--tag", default="", help="The four-character tag of the card, as `slots` shows it.")
@json_option
@click.pass_obj
def lay_over_(bench: Bench, card: str, places: tuple[Path, ...], partition: int | None, answers: tuple[str, ...],
              files: bool, out: Path | None, is_run: bool, tag: str, as_json: bool) -> None:
    """Lay folders and archives over a CARD as they are: what they add, replace, and what is there."""
    medium = bench.shelf.find(card)
    with watching() as watch:
        found = lay_over(medium, Sources(places), watch, answers=_answers(answers),
                         partition=home_of(medium) if partition is None else partition)
    _tell(bench, found, files=files, out=out, is_run=is_run, tag=tag, as_json=as_json)


def _answers(answers: tuple[str, ...]) -> dict[str, str]:
    return dict(answer.rpartition("=")[::2] for answer in answers)


def _tell(bench: Bench, found: Filling, *, files: bool, out: Path | None, is_run: bool, tag: str,
          as_json: bool) -> None:
    """What would be done; then, where it is asked for, do it."""
    if out and found.sheet:
        save_sheet(found.sheet, out)
    if as_json and not is_run:
        show_json({"plan": found.plan.id, "need": found.sorted.need, "lost": found.sorted.lost,
                   "free": found.sorted.free,
                   "files": [{"path": str(p.file.path), "to": p.to, "act": p.act, "why": p.why, "was": p.was}
                             for p in found.sorted.placed],
                   "questions": [{"key": q.key, "sentence": q.sentence, "answers": q.answers}
                                 for q in found.questions]})
        return
    if not as_json:
        click.echo(f"{found.plan.name}:")
        for flow in found.sorted.flows():
            where = flow.folder or "nowhere"
            click.echo(f"  {flow.group} → {where}: {counted(flow.files, 'file')}, {binary(flow.size)}, {flow.act}")
        for each in found.sorted.placed if files else ():
            click.echo(f"    {each.file.path.name} → {each.to or '-'}: {each.act}, {each.why}")
        click.echo(f"{binary(found.sorted.need)} of {binary(found.sorted.free)} that are free, "
                   f"{binary(found.sorted.lost)} of it lost to clusters.")
        for question in found.questions:
            click.echo(f"  ? {question.sentence} [{'] ['.join(question.answers)}]  --answer “{question.key}=…”")
    if is_run and found.sheet:
        run_sheet(bench, found.sheet, tag, as_json=as_json)
    elif is_run:
        click.echo("Nothing is to be written." if found.sorted.fits else "It does not fit; nothing was written.")


def _own(bench: Bench) -> Path:
    return bench.state / "plans"


def _plan(bench: Bench, text: str) -> FolderPlan:
    known = plans_at(_own(bench))
    if text in known:
        return known[text]
    if Path(text).is_file():
        return read_plan(Path(text))
    raise PlanError(f"There is no plan “{text}”; there are {', '.join(known)}. Or say the file of one.")


COMMANDS: dict[str, click.Command] = {"plans": plans, "identify": identify, "fill": fill, "lay-over": lay_over_}
