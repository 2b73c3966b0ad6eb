"""look, files, get, keep, write, demo."""

from __future__ import annotations

import hashlib
import shlex
from contextlib import suppress
from dataclasses import replace
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

import click
import msgspec
from blake3 import blake3

from mosscrate.cli.layouts import print_layout, print_structure
from mosscrate.cli.progress import watching
from mosscrate.cli.speaking import FOLDER, MARKS, json_option, program, say, show_json, taken_out_options
from mosscrate.cli.unpacking import read_for_files, read_if_small, read_whole
from mosscrate.core.contents import Layout, describe, survey
from mosscrate.core.contents.extract import take_out
from mosscrate.core.contents.inspecting import inspect
from mosscrate.core.contents.record import describe_structure
from mosscrate.core.contents.survey import WORTH_OFFERING, open_partition, whole_partition
from mosscrate.core.contents.unpacking import doubt
from mosscrate.core.crate.compare import differing
from mosscrate.core.crate.lacking import files_lacking
from mosscrate.core.crate.parts import KINDS_BY_WORD, Choice, keep_part
from mosscrate.core.errors import MediumError
from mosscrate.core.images import Reach
from mosscrate.core.machines import check as suits
from mosscrate.core.sheet.bench import Bench, card_of
from mosscrate.core.sheet.running.knowing import known
from mosscrate.core.sheet.running.run import run
from mosscrate.core.sheet.sheet import JobSheet, reference
from mosscrate.core.sheet.steps import AnyStep, Verify, WriteFitted, WriteImage
from mosscrate.core.shown import shown
from mosscrate.core.sizes import binary, counted, duration, exact, rate
from mosscrate.core.slots import Medium
from mosscrate.core.volumes import Entry, Kind, Volume
from mosscrate.core.volumes.ffs import protection_text
from mosscrate.core.volumes.places import in_order_of_place


@click.command()
@click.argument("medium")
@click.option("--check", is_flag=True, help="Also check the structure of each volume.")
@click.option("--machine", help="Also say whether this machine can take it; `machines` lists them.")
@click.option("--structures", is_flag=True, help="Also show map and volumes field by field: name, value, bytes.")
@click.option("--through", is_flag=True, help="Unpack all of a packed file once: its checksums are compared, and what "
              "is on it is remembered.")
@json_option
@click.pass_obj
def look(bench: Bench, medium: str, check: bool, machine: str | None, structures: bool, through: bool,
         as_json: bool) -> None:
    """Show what is on a MEDIUM: map, partitions, volumes, and what was noticed."""
    found = bench.shelf.find(medium)
    meant_for = bench.machines.find(machine) if machine else None
    found = read_whole(bench, found) if through else read_if_small(bench, found)
    with found.open() if check or structures else found.open_to_look() as blocks:
        try:
            layout = survey(blocks, thorough=check)
        except MediumError as error:
            raise MediumError(f"{error} What can be read of it can be kept: mosscrate keep “{found.name}”",
                              error.offset) from error
        layout, _ = known(found, blocks, layout, bench)
        inspected = inspect(blocks) if structures else ()
    if meant_for:
        layout = replace(layout, findings=layout.findings + suits(layout, meant_for))
    if as_json:
        more = {"structures": [describe_structure(i) for i in inspected]} if structures else {}
        show_json({"name": found.name, "tag": found.tag} | describe(layout) | more)
    else:
        print_layout(found, layout)
        for structure in inspected:
            print_structure(structure)


@click.command()
@click.argument("medium")
@click.option("--partition", "-p", type=int, help="Number of the partition; may be left out when there is one.")
@click.option("--digest", is_flag=True, help="With BLAKE3 and MD5 of each file.")
@json_option
@click.pass_obj
def files(bench: Bench, medium: str, partition: int | None, digest: bool, as_json: bool) -> None:
    """List every file and folder of a partition."""
    found = read_for_files(bench, bench.shelf.find(medium))
    with found.open_to_look(Reach.endless()) as blocks:
        volume = open_partition(blocks, partition_of(survey(blocks), partition))
        tree = volume.tree()
        digests = _digests(volume, tree.entries) if digest else {}
        records = [_file_record(e) | digests.get(e.path, {}) for e in tree.entries]
    for finding in tree.findings:
        say(f"mosscrate: {finding.sentence}", err=True)
    if as_json:
        show_json(records)
        return
    for r in records:
        date = f"{datetime.fromtimestamp(r['modified'], UTC):%Y-%m-%d %H:%M}" if r["modified"] is not None else "-"
        size = "" if r["kind"] == Kind.FOLDER else f"{r['size']}"
        say(f"{date:16} {size:>12}  {shown(r['path'])}{'/' if r['kind'] == Kind.FOLDER else ''}"
            + (f"  and a resource fork of {exact(r['resource'])}" if "resource" in r else "")
            + (f"  {r['blake3']}" if digest and r["blake3"] else ""))


