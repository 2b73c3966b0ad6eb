"""fill, lay-over: what is brought in to where a card, a folder or a device wants it."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager, nullcontext
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import click

from mosscrate.cli.devices import KEY, TRUST, connected
from mosscrate.cli.filling import LISTS, PLACE, own_plans_of, plan_called
from mosscrate.cli.outcome import run_sheet
from mosscrate.cli.progress import watching
from mosscrate.cli.speaking import FILE, answers_to, json_option, say, show_json
from mosscrate.core.devices.filled import DeviceHome
from mosscrate.core.errors import FitError
from mosscrate.core.fill.asking import ROOM, WHAT_FITS, may_be_asked
from mosscrate.core.fill.bringing import GAMES_OF
from mosscrate.core.fill.lists import Lists, lists_at
from mosscrate.core.fill.pictures.gallery import Gallery
from mosscrate.core.fill.placed import Question, Sorted, some_of
from mosscrate.core.fill.plans import FolderPlan
from mosscrate.core.fill.said import plan_of, remember_plan
from mosscrate.core.fill.systems import systems
from mosscrate.core.fill.tree_home import FolderHome, TreeHome
from mosscrate.core.sheet.bench import Bench
from mosscrate.core.sheet.planning.choosing import ASKED, Choice, choose_for_tree, choose_plan, home_of, plans_at
from mosscrate.core.sheet.planning.filling import Filling, Sources, TreeFilling, fill_tree, lay_over
from mosscrate.core.sheet.planning.filling import fill as fill_card
from mosscrate.core.sheet.planning.picturing import fetch_missing, scale_waiting
from mosscrate.core.sheet.running.pouring import pour
from mosscrate.core.sheet.sheet import save_sheet
from mosscrate.core.sizes import binary, counted, listed
from mosscrate.core.watch import Watch


@dataclass(frozen=True)
class Words:
    """What was typed about a filling: what comes, the plan, answers, and what is to be done with the outcome."""

    sources: Sources
    lists: Lists
    wanted: str | None
    answers: dict[str, str]
    partition: int | None
    files: bool
    out: Path | None
    is_run: bool
    tag: str
    as_json: bool


def _outcome(command: Callable[..., None]) -> Any:  # noqa: ANN401 - a command
    for option in (click.option("--partition", "-p", type=int,
                                help="Of the card; the one with the most free room when left out."),
                   click.option("--answer", "answers", multiple=True, metavar="KEY=WORD",
                                help="To a question, by its key."),
                   click.option("--files", is_flag=True, help="Name every file with its place and the reason."),
                   click.option("--out", type=FILE, help="Save the sheet here."),
                   click.option("--run", "is_run", is_flag=True, help="Do it; without this it is only shown."),
                   click.option("--tag", default="", help="The four-character tag of the card, as `slots` shows it."),
                   json_option):
        command = option(command)
    return click.pass_obj(command)


class _Worded(click.Command):
    """`fill plan CARD …` and `fill show CARD …` are said too; the second one names every file."""

    def parse_args(self, ctx: click.Context, args: list[str]) -> list[str]:
        """Click: take the word off."""
        if len(args) > 1 and args[0] in ("plan", "show"):
            args = [*args[1:], *(["--files"] if args[0] == "show" else [])]
        return super().parse_args(ctx, args)


@click.command(cls=_Worded)
@click.argument("card")
@click.argument("places", nargs=-1, type=PLACE)
@click.option("--from", "source", help="Another card, a backup or an image whose files are brought in too.")
@click.option("--pictures-from", "server", default="", metavar="ADDRESS",
              help="A picture server that is asked for games without one; their names leave this computer.")
@LISTS
@click.option("--plan", "wanted", help="Id or file of a plan; the one by which it was filled last, else what the "
              "card teaches, when left out.")
@TRUST
@KEY
@_outcome
def fill(bench: Bench, card: str, places: tuple[Path, ...], source: str | None, server: str,
         listed: tuple[Path, ...], wanted: str | None, answers: tuple[str, ...], trust: str, key: Path | None,
         **how: Any) -> None:  # noqa: ANN401
    """Sort what is in PLACES to where a CARD wants it, and show what goes where, what is asked, what does not fit.

    CARD may be a folder of this computer too, or a running device as sftp://user@host/folder.
    """
    if not places and not source and not server:
        raise click.UsageError("Say what is brought in: folders, files and archives, or a card with --from.")
    sources = Sources(places, bench.shelf.find(source) if source else None, server)
    words = Words(sources, lists_at(bench.state / "lists", listed), wanted, _answers(answers), **how)
    is_device = card.startswith("sftp://")
    if (trust or key) and not is_device:
        raise click.UsageError("--trust and --key are of a running device, sftp://user@host/folder.")
    if not (is_device or Path(card).is_dir()):
        _onto_card(bench, card, words)
        return
    if words.tag:
        raise click.UsageError("A tag is of a card; what is filled here has none. Leave --tag out.")
    with (connected(bench, card, trust, key) if is_device else nullcontext()) as device:
        _into_tree(bench, DeviceHome(device) if device else FolderHome(Path(card).resolve()), words)


@click.command("lay-over")
@click.argument("card")
@click.argument("places", nargs=-1, required=True, type=PLACE)
@_outcome
def lay_over_(bench: Bench, card: str, places: tuple[Path, ...], answers: tuple[str, ...],
              **how: Any) -> None:  # noqa: ANN401
    """Lay folders and archives over a CARD as they are: what they add, replace, and what is there."""
    medium, words = bench.shelf.find(card), Words(Sources(places), Lists(), None, _answers(answers), **how)
    with watching() as watch:
        found = lay_over(medium, words.sources, watch, answers=words.answers,
                         plan=plans_at(own_plans_of(bench)).get(plan_of(bench.state, medium.key)),
                         partition=home_of(medium) if words.partition is None else words.partition)
    _must_be_answers(found, words.answers)
    _tell(bench, found, words)


def _onto_card(bench: Bench, card: str, words: Words) -> None:
    medium, gallery = bench.shelf.find(card), Gallery(bench.state / "pictures")
    home = home_of(medium) if words.partition is None else words.partition
    known = words.wanted or plan_of(bench.state, medium.key)
    choice = plan_called(bench, known) if known in plans_at(own_plans_of(bench)) or words.wanted else choose_plan(
        medium, home, plans_at(own_plans_of(bench)), bench.state, answers=words.answers, like=words.sources.card)

    def sort(watch: Watch, answers: dict[str, str]) -> Filling:
        return fill_card(medium, words.sources, choice, watch, partition=home, answers=answers,
                         lists=words.lists, gallery=gallery, bench=bench)

    with watching() as watch:
        found = sort(watch, words.answers)
        _must_be_answers(found, words.answers)
        for gather in _GATHERING:
            if said := gather(found.plan, found.sorted, words, gallery, watch):
                say(said, err=True)
                found = sort(watch, words.answers)
        if words.is_run and not found.sorted.fits:
            found = sort(watch, {**words.answers, ROOM: WHAT_FITS})
    _tell(bench, found, words)
    if words.is_run and found.plan.id in plans_at(own_plans_of(bench)):
        remember_plan(bench.state, medium.key, found.plan.id)


def _into_tree(bench: Bench, tree: TreeHome, words: Words) -> None:
    """A folder filled: shown, then done where that is asked for."""
    gallery, sources = Gallery(bench.state / "pictures"), words.sources
    choice = Choice(plan_called(bench, words.wanted)) if words.wanted else choose_for_tree(
        tree, plans_at(own_plans_of(bench)), bench.state, answers=words.answers, like=sources.card)

    @contextmanager
    def sort(watch: Watch, answers: dict[str, str]) -> Iterator[TreeFilling]:
        with fill_tree(tree, sources, choice, watch, answers=answers, lists=words.lists, gallery=gallery,
                       bench=bench) as found:
            yield found

    with watching() as watch:
        for gather in _GATHERING:
            with sort(watch, words.answers) as found:
                _must_be_answers(found, words.answers)
                if said := gather(found.plan, found.sorted, words, gallery, watch):
                    say(said, err=True)
        with sort(watch, words.answers) as found:
            fits = {} if found.sorted.fits or not words.is_run else {ROOM: WHAT_FITS}
        with sort(watch, {**words.answers, **fits}) as found:
            _show(found.plan, found.sorted, found.questions, words)
            if words.is_run:
                sentence = pour(tree, found.sorted, watch)
                show_json({"sentence": sentence}) if words.as_json else say(sentence)
                _must_be_all(found.sorted)


def _fetched(plan: FolderPlan, found: Sorted, words: Words, gallery: Gallery, watch: Watch) -> str:
    """What a picture server had; "" where none is asked."""
    server = words.sources.pictures_from
    return fetch_missing(plan, found, server, gallery, watch) if server and found.bare else ""


def _scaled(plan: FolderPlan, found: Sorted, words: Words, gallery: Gallery, watch: Watch) -> str:
    return scale_waiting(plan, found, gallery, watch, words.sources.card) if found.waiting else ""


_GATHERING = (_fetched, _scaled)         # what is fetched may have to be scaled


def _answers(answers: tuple[str, ...]) -> dict[str, str]:
    return dict(answer.rpartition("=")[::2] for answer in answers)


def _tell(bench: Bench, found: Filling, words: Words) -> None:
    """What would be done; then, where it is asked for, do it."""
    if words.out and found.sheet:
        save_sheet(found.sheet, words.out)
    _show(found.plan, found.sorted, found.questions, words)
    if words.is_run and found.sheet:
        run_sheet(bench, found.sheet, words.tag, as_json=words.as_json)
    elif words.is_run and not found.sorted.fits:
        raise FitError("It does not fit; nothing was written. Leave something out, or take a larger card.")
    elif words.is_run:
        say("Nothing is to be written.")
    if words.is_run:
        _must_be_all(found.sorted)


def _must_be_all(found: Sorted) -> None:
    """Raises FitError where something could not come; the rest did."""
    if lacking := found.lacking:
        whys = listed([f"{some_of([each.file.name for each in lacking if each.why == why])}: {why}"
                       for why in dict.fromkeys(each.why for each in lacking)])
        raise FitError(f"{counted(len(lacking), 'file')} did not come; all the rest did. {whys}.")


def _must_be_answers(found: Filling | TreeFilling, answers: dict[str, str]) -> None:
    """Raises UsageError for an answer to what is never asked here, or with a word that its question has not."""
    asked = {each.key: each.answers for each in found.questions}
    for key, word in answers.items():
        is_said = word.startswith(GAMES_OF) and word.removeprefix(GAMES_OF) in systems().by_code
        if key in asked and word not in asked[key] and not is_said:
            words = listed([f"“{each}”" for each in asked[key]])
            raise click.UsageError(f"“{word}” is no answer to “{key}”: it has {words}. Nothing was written.")
        if key not in asked and not key.startswith(ASKED) and not may_be_asked(key, found.sorted, found.plan):
            keys = listed([f"“{each}”" for each in asked]) if asked else "no question"
            raise click.UsageError(f"Nothing asks for “{key}” here; there is {keys}. Nothing was written.")


def _show(plan: FolderPlan, found: Sorted, questions: Sequence[Question], words: Words) -> None:
    if words.as_json:
        if not words.is_run:
            show_json({"plan": plan.id, "need": found.need, "lost": found.lost, "free": found.free,
                       "files": [{"path": str(p.file.path), "to": p.to, "act": p.act, "why": p.why, "was": p.was}
                                 for p in found.placed],
                       "questions": [{"key": q.key, "sentence": q.sentence, "answers": q.answers}
                                     for q in questions]})
        return
    say(f"{plan.name}:")
    for flow in found.flows():
        where = flow.folder or "nowhere"
        say(f"  {flow.group} → {where}: {counted(flow.files, 'file')}, {binary(flow.size)}, {flow.act}")
    for each in found.placed if words.files else ():
        say(f"    {each.file.path.name} → {each.to or '-'}: {each.act}, {each.why}")
    say(f"{binary(found.need)} of {binary(found.free)} that are free, "
        f"{binary(found.lost)} of it lost to clusters.")
    for question in questions:
        say(answers_to(question))


COMMANDS: dict[str, click.Command] = {"fill": fill, "lay-over": lay_over_}
