"""slots, unmount, eject: what is attached, and how it is let go of."""

from __future__ import annotations

import json
import threading
from contextlib import suppress
from typing import Any

import click

from mosscrate.cli.speaking import json_option, say, show_json
from mosscrate.core.errors import MediumError
from mosscrate.core.sheet.bench import Bench
from mosscrate.core.sizes import binary
from mosscrate.core.slots import Medium


@click.command()
@click.option("--watch", is_flag=True, help="Go on, and tell what comes and goes until it is interrupted.")
@json_option
@click.pass_obj
def slots(bench: Bench, watch: bool, as_json: bool) -> None:
    """List the cards and drives at hand. The computer's own disks are never among them."""
    if watch:
        _watch(bench, as_json=as_json)
        return
    media = bench.shelf.media()
    if as_json:
        show_json([_medium_record(m) for m in media])
        return
    if not media:
        say("Nothing is at hand. Put a card into a reader, or name an image file.")
    for m in media:
        say(_line(m))
    for slot in bench.shelf.empty_slots():
        say(f"----  an empty slot of {slot.reader}")


@click.command()
@click.argument("card")
@json_option
@click.pass_obj
def unmount(bench: Bench, card: str, as_json: bool) -> None:
    """Unmount everything that is mounted of a CARD, so that it can be written."""
    medium = bench.shelf.find(card)
    places = bench.shelf.unmount(medium)
    if as_json:
        show_json({"name": medium.name, "unmounted": list(places)})
    elif places:
        say(f"{medium.name} is no longer mounted at {', '.join(places)}.")
    else:
        say(f"Nothing of {medium.name} was mounted.")


@click.command()
@click.argument("card")
@json_option
@click.pass_obj
def eject(bench: Bench, card: str, as_json: bool) -> None:
    """Unmount everything of a CARD, eject it where its reader can, and say whether you can take it out."""
    medium = bench.shelf.find(card)
    sentence = bench.shelf.eject(medium)
    if as_json:
        show_json({"name": medium.name, "sentence": sentence})
    else:
        say(sentence)


def _watch(bench: Bench, *, as_json: bool) -> None:
    """What is here now, then everything that comes and goes."""
    seen: dict[tuple[str, str], Medium] = {}
    changed = threading.Event()
    watcher = bench.shelf.watch(changed.set)
    try:
        while True:
            changed.clear()
            with suppress(MediumError):                  # a description that is being written just now
                now = {(str(m.path), m.key): m for m in bench.shelf.media()}
                for key in seen.keys() - now.keys():
                    _tell("gone", seen[key], as_json=as_json)
                for key in now.keys() - seen.keys():
                    _tell("here", now[key], as_json=as_json)
                seen = now
            changed.wait()
    finally:
        watcher.stop()


def _tell(event: str, medium: Medium, *, as_json: bool) -> None:
    if as_json:                                          # a line for each, so that a script can read on
        say(json.dumps({"event": event} | _medium_record(medium), ensure_ascii=False))
    else:
        say(f"{event}  {_line(medium)}")


def _line(m: Medium) -> str:
    notes = ", ".join(filter(None, ("write-protected" if m.is_write_protected else "", m.in_use)))
    line = f"{m.tag}  {m.name:28} {binary(m.size):>9}  {m.reader}  {m.path}"
    return f"{line}  ({notes})" if notes else line


def _medium_record(m: Medium) -> dict[str, Any]:
    return {"name": m.name, "tag": m.tag, "path": str(m.path), "size": m.size, "source": str(m.source),
            "model": m.model, "serial": m.serial, "reader": m.reader, "removable": m.is_removable,
            "write_protected": m.is_write_protected, "in_use": m.in_use or None}


COMMANDS: dict[str, click.Command] = {command.name or "": command for command in (slots, unmount, eject)}
