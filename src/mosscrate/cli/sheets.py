"""sheet: plan, show, rehearse, run, finish, undo, log. The single steps come from `arranging`."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path
from typing import Any

import click
import msgspec

from mosscrate.cli.arranging import COMMANDS as STEPS
from mosscrate.cli.filling import plan_called
from mosscrate.cli.outcome import foreseen, must_fit, print_result, put_out, run_sheet
from mosscrate.cli.progress import watching
from mosscrate.cli.speaking import FILE, finding_line, json_option, say, show_json, size_of
from mosscrate.cli.unpacking import read_if_small
from mosscrate.core.contents import Layout, survey
from mosscrate.core.errors import JobError
from mosscrate.core.fill.own_plans import FOLDER as PLANS
from mosscrate.core.findings import Finding
from mosscrate.core.machines import Machine, check
from mosscrate.core.sheet.bench import Bench
from mosscrate.core.sheet.planning.forecasting import Forecast, forecast
from mosscrate.core.sheet.planning.losses import what_would_be_lost
from mosscrate.core.sheet.planning.propose import gives_room, offered, propose
from mosscrate.core.sheet.planning.putting_back import Ends, PutBack, putting_back
from mosscrate.core.sheet.planning.suiting import suited, swapping_on_the_way
from mosscrate.core.sheet.running import recovering
from mosscrate.core.sheet.running import run as running
from mosscrate.core.sheet.running.job import Job, Log
from mosscrate.core.sheet.sheet import JobSheet, MediumRef, load_sheet
from mosscrate.core.sheet.steps import AnyStep, FillWithDrives, GrowPartition, RebuildPartition
from mosscrate.core.sheet.verdicts import bad_verdicts
from mosscrate.core.sizes import binary, duration
from mosscrate.core.slots import Medium


class _SheetCommands(click.Group):
    """Its own commands, and one for each step that can be planned by itself."""

    def list_commands(self, ctx: click.Context) -> list[str]:
        return [*self.commands, *STEPS]

    def get_command(self, ctx: click.Context, cmd_name: str) -> click.Command | None:
        return self.commands.get(cmd_name) or STEPS.get(cmd_name)



@click.group(cls=_SheetCommands)
def sheet() -> None:
    """Plan a job, look at it, rehearse it, run it; finish or undo one that was interrupted."""


@sheet.command()
@click.argument("source")
@click.argument("target")
@click.option("--size", help="Size of the last partition, such as 6GiB; as --grow when left out.")
@click.option("--grow/--no-grow", default=None, help="Give the last partition all new room, or leave it as it is. When "
              "left out, volumes of today's kinds and those with ROMs or saves grow.")
@click.option("--drives", is_flag=True, help="Fill what an old PC reaches of the room behind with logical drives.")
@click.option("--swap", is_flag=True, help="Exchange the two bytes of every word on the way, for an adapter that does.")
@click.option("--machine", help="What the target is meant for: a map it knows, its order of bytes.")
@click.option("--put-back", "old", metavar="CARD", help="Put the saves, settings and system files of this card or "
              "backup to where the new firmware wants them; it may be TARGET itself, as it is now.")
@click.option("--plan", "folders", default="", help="Id or file of the folder plan of what is written, where it does "
              "not teach its own; `plans` lists them.")
@click.option("--out", type=FILE, help="Save the sheet here.")
@json_option
@click.pass_obj
def plan(bench: Bench, source: str, target: str, size: str | None, grow: bool | None, drives: bool, swap: bool,
         machine: str | None, old: str | None, folders: str, out: Path | None, as_json: bool) -> None:
    """Propose the whole move from SOURCE onto TARGET."""
    if folders and not old:
        raise click.UsageError("--plan says where what is put back goes: it wants --put-back.")
    came, new = read_if_small(bench, bench.shelf.find(source)), bench.shelf.find(target)
    with came.open_to_look() as a, new.open() as b:
        ends = Ends(came, survey(a), new, survey(b))
    made = propose(came, ends.source_layout, new, ends.target_layout, bench.crate)
    findings: tuple[Finding, ...] = ()
    meant_for = bench.machines.find(machine) if machine else None
    if meant_for:
        fit = suited(made, ends.source_layout, ends.target_layout, meant_for)
        made, findings = fit.sheet, fit.findings
    made = _as_asked(made, ends.source_layout, size_of(size) if size else None, grow=grow, drives=drives)
    if swap:
        made = swapping_on_the_way(made)
    if old:
        back = _put_back(bench, bench.shelf.find(old), made, ends, folders)
        made = back.into(made)
        say(back.sentence, err=True)
    _put_out_for(meant_for, made, forecast(made, ends.source_layout, ends.target_layout), out, findings,
                 as_json=as_json)


@sheet.command()
@click.argument("file", type=FILE)
@click.option("--machine", help="Also say whether this machine can take the result; `machines` lists them.")
@json_option
@click.pass_obj
def show(bench: Bench, file: Path, machine: str | None, as_json: bool) -> None:
    """Show a saved sheet in words, with what it does and what would be lost."""
    made = load_sheet(file)
    meant_for = bench.machines.find(machine) if machine else None
    new = _layout(bench, made.target)
    _put_out_for(meant_for, made, foreseen(bench, made), None, (), as_json=as_json)
    if made.target and new and not as_json:
        target = bench.shelf.find(made.target.path)
        for finding in (*bad_verdicts(target, bench), *what_would_be_lost(target, new, bench.crate)):
            say(f"  {finding.sentence} {finding.remedy}".rstrip())


@sheet.command()
@click.argument("file", type=FILE)
@json_option
@click.pass_obj
def rehearse(bench: Bench, file: Path, as_json: bool) -> None:
    """Go through a sheet on a copy-on-write view of the real target; nothing is written to it."""
    made = load_sheet(file)
    must_fit(foreseen(bench, made))
    with watching() as watch:
        result = running.rehearse(made, bench, watch)
    print_result(result, as_json=as_json, last=f"Rehearsed in {duration(result.seconds)}; "
                  f"{binary(result.scratch)} were held aside, nothing was written.")


@sheet.command()
@click.argument("file", type=FILE)
@click.option("--tag", default="", help="The four-character tag of the target, as `slots` shows it.")
@json_option
@click.pass_obj
def run(bench: Bench, file: Path, tag: str, as_json: bool) -> None:
    """Run a sheet for real."""
    run_sheet(bench, load_sheet(file), tag, as_json=as_json)


def _of_a_job(command: Any) -> Any:  # noqa: ANN401 - a decorator over click's own
    """Which job, and the card that it is of."""
    for option in (click.argument("job", required=False),
                   click.option("--card", help="The card at hand; a job that is left out is the uppermost one on it."),
                   click.option("--tag", default="", help="The four-character tag of the card."), json_option):
        command = option(command)
    return click.pass_obj(command)


@sheet.command()
@_of_a_job
def finish(bench: Bench, job: str | None, card: str | None, tag: str, as_json: bool) -> None:
    """Take an interrupted JOB to its end. Without one: what interrupted the --card, or the only one that there is."""
    found, medium = _job(bench, job, card)
    with watching() as watch:
        result = recovering.finish(found, bench, watch, typed_tag=tag, card=medium)
    print_result(result, as_json=as_json, last=f"Finished in {duration(result.seconds)}.")


@sheet.command()
@click.argument("job")
@json_option
@click.pass_obj
def close(bench: Bench, job: str, as_json: bool) -> None:
    """Give a JOB up, so that its card may be changed again. It can be neither finished nor taken back any more."""
    sentence = recovering.close(Log(bench.state).load(job), bench)
    if as_json:
        show_json({"job": job, "result": sentence})
    else:
        say(sentence)


@sheet.command()
@click.option("--keep-first", is_flag=True, help="If files were written to the card since: keep all of it as it is "
              "now, then undo the job anyway.")
@_of_a_job
def undo(bench: Bench, job: str | None, card: str | None, tag: str, as_json: bool, keep_first: bool) -> None:
    """Take back a JOB, interrupted or done. Without one: the uppermost on the --card, or the only interrupted one."""
    found, medium = _job(bench, job, card)
    with watching() as watch:
        sentence = recovering.undo(found, bench, watch, typed_tag=tag, card=medium, keep_first=keep_first)
    if as_json:
        show_json({"job": found.id, "result": sentence})
    else:
        say(sentence)


@sheet.command("log")
@json_option
@click.pass_obj
def log_(bench: Bench, as_json: bool) -> None:
    """The log of the bench: every job that ran, newest first."""
    jobs = list(Log(bench.state).jobs())
    if as_json:
        show_json([_job_record(j) for j in jobs])
    for job in jobs if not as_json else []:
        target = job.sheet.target.name if job.sheet.target else ""
        say(f"{job.id}  {job.status:10}  {len(job.done)} of {job.step_count} steps  {target}"
            + (f"  {job.message}" if job.message else ""))


def _put_back(bench: Bench, old: Medium, made: JobSheet, ends: Ends, folders: str) -> PutBack:
    plan = plan_called(bench, folders) if folders else None
    with watching() as watch:
        return putting_back(old, made, ends, bench.state, watch, plans=bench.state / PLANS, plan=plan)


def _as_asked(made: JobSheet, source: Layout, size: int | None, *, grow: bool | None, drives: bool) -> JobSheet:
    """A proposed sheet without what is only offered and was not asked for."""
    unasked = offered(made, source)
    left_out = {k for k in unasked if isinstance(made.steps[k], FillWithDrives) and not drives}
    if size is None and not grow:
        left_out |= {k for k, step in enumerate(made.steps) if gives_room(step) and (grow is not None or k in unasked)}
    return msgspec.structs.replace(made, steps=tuple(
        step if size is None else _sized(step, size) for k, step in enumerate(made.steps) if k not in left_out))


def _sized(step: AnyStep, size: int) -> AnyStep:
    if not gives_room(step):
        return step
    sized: AnyStep = RebuildPartition(step.partition, step.kind, step.block, size) \
        if isinstance(step, RebuildPartition) else GrowPartition(step.partition, size)
    return sized


def _put_out_for(machine: Machine | None, made: JobSheet, seen: Forecast, out: Path | None,
                 findings: tuple[Finding, ...], *, as_json: bool) -> None:
    """Print a sheet, why it is as it is, and what the machine makes of its result."""
    suits: tuple[Finding, ...] = ()
    if machine and seen.layout:
        suits = check(seen.layout, machine)
        seen = replace(seen, layout=replace(seen.layout, findings=seen.layout.findings + findings + suits))
    put_out(made, seen, out, as_json=as_json)
    for finding in (*findings, *suits) if not as_json else ():
        say(finding_line(finding))


def _layout(bench: Bench, ref: MediumRef | None) -> Layout | None:
    if ref is None:
        return None
    with running.find_medium(bench, ref).open_to_look() as blocks:
        return survey(blocks)


def _job(bench: Bench, id: str | None, card: str | None) -> tuple[Job, Medium | None]:
    """The job that is meant and, where it was named, the card at hand. Raises JobError with the choices."""
    medium = bench.shelf.find(card) if card else None
    if id:
        return Log(bench.state).load(id), medium
    if medium is not None:
        on_it = recovering.jobs_on(medium, bench)
        if not on_it:
            raise JobError(f"No job that could be finished or taken back shows on {medium.name}.")
        return on_it[0], medium
    found = recovering.unfinished(bench)
    if len(found) == 1:
        return found[0], None
    if not found:
        raise JobError("No job was interrupted. Name one from `mosscrate sheet log`, or the card with --card.")
    listed = "; ".join(f"{job.id} on {job.sheet.target.name if job.sheet.target else '?'}" for job in found)
    raise JobError(f"{len(found)} jobs were interrupted: {listed}. Name one of them, or the card with --card.")


def _job_record(job: Job) -> dict[str, Any]:
    record: dict[str, Any] = msgspec.to_builtins(job)
    return record


COMMANDS: dict[str, click.Command] = {"sheet": sheet}
