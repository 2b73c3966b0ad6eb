"""crate: what is kept, looked through, compared and checked."""

from __future__ import annotations

from contextlib import suppress
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

import click

from mosscrate.cli.devices import device
from mosscrate.cli.progress import watching
from mosscrate.cli.speaking import FILE, json_option, program, say, show_json, taken_out_options
from mosscrate.core.crate import Backup, Lane
from mosscrate.core.crate.ageing import Ages
from mosscrate.core.crate.compare import State
from mosscrate.core.crate.compare import compare as compare_backups
from mosscrate.core.crate.library import KeptFile, files_in, life_of, saves
from mosscrate.core.crate.library import find as find_files
from mosscrate.core.crate.mending import mend as mend_backup
from mosscrate.core.crate.notes import Note, notes_in, put_note
from mosscrate.core.errors import CrateError, MediumError
from mosscrate.core.sheet.bench import Bench
from mosscrate.core.sheet.planning.bringing_back import bringing_all_back, bringing_back
from mosscrate.core.sheet.running.forgetting import forget_on, reclaim, thin_out, thinning, what_is_only_in
from mosscrate.core.sheet.running.passing_on import export as export_backup
from mosscrate.core.sheet.running.passing_on import take_over
from mosscrate.core.sheet.running.run import run
from mosscrate.core.sizes import binary, counted


@click.group(invoke_without_command=True)
@click.option("--check", is_flag=True, help="Read every backup again and compare it with its record.")
@json_option
@click.pass_context
def crate(context: click.Context, check: bool, as_json: bool) -> None:
    """List what is kept, card by card; look through it, compare it, check it.

    A BACKUP is said by its file, by the eight digits at its end, or by its card: the newest one, or CARD@2026-11-20
    for that day's.
    """
    if context.invoked_subcommand is None:
        _list(context.obj, check=check, as_json=as_json)


@crate.command("list")
@json_option
@click.pass_obj
def list_(bench: Bench, as_json: bool) -> None:
    """List what is kept, card by card."""
    _list(bench, check=False, as_json=as_json)


@crate.command()
@json_option
@click.pass_obj
def check(bench: Bench, as_json: bool) -> None:
    """Read everything that is kept; what is damaged is named by card, date and file."""
    with watching() as watch:
        bad = bench.crate.check_all(watch)
    if as_json:
        show_json({"damaged": bad})
    elif not bad:
        say("Everything that is kept can be read, and is what was kept.")
    if bad:
        raise CrateError(" ".join(bad))


@crate.command()
@click.argument("backup")
@json_option
@click.pass_obj
def show(bench: Bench, backup: str, as_json: bool) -> None:
    """What is known of one BACKUP."""
    found = bench.crate.find(backup)
    r, files = found.record, list(files_in(found))
    of_saves = [file for file in files if file.kind == "save"]
    if as_json:
        show_json({**_backup(found), "files": len(files), "saves": len(of_saves), "holed": [
            {"partition": h.partition, "path": h.path, "holes": h.holes} for h in r.holed],
            "unreadable": r.unreadable, "layout": r.layout})
        return
    say(f"{r.card.name}, kept {found.kept_at:%Y-%m-%d %H:%M}: {found.path}")
    if found.note:
        say(f"  “{found.note}”")
    say(f"  {binary(r.length)}, {binary(r.written)} of it in use; {counted(len(files), 'file')}, "
        f"{counted(len(of_saves), 'save')} among them")
    say(f"  {'' if r.verified else 'not '}read back when it was kept; BLAKE3 {r.blake3}")
    for start, length in r.unreadable[:5]:
        say(f"  ! {length} bytes at {start:,} could not be read")


@crate.command()
@click.argument("backup")
@click.option("--saves", "only_saves", is_flag=True, help="Only saves.")
@json_option
@click.pass_obj
def files(bench: Bench, backup: str, only_saves: bool, as_json: bool) -> None:
    """List the files of one BACKUP."""
    _tell_files([f for f in files_in(bench.crate.find(backup)) if f.kind == "save" or not only_saves], as_json=as_json)


