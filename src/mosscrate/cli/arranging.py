"""The single steps below `sheet`: bring, copy, empty, swap, map, add, remove, grow, shrink, move and so on.

Each plans one step on one medium. `--out` saves the sheet, `--append` adds the step to a saved one, and
`--tag` runs it at once.
"""

from __future__ import annotations

from functools import partial
from pathlib import Path
from typing import Any

import click
import msgspec

from mosscrate.cli.outcome import foreseen, put_out, run_sheet
from mosscrate.cli.speaking import FILE, json_option, say, show_json
from mosscrate.cli.stepping import Extra, Values, answers, parameters
from mosscrate.core.contents import survey
from mosscrate.core.contents.survey import open_partition
from mosscrate.core.contents.transfer import plan_passage
from mosscrate.core.errors import JobError
from mosscrate.core.maps import MapKind, written_kinds
from mosscrate.core.sheet import steps as s
from mosscrate.core.sheet.bench import Bench
from mosscrate.core.sheet.planning.editing import with_steps
from mosscrate.core.sheet.planning.forecasting import Forecast
from mosscrate.core.sheet.planning.making_room import growth_with_room
from mosscrate.core.sheet.planning.passing import shortened, together
from mosscrate.core.sheet.planning.propose import under_another_map
from mosscrate.core.sheet.planning.refreshing import propose_refresh
from mosscrate.core.sheet.sheet import JobSheet, load_sheet, reference
from mosscrate.core.sheet.step import Step
from mosscrate.core.sizes import counted
from mosscrate.core.volumes import facts_for, kind_for

MAPS = tuple(str(kind) for kind in written_kinds())
PARTITION = click.option("--partition", "-p", type=int, required=True, help="Number of the partition.")


def planned(command: Any) -> Any:  # noqa: ANN401 - a decorator over click's own
    """The options of a step that is planned, saved or run."""
    for option in (click.option("--out", type=FILE, help="Save the sheet here."),
                   click.option("--append", type=FILE, help="Add the step to this sheet instead of a new one."),
                   click.option("--tag", default="", help="Run it at once: the four-character tag of the card."),
                   json_option):
        command = option(command)
    return click.pass_obj(command)


def plan_steps(bench: Bench, medium: str, steps: tuple[s.AnyStep, ...], out: Path | None, append: Path | None, tag: str,
               *, as_json: bool, source: str = "") -> None:
    """Show, save or run steps on a medium; `source` is another one that they bring something from."""
    found = bench.shelf.find(medium)
    came = bench.shelf.find(source) if source else None
    made = JobSheet(steps, reference(came) if came else None, reference(found))
    if append is not None:
        old = load_sheet(append)
        if old.target is None or old.target.key != found.key:
            raise JobError(f"The sheet {append} is for another card. Nothing was changed.")
        if came and old.source and old.source.key != came.key:
            raise JobError(f"The sheet {append} has another source. Nothing was changed.")
        made = msgspec.structs.replace(with_steps(old, steps).sheet, source=made.source or old.source)
        out = out or append
    if tag:
        run_sheet(bench, made, tag, as_json=as_json, tell=partial(tell_losses, steps=steps))
        return
    seen = foreseen(bench, made)
    tell_losses(seen, steps)
    put_out(made, seen, out, as_json=as_json)


def tell_losses(seen: Forecast, steps: tuple[s.AnyStep, ...]) -> None:
    """What files lose on their way into another kind of volume, said before anything is done."""
    for finding in shortened(together(seen, steps)):
        say(f"  ! {finding.sentence}", err=True)


@click.command()
@click.argument("source")
@click.argument("medium")
@click.argument("map_kind", metavar="MAP", type=click.Choice(MAPS))
@planned
def under(bench: Bench, source: str, medium: str, map_kind: str, **how: Any) -> None:  # noqa: ANN401
    """Bring every partition of a SOURCE onto a MEDIUM, under another MAP. What is on the MEDIUM is lost."""
    with bench.shelf.find(source).open() as blocks:
        steps = under_another_map(survey(blocks), MapKind(map_kind))
    plan_steps(bench, medium, steps, source=source, **how)


@click.command()
@click.argument("image")
@click.argument("card")
@click.option("--keep", multiple=True, metavar="PATTERN", help="Settings of the old firmware that are put back, such "
              "as *.cfg.")
