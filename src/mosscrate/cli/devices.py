"""crate device: what is on a running device, reached over SFTP."""

from __future__ import annotations

import getpass
import sys
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

import click

from mosscrate.cli.progress import watching
from mosscrate.cli.speaking import json_option, say, show_json
from mosscrate.core.crate.library import files_in
from mosscrate.core.crate.parts import KINDS_BY_WORD, Choice
from mosscrate.core.devices import Address, Device, KnownDevices, NeedsPassword, UnknownHost
from mosscrate.core.devices.giving_back import give_back
from mosscrate.core.devices.keeping import keep_device
from mosscrate.core.errors import CrateError
from mosscrate.core.sheet.bench import Bench

TRUST = click.option("--trust", default="", help="Trust the host key with this fingerprint; compare it first.")
KEY = click.option("--key", type=click.Path(path_type=Path), help="File of a private key; else one of yours.")


@click.group(invoke_without_command=True)
@json_option
@click.pass_context
def device(context: click.Context, as_json: bool) -> None:
    """Keep what is on a running device over SFTP, and bring it back; ADDRESS is sftp://user@host/folder.

    Without a command: the devices that were used here. A password is asked for where no key opens the device; it is
    not kept.
    """
    if context.invoked_subcommand is None:
        addresses = KnownDevices.of(context.obj.state).addresses()
        if as_json:
            show_json(addresses)
        for address in addresses if not as_json else ():
            say(address)
        if not addresses and not as_json:
            say("No device was used here yet. “crate device keep sftp://user@host/folder” keeps one.")


@device.command()
@click.argument("address")
@click.option("--only", "kinds", multiple=True, type=click.Choice(sorted(KINDS_BY_WORD)),
              help="Only files of this kind; may be given several times.")
@click.option("--folder", "folders", multiple=True, help="Only what is in this folder; may be given several times.")
@click.option("--anew", is_flag=True, help="Fetch also what has the name, size and time of what is kept.")
@TRUST
@KEY
@json_option
@click.pass_obj
def keep(bench: Bench, address: str, kinds: tuple[str, ...], folders: tuple[str, ...], anew: bool, trust: str,
         key: Path | None, as_json: bool) -> None:
    """Keep the files of a device; of what is kept already nothing is fetched again."""
    choice = Choice(tuple(KINDS_BY_WORD[kind] for kind in kinds), folders)
    with connected(bench, address, trust, key) as there, watching() as watch:
        kept = keep_device(bench.crate, there, choice, watch, anew=anew)
    if as_json:
        show_json({"image": str(kept.backup.path), "id": kept.backup.id, "kept": kept.backup.chosen,
                   "fetched": kept.fetched, "changed": kept.changed})
    else:
        say(f"{kept.sentence} {kept.backup.path}")


@device.command()
@click.argument("backup")
@click.argument("address")
@click.option("--path", default="", help="Only this file, or what is in this folder.")
@TRUST
@KEY
@json_option
@click.pass_obj
def bring(bench: Bench, backup: str, address: str, path: str, trust: str, key: Path | None, as_json: bool) -> None:
    """Bring the files of a BACKUP back onto the device at ADDRESS; what is there stays under dated names."""
    found = bench.crate.find(backup)
    wanted = path.strip("/").casefold()
    files = [f for f in files_in(found) if not wanted or f.path.casefold() == wanted
             or f.path.casefold().startswith(f"{wanted}/")]
    if not files:
        raise CrateError(f"There is no “{path}” in the backup {found.path.stem}. Nothing was changed.")
    with connected(bench, address, trust, key) as there, watching() as watch:
        given = give_back(files, there, watch)
    show_json({"written": given.written, "equal": given.equal, "beside": given.beside, "sentence": given.sentence}) \
        if as_json else say(given.sentence)


@device.command()
@click.argument("address")
@click.pass_obj
def forget(bench: Bench, address: str) -> None:
    """Forget a device and its host key; what was kept of it stays."""
    where = Address.parse(address, user=getpass.getuser())
    KnownDevices.of(bench.state).forget(where.server, str(where))
    say(f"{where.host} is forgotten; its key is shown again before it is spoken to.")


@contextmanager
def connected(bench: Bench, text: str, trust: str, key: Path | None) -> Iterator[Device]:
    """The device, once its server is trusted and lets the person in."""
    address, known = Address.parse(text, user=getpass.getuser()), KnownDevices.of(bench.state)
    with _let_in(address, known, trust, [str(key)] if key else None) as there:
        known.used(str(address))
        yield there


def _let_in(address: Address, known: KnownDevices, trust: str, keys: list[str] | None, password: str = "") -> Device:
    """Connect; what the person must say to that is asked for, once."""
    there = Device(address, known, password=password, keys=keys)
    try:
        there.connect()
    except UnknownHost as unknown:
        there.close()
        if trust != unknown.fingerprint and not _says_yes(f"{unknown} Trust it?"):
            raise
        known.trust(address.server, unknown.key)
        return _let_in(address, known, trust, keys, password)
    except NeedsPassword:
        there.close()
        asked = "" if password else _password(address)
        if not asked:
            raise
        return _let_in(address, known, trust, [], asked)
    except BaseException:
        there.close()
        raise
    return there


def _says_yes(question: str) -> bool:
    return sys.stdin.isatty() and click.confirm(question, err=True)


def _password(address: Address) -> str:
    """Asked for at a terminal; else the first line that comes in."""
    if sys.stdin.isatty():
        return str(click.prompt(f"Password of {address.user} on {address.host}", hide_input=True, err=True))
    return sys.stdin.readline().rstrip("\n")