@crate.command()
@click.argument("text")
@json_option
@click.pass_obj
def find(bench: Bench, text: str, as_json: bool) -> None:
    """Files of any backup whose path holds the words of TEXT, the newest backup first."""
    _tell_files(find_files(bench.crate, text), as_json=as_json)


@crate.command("saves")
@click.argument("name", default="")
@json_option
@click.pass_obj
def saves_(bench: Bench, name: str, as_json: bool) -> None:
    """All saves that are kept; of a NAME every version that any backup has, the oldest first."""
    if name:
        _tell_life(bench, name, as_json=as_json)
        return
    found = saves(bench.crate)
    if as_json:
        show_json([{"name": stem, "versions": len({f.contents for f in files}), **_file(files[0])}
                   for stem, files in sorted(found.items())])
        return
    for stem, files in sorted(found.items()):
        versions = len({file.contents for file in files})
        say(f"{counted(versions, 'version'):>11}  {stem}  ({files[0].backup.record.card.name}, "
            f"{files[0].backup.kept_at:%Y-%m-%d})")
    if not found:
        say("No save is kept yet.")


@crate.command()
@click.argument("backup")
@click.argument("path")
@click.argument("card")
@click.option("--partition", "-p", type=int, help="Number of the partition of the card; the one it was on when "
              "left out.")
@click.option("--tag", default="", help="The four-character tag of the card, as `slots` shows it.")
@json_option
@click.pass_obj
def bring(bench: Bench, backup: str, path: str, card: str, partition: int | None, tag: str, as_json: bool) -> None:
    """Bring the file at PATH of a BACKUP back onto a CARD; what is there stays under a dated name.

    With . as PATH everything that is not there as it was kept comes back.
    """
    found = bench.crate.find(backup)
    if path == ".":
        medium = bench.shelf.find(card)
        with watching() as watch:
            result = run(bringing_all_back(found, medium, bench), bench, watch, typed_tag=tag)
        sentence = " ".join(done.sentence for done in result.done)
        show_json({"name": medium.name, "sentence": sentence}) if as_json else say(sentence)
        return
    file = next((f for f in files_in(found) if f.path.casefold() == path.strip("/").casefold()), None)
    if file is None:
        raise CrateError(f"There is no “{path}” in the backup {found.path.stem}. `crate files {backup}` lists it.")
    medium = bench.shelf.find(card)
    with watching() as watch:
        result = run(bringing_back(file, medium, bench, partition=partition), bench, watch, typed_tag=tag)
    sentence = f"{file.path} of {found.kept_at:%Y-%m-%d} is on {medium.name}. {result.done[-1].sentence}"
    show_json({"name": medium.name, "sentence": sentence}) if as_json else say(sentence)


@crate.command()
@click.argument("backup")
@click.argument("card")
@json_option
@click.pass_obj
def mend(bench: Bench, backup: str, card: str, as_json: bool) -> None:
    """Fetch what is damaged of a BACKUP again from its CARD, as far as that still holds it; the card is only read."""
    found, medium = bench.crate.find(backup), bench.shelf.find(card)
    if not found.is_in_chunks:
        raise CrateError(f"{found.path.name} is an image; it cannot be mended in parts. Keep the card anew.")
    with medium.open_for_job() as blocks, watching() as watch:
        mended = mend_backup(found.path, blocks, watch)
    if as_json:
        show_json({"damaged": mended.damaged, "left": mended.left, "sentence": mended.sentence(medium.name)})
    else:
        say(mended.sentence(medium.name))
    if mended.left:
        raise SystemExit(1)


@crate.command()
@click.argument("backup")
@click.argument("file", type=FILE)
@json_option
@click.pass_obj
def export(bench: Bench, backup: str, file: Path, as_json: bool) -> None:
    """Put a BACKUP away in one FILE, a drive file, to take it to another crate."""
    with watching() as watch:
        sentence = export_backup(bench.crate.find(backup), file, watch)
    show_json({"file": str(file), "sentence": sentence}) if as_json else say(sentence)


@crate.command("import")
@click.argument("file", type=FILE)
@json_option
@click.pass_obj
def import_(bench: Bench, file: Path, as_json: bool) -> None:
    """Keep what a drive file or an image FILE holds; a drive file says of which card it is, and from when."""
    with watching() as watch:
        backup = take_over(file, bench, watch)
    if as_json:
        show_json(_backup(backup))
    else:
        say(f"{backup.record.card.name} of {backup.kept_at:%Y-%m-%d} is kept: {backup.path}")