@click.command()
@click.argument("medium")
@taken_out_options
@click.pass_obj
def get(bench: Bench, medium: str, path: str, partition: int | None, out: Path, as_json: bool) -> None:
    """Take the file or folder at PATH out of a partition. "/" takes everything. Nothing is overwritten."""
    found = read_for_files(bench, bench.shelf.find(medium))
    with found.open_to_look(Reach.endless()) as blocks, watching() as watch:
        volume = open_partition(blocks, partition_of(survey(blocks), partition))
        outcome, uncertain = take_out(volume, path, out, watch), doubt(blocks)
    if as_json:
        show_json([{"path": t.entry.path, "to": str(t.path), "size": t.entry.size} for t in outcome.taken])
    else:
        files_taken = [t.entry for t in outcome.taken if t.entry.kind == Kind.FILE]
        say(f"{counted(len(files_taken), 'file')}, {binary(sum(e.size for e in files_taken))}, to {out}")
    if uncertain:
        say(f"mosscrate: {uncertain}", err=True)
    if outcome.shortfall:
        raise MediumError(outcome.shortfall)


@click.command()
@click.argument("medium")
@click.option("--to", "out", type=click.Path(path_type=Path), help="Image file to make instead of one in the crate.")
@click.option("--partition", "-p", type=int, help="Only this partition, as a bare volume without a map; needs --to.")
@click.option("--every-byte", is_flag=True, help="Keep what is left in free room too; else it comes back as zeros.")
@click.option("--no-verify", is_flag=True, help="Do not read the backup back.")
@click.option("--only", "kinds", multiple=True, type=click.Choice(sorted(KINDS_BY_WORD)),
              help="Only files of this kind; may be given several times.")
@click.option("--folder", "folders", multiple=True, help="Only what is in this folder; may be given several times.")
@click.option("--unlike", help="Only files that differ from this image, from which the card was written.")
@json_option
@click.pass_obj
def keep(bench: Bench, medium: str, out: Path | None, partition: int | None, every_byte: bool, no_verify: bool,
         kinds: tuple[str, ...], folders: tuple[str, ...], unlike: str | None, as_json: bool) -> None:
    """Back up what is in use on a MEDIUM under today's date; the crate stores equal data once.

    With --only, --folder or --unlike a part of it is kept, in a lane of its own beside that of the card.
    """
    found = bench.shelf.find(medium)
    if kinds or folders or unlike:
        if out is not None or partition is not None or every_byte:
            raise click.UsageError("A part goes into the crate file by file: without --to, --partition, --every-byte.")
        image = bench.shelf.find(unlike) if unlike else None
        choice = Choice(tuple(KINDS_BY_WORD[kind] for kind in kinds), folders, image.name if image else "",
                        differing(image, found) if image else frozenset())
        _keep_part(bench, found, choice, as_json=as_json)
        return
    if partition is not None and out is None:
        raise click.UsageError("A single partition is no backup of its card: say with --to where its image goes.")
    with found.open_for_job() as card, watching() as watch:
        blocks = card if partition is None else whole_partition(card, partition)
        seen = None
        with suppress(MediumError):
            seen = survey(blocks)
        if seen is None:
            say(f"  ! What is on {found.name} cannot be told: its map cannot be read. All that can be is kept.",
                err=True)
        elif seen.cut:
            say(f"  ! {found.name} is cut short: its own contents count on {binary(seen.cut)} more. What there "
                "is of it is kept.", err=True)
        if out is None:
            backup = bench.crate.keep(card_of(found), blocks, watch, verify=not no_verify, every_byte=every_byte)
        else:
            backup = bench.crate.keep_as_image(card_of(found), blocks, watch, out,
                                               layout=describe(seen) if seen else {}, verify=not no_verify)
    r = backup.record
    if as_json:
        show_json({"image": str(backup.path), "length": r.length, "written": r.written, "blake3": r.blake3,
                   "seconds": r.seconds, "verified": r.verified, "complete": r.is_complete,
                   "unreadable": [{"start": s, "length": n} for s, n in r.unreadable]})
    else:
        what = found.name if partition is None else f"Partition {partition} of {found.name}"
        say(f"{what} is kept: {backup.path}")
        say(f"  {exact(r.length)} ({binary(r.written)} written) in {duration(r.seconds)}, "
            f"{rate(r.length / max(r.seconds, 0.001))}")
        say(f"  BLAKE3 {r.blake3}, {'read back and equal' if r.verified else 'not verified'}")
    if not r.is_complete:
        places = ", ".join(f"{n} bytes at {s}" for s, n in r.unreadable[:5])
        raise MediumError(f"{found.name} could not be read everywhere: {places}. {files_lacking(backup)} What was read "
                          "is kept, and the record names it incomplete. "
                          f"“{program()} rescue” may get more of it, saves first.",
                          r.unreadable[0][0])