@planned
def refresh(bench: Bench, image: str, card: str, keep: tuple[str, ...], **how: Any) -> None:  # noqa: ANN401
    """Put the firmware of an IMAGE over that of a CARD; games and saves on other partitions stay as they are."""
    new, old = bench.shelf.find(image), bench.shelf.find(card)
    with new.open_to_look() as a, old.open() as b:
        made = propose_refresh(new, survey(a), old, survey(b), bench.crate, keep)
    plan_steps(bench, card, made.steps, source=image, **how)


@click.command()
@click.argument("source")
@PARTITION
@click.option("--kind", required=True, help="The file system that the files would go into.")
@json_option
@click.pass_obj
def names(bench: Bench, source: str, partition: int, kind: str, as_json: bool) -> None:
    """List every name of a partition that would change in another KIND of file system."""
    with bench.shelf.find(source).open() as blocks:
        volume = open_partition(blocks, partition)
        tree = volume.tree()
        passage = plan_passage(tree.entries, facts_for(kind_for(kind, volume.size)))
    for finding in tree.unread():
        say(f"mosscrate: {finding.sentence}", err=True)
    if as_json:
        show_json({"names": [{"path": old, "name": new} for old, new in passage.changed_names.items()],
                   "left_out": sorted(passage.left_out)})
        return
    for old, new in passage.changed_names.items():
        say(f"{old}\t{new}")
    for path in sorted(passage.left_out):
        say(f"{path}\t(left out)")
    say(f"{counted(len(passage.changed_names), 'name')} would change, "
        f"{counted(len(passage.left_out), 'entry', 'entries')} would be left out.", err=True)


def _bring(bench: Bench, values: Values) -> None:
    under = values.pop("under")
    values["before"] = () if under is None else (s.EmptyCard(),) if under == "none" else (s.NewMap(under),)


def _map(bench: Bench, values: Values) -> None:
    machine = values.pop("machine")
    heads, sectors = bench.machines.find(machine).tracks(values["kind"]) if machine else (0, 0)
    values["heads"], values["sectors"] = values["heads"] or heads, values["sectors"] or sectors


def _add(bench: Bench, values: Values) -> None:
    values["kind"] = "" if values["kind"] == "none" else values["kind"]


def _grow(bench: Bench, values: Values) -> None:
    if values.pop("make_room"):
        with bench.shelf.find(values["medium"]).open() as blocks:
            *moves, _ = growth_with_room(survey(blocks), values["partition"], values["size"])
        values["before"] = tuple(moves)


def _copy(bench: Bench, values: Values) -> None:
    if bench.shelf.find(values["from_medium"]).key == bench.shelf.find(values["medium"]).key:
        values["from_medium"] = ""


EXTRAS: dict[type[Step], Extra] = {
    s.CopyPartition: Extra((click.Option(["--under"], type=click.Choice([*MAPS, "none"]), help=(
        "Put this empty map on the MEDIUM first; with none the partition becomes a bare volume. What is on the MEDIUM "
        "is lost.")),), _bring),
    s.NewMap: Extra((click.Option(["--machine"], help=(
        "Take the geometry that this machine wants; `machines` lists them.")),), _map),
    s.AddPartition: Extra((), _add),
    s.GrowPartition: Extra((click.Option(["--make-room"], is_flag=True, help=(
        "Move the partitions behind it to the end of the card first.")),), _grow),
    s.CopyFiles: Extra((), _copy)}


def command_for(step: type[Step]) -> click.Command:
    """The command that plans a step, saves it or runs it."""
    extra = EXTRAS.get(step, Extra())
    media = [*([click.Argument(["from_medium"], metavar="SOURCE")] if step.reads_parts else []),
             click.Argument(["medium"])]

    @planned
    def plan(bench: Bench, medium: str, out: Path | None, append: Path | None, tag: str, as_json: bool,
             from_medium: str = "", **given: Any) -> None:  # noqa: ANN401 - what click has read
        values = {q: given.pop(q) for q in list(given) if q in step.__struct_fields__}
        filled: Values = answers(step, values) | given | {"medium": medium, "from_medium": from_medium, "before": ()}
        extra.change(bench, filled)
        made: Any = step(**{name: filled[name] for name in step.__struct_fields__})
        plan_steps(bench, medium, (*filled["before"], made), out, append, tag, as_json=as_json,
                   source=filled["from_medium"])

    own = getattr(plan, "__click_params__", [])
    return click.Command(step.command, params=[*media, *parameters(step), *extra.options, *reversed(own)],
                         callback=plan, help=step.about())


COMMANDS: dict[str, click.Command] = {"under": under, "names": names, "refresh": refresh} | {
    step.command: command_for(step) for step in s.ALL if step.command and not step.is_about_files}