@crate.command()
@click.argument("backup")
@click.option("--sure", is_flag=True, help="Forget it; without this it is only said what would be lost.")
@json_option
@click.pass_obj
def forget(bench: Bench, backup: str, sure: bool, as_json: bool) -> None:
    """Forget a BACKUP and give its room back; what is in no other one is said before."""
    found = bench.crate.find(backup)
    lost = what_is_only_in(found, bench)
    said = f"{lost} Nothing was forgotten; say --sure to do it."
    if sure:
        with watching() as watch:
            said = f"{lost} {forget_on(found, bench, watch)}"
    show_json({"id": found.id, "forgotten": sure, "sentence": said}) if as_json else say(said)


@crate.command()
@click.argument("card", default="")
@click.option("--all-days", type=click.IntRange(0), default=Ages.all_days, show_default=True,
              help="Of the last so many days, all are kept.")
@click.option("--months", type=click.IntRange(0), default=Ages.months, show_default=True,
              help="Then one of each month, so many months back.")
@click.option("--sure", is_flag=True, help="Forget them; without this they are only shown.")
@json_option
@click.pass_obj
def thin(bench: Bench, card: str, all_days: int, months: int, sure: bool, as_json: bool) -> None:
    """Forget backups by their age, of one CARD or of all: first all, then one a month, then one a year are kept.

    The oldest, the newest, and those with a note stay, and what a job needs to be taken back.
    """
    key = bench.crate.find(card).record.card.key if card else None
    found = thinning(bench, Ages(all_days, months), key)
    said = f"{found.sentence} Nothing was forgotten; say --sure to do it." if found.backups else found.sentence
    if sure and found.backups:
        with watching() as watch:
            said = f"{found.sentence} {thin_out(found, bench, watch)}"
    if as_json:
        show_json({"backups": [b.id for b in found.backups], "forgotten": sure, "sentence": said})
        return
    for backup in found.backups:
        say(f"{backup.kept_at:%Y-%m-%d %H:%M}  {backup.record.card.name}  {backup.path}")
    say(said)


@crate.command()
@click.argument("backup")
@click.argument("name")
@click.pass_obj
def name(bench: Bench, backup: str, name: str) -> None:
    """Call the card of a BACKUP by a NAME of your own; "" gives it back the one it had."""
    key = bench.crate.find(backup).record.card.key
    noted = notes_in(bench.crate.root).get(key, Note(key, ""))
    put_note(bench.crate.root, key, name=name, text=noted.text)
    say(f"It is called {next(reversed(bench.crate.backups_of(key))).record.card.name} now.")


@crate.command()
@click.argument("backup")
@click.argument("text")
@click.option("--card", is_flag=True, help="On its card, not on this backup.")
@click.pass_obj
def note(bench: Bench, backup: str, text: str, card: bool) -> None:
    """Note a TEXT on a BACKUP; "" takes it away. A backup with a note is never thinned out."""
    found, root = bench.crate.find(backup), bench.crate.root
    about = found.record.card.key if card else found.id
    put_note(root, about, name=notes_in(root).get(about, Note(about, "")).name, text=text)
    say(f"Noted on {found.record.card.name}{'' if card else f' of {found.kept_at:%Y-%m-%d}'}.")


@crate.command("reclaim")
@json_option
@click.pass_obj
def reclaim_(bench: Bench, as_json: bool) -> None:
    """Give back the room of what no backup needs any more."""
    with watching() as watch:
        said = reclaim(bench, watch)
    show_json({"sentence": said}) if as_json else say(said)


@crate.command()
@click.argument("older")
@click.argument("newer")
@json_option
@click.pass_obj
def compare(bench: Bench, older: str, newer: str, as_json: bool) -> None:
    """What changed from one state to another, partition by partition.

    Each is a BACKUP, a card at hand, or the image that a card was written from.
    """
    found = compare_backups(_state(bench, older), _state(bench, newer))
    if as_json:
        show_json([{"partition": c.name, "changed": c.is_changed, "sentence": c.sentence,
                    **{word: [e.path for e in entries] for word, entries in (
                        ("new", c.added), ("different", c.changed), ("gone", c.gone))}} for c in found])
        return
    for change in found:
        named = f": {change.examples}" if change.examples else ""
        say(f"{change.name}: {change.sentence}{named}")