def _keep_part(bench: Bench, found: Medium, choice: Choice, *, as_json: bool) -> None:
    with found.open_for_job() as card, watching() as watch:
        backup = keep_part(bench.crate, card_of(found), card, survey(card), choice, watch)
    if as_json:
        show_json({"image": str(backup.path), "id": backup.id, "kept": backup.chosen})
    else:
        say(f"Of {found.name} are kept {backup.chosen}. {backup.path}")


@click.command()
@click.argument("image")
@click.argument("medium")
@click.option("--tag", default="", help="The four-character tag of the card to write, as `slots` shows it.")
@click.option("--no-verify", is_flag=True, help="Do not read back what was written.")
@click.option("--cut", is_flag=True, help="Write what there is of an IMAGE that is cut short.")
@click.option("--fit", is_flag=True, help="Shrink the last volume until an image that is too large fits.")
@json_option
@click.pass_obj
def write(bench: Bench, image: str, medium: str, tag: str, no_verify: bool, fit: bool, cut: bool,
          as_json: bool) -> None:
    """Write an IMAGE (or another card) onto MEDIUM and read it back. What MEDIUM holds is lost."""
    source, target = bench.shelf.find(image), bench.shelf.find(medium)
    steps: tuple[AnyStep, ...] = (WriteImage(verify=not no_verify, cut=cut),)
    if fit:
        steps = (WriteFitted(),) if no_verify else (WriteFitted(), Verify())
    sheet = JobSheet(steps, reference(source), reference(target))
    if not tag:
        tag = ask_for_tag(bench, target, loses_all=True)
    with watching() as watch:
        result = run(sheet, bench, watch, typed_tag=tag)
    with target.open() as blocks:
        layout = survey(blocks)
    if as_json:
        show_json({"written": result.done[0].bytes, "seconds": result.seconds, "verified": not no_verify,
                   "job": result.job.id if result.job else None, "free_behind": layout.tail})
        return
    proof = "Not verified" if no_verify else "Read back as far as it goes, but it is cut short" if layout.cut else \
        "Read back and equal"
    say(f"{result.done[0].sentence} {proof}, {duration(result.seconds)}.")
    last = layout.last()
    if layout.tail >= WORTH_OFFERING and last and layout.can_be_arranged and last.volume and \
            last.volume.largest > last.partition.length:
        say(f"{binary(layout.tail)} behind {last.name} are free. To use them: "
            f"mosscrate sheet grow “{target.name}” --partition {last.index}")


@click.command()
@click.option("--headless", is_flag=True, help="Run the migration here, without a window.")
@click.option("--build", is_flag=True, help="Only build the bench, for a shell to work on.")
@click.option("--device", is_flag=True, help="Act as a running device with made-up files until you stop it.")
@click.option("--pictures", is_flag=True, help="Be a picture server with made-up pictures until you stop it.")
@click.option("--folder", type=FOLDER, help="Where to build it; a folder of its own when left out.")
def demo(headless: bool, build: bool, device: bool, pictures: bool, folder: Path | None) -> None:
    """Build the Heron Lane bench and move its worn card onto a larger one.

    With --build the bench is only built; with --device a running device is stood in for instead, with --pictures a
    picture server.
    """
    if headless + device + pictures + build != 1:
        raise click.UsageError("Say --headless, --build, --device or --pictures.")
    if build:
        from mosscrate.demo.cards import bench_at

        bench = bench_at((folder or Path("heron-lane")).resolve())
        places = {"SLOTS": bench.shelf.simulated_folder, "CRATE": bench.crate.root, "STATE": bench.state}
        say("The bench is built. To point this shell at it:")
        say("export " + " ".join(f"MOSSCRATE_{name}={shlex.quote(str(place))}" for name, place in places.items()))
        return
    if pictures:
        from mosscrate.demo.pictures import serve as serve_pictures

        serve_pictures(click.echo)
        return
    if device:
        from mosscrate.demo.device import serve

        serve(folder, click.echo)
        return
    from mosscrate.demo.journey import run_headless

    with watching() as watch:
        run_headless(folder, watch, click.echo)


def partition_of(layout: Layout, wanted: int | None) -> int:
    """The partition that is meant: the one named, or the only one that can be opened. Raises UsageError."""
    if wanted is not None:
        return wanted
    openable = [p.index for p in layout.partitions if p.volume and p.volume.used is not None]
    if len(openable) == 1:
        return openable[0]
    listed = ", ".join(f"{p.index} ({p.name})" for p in layout.partitions) or "none"
    raise click.UsageError(f"Say which partition with --partition: {listed}.")


def ask_for_tag(bench: Bench, target: Medium, *, loses_all: bool) -> str:
    """On a terminal, show what would be lost and ask; in a script the guard says what is missing."""
    import sys

    from mosscrate.core.sheet.planning.losses import what_would_be_lost
    from mosscrate.core.sheet.verdicts import bad_verdicts

    if not sys.stdin.isatty():
        return ""
    with target.open() as blocks:
        layout = survey(blocks)
    say(f"{target.name}, {target.subtitle}", err=True)
    lost = what_would_be_lost(target, layout, bench.crate) if loses_all else ()
    for finding in (*bad_verdicts(target, bench), *lost):
        say(f"  {MARKS[finding.severity]} {finding.sentence}", err=True)
    return str(click.prompt(f"Type {target.tag} to write it", default="", show_default=False, err=True))


def _file_record(entry: Entry) -> dict[str, Any]:
    record: dict[str, Any] = {"path": entry.path, "kind": str(entry.kind), "size": entry.size,
                              "modified": entry.modified, "target": entry.target, "blake3": None, "md5": None}
    if entry.protection is not None:
        record |= {"protection": protection_text(entry.protection), "comment": entry.comment}
    if entry.resource:
        record["resource"] = entry.resource
    return record


def _digests(volume: Volume, entries: tuple[Entry, ...]) -> dict[str, dict[str, str]]:
    """{path: both digests} of every file, read in the order in which they stand on the card."""
    found = {}
    for entry in in_order_of_place(volume, [e for e in entries if e.kind == Kind.FILE]):
        strong, common = blake3(), hashlib.md5(usedforsecurity=False)
        for piece in volume.read_file(entry):
            strong.update(piece)
            common.update(piece)
        found[entry.path] = {"blake3": strong.hexdigest(), "md5": common.hexdigest()}
    return found


@click.command()
@json_option
@click.pass_obj
def machines(bench: Bench, as_json: bool) -> None:
    """List the machines that a card can be meant for. Your own: a TOML file each in $MOSSCRATE_MACHINES."""
    at_hand = bench.machines.all()
    if as_json:
        show_json({key: msgspec.to_builtins(machine) for key, machine in at_hand.items()})
        return
    for key, machine in at_hand.items():
        say(f"{key:18} {machine.name}")
        say(f"{'':18} {', '.join(machine.maps)}; {', '.join(machine.volumes)}")


COMMANDS: dict[str, click.Command] = {command.name or "": command for command in (
    look, files, get, keep, write, machines, demo)}