def _state(bench: Bench, text: str) -> State:
    """A card at hand, an image, or a backup. Raises CrateError."""
    with suppress(MediumError):
        return bench.shelf.find(text)
    return bench.crate.find(text)


def _list(bench: Bench, *, check: bool, as_json: bool) -> None:
    lanes, bad = bench.crate.lanes(), list[str]()
    troubles = bench.crate.troubles()
    if check:
        with watching() as watch:
            bad = bench.crate.check_all(watch)
    if as_json:
        show_json([{"card": lane.card.name, "tag": lane.card.tag, "note": lane.note,
                    "backups": [_backup(b) for b in lane.backups]} for lane in lanes])
    elif not lanes and not troubles:
        say(f"Nothing is kept yet. “{program()} keep MEDIUM” keeps a card.")
    else:
        _tell_lanes(lanes)
    for trouble in troubles if not check else ():
        say(f"  ! {trouble.sentence}", err=True)
    if bad:
        raise CrateError(" ".join(bad))


def _tell_lanes(lanes: list[Lane]) -> None:
    for lane in lanes:
        say(f"{lane.card.tag}  {lane.card.name}{f'  “{lane.note}”' if lane.note else ''}")
        for b in lane.backups:
            note = ("" if b.record.is_complete else "  incomplete") + (f"  “{b.note}”" if b.note else "")
            say(f"      {b.kept_at:%Y-%m-%d %H:%M}  {binary(b.record.length):>9}  {b.path}{note}")


def _tell_files(found: list[KeptFile], *, as_json: bool) -> None:
    if as_json:
        show_json([_file(file) for file in found])
        return
    for file in found:
        card = file.backup.record.card.name
        say(f"{binary(file.size):>9}  {_date(file.modified):10}  {file.path}  ({card}, "
            f"{file.backup.kept_at:%Y-%m-%d})")
    if not found:
        say("No file of that name is kept.")


def _tell_life(bench: Bench, name: str, *, as_json: bool) -> None:
    versions = life_of(bench.crate, name)
    if as_json:
        show_json([{"first_kept": v.first.backup.record.kept_at, "backups": v.backups, **_file(v.last)}
                   for v in versions])
        return
    for number, v in enumerate(versions, 1):
        say(f"{number:3}  kept {v.when:%Y-%m-%d}, in {counted(v.backups, 'backup')}  {binary(v.last.size):>9}  "
            f"of {_date(v.last.modified)}  {v.last.path}  ({v.last.backup.record.card.name})")
    if not versions:
        say(f"No save called {name} is kept.")


def _backup(b: Backup) -> dict[str, Any]:
    r = b.record
    return {"image": str(b.path), "id": b.id, "card": r.card.name, "kept_at": r.kept_at, "length": r.length,
            "written": r.written, "blake3": r.blake3, "verified": r.verified, "complete": r.is_complete, "note": b.note}


def _file(file: KeptFile) -> dict[str, Any]:
    return {"backup": file.backup.id, "card": file.backup.record.card.name, "kept_at": file.backup.record.kept_at,
            "partition": file.partition, "path": file.path, "kind": str(file.kind), "size": file.size,
            "modified": file.modified, "contents": file.contents.hex()}


def _date(modified: int | None) -> str:
    return f"{datetime.fromtimestamp(modified, UTC):%Y-%m-%d}" if modified is not None else "no date"


@crate.command()
@click.argument("backup")
@taken_out_options
@click.pass_context
def get(context: click.Context, /, **how: Any) -> None:  # noqa: ANN401
    """Take the file or folder at PATH out of a BACKUP; the same as `get`, which takes cards and images too."""
    from mosscrate.cli.commands import get as get_from_medium

    backup = context.obj.crate.find(how.pop("backup"))
    context.invoke(get_from_medium, medium=str(backup.path), **how)


crate.add_command(device)

COMMANDS: dict[str, click.Command] = {"crate": crate}
