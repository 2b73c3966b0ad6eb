"""The root command: the bench that every command works on, errors and exit codes."""

from __future__ import annotations

import json
import logging
import sys
from pathlib import Path
from typing import NoReturn

import click

from mosscrate import __version__
from mosscrate.cli import arranging, commands, converting, filing, sheets
from mosscrate.cli.speaking import FOLDER
from mosscrate.core.errors import EXIT_FAILED, EXIT_STOPPED, MossError
from mosscrate.core.sheet.bench import standard_bench


class _Commands(click.Group):
    """Lists commands in the order of the work, not of the alphabet."""

    ORDER = ("slots", "look", "files", "get", "put", "rename", "remove", "folder", "traits", "keep", "crate", "write",
             "convert", "floppy", "image", "sheet", "machines", "demo")

    def list_commands(self, ctx: click.Context) -> list[str]:
        return [name for name in self.ORDER if name in self.commands]


@click.group(cls=_Commands, context_settings={"help_option_names": ["-h", "--help"], "max_content_width": 100})
@click.version_option(__version__, prog_name="mosscrate")
@click.option("--slots", type=FOLDER, help="Folder of simulated cards ($MOSSCRATE_SLOTS).")
@click.option("--crate", type=FOLDER, help="Where backups are kept ($MOSSCRATE_CRATE).")
@click.option("--state", type=FOLDER, help="Where journals and the log lie ($MOSSCRATE_STATE).")
@click.pass_context
def root(ctx: click.Context, slots: Path | None, crate: Path | None, state: Path | None) -> None:
    """One bench for the storage of handhelds, vintage computers and arcade boards.

    MEDIUM is an image file, a device, or the name or tag of a card that `slots` lists.
    Nothing is written to a card unless its tag is given with --tag.

    \b
    mosscrate slots                                what is at hand
    mosscrate look card.img                        what is on it
    mosscrate keep card.img                        keep it in the crate
    mosscrate sheet plan OLD NEW --out move.json   plan a move onto a larger card
    mosscrate sheet rehearse move.json
    mosscrate sheet run move.json --tag ABCD

    Exit status: 0 done, 1 could not be done, 2 wrong usage, 3 the guard refused, 130 stopped.
    """
    ctx.obj = standard_bench(slots=slots, crate=crate, state=state)
    _start_log(ctx.obj.state / "mosscrate.log")


def main() -> NoReturn:
    """Run, and turn errors into a sentence and an exit status."""
    for command in (*commands.COMMANDS, *filing.COMMANDS, *converting.COMMANDS, *sheets.COMMANDS):
        root.add_command(command)
    for command in arranging.COMMANDS:
        sheets.sheet.add_command(command)
    try:
        code = root(standalone_mode=False)
        sys.exit(code if isinstance(code, int) else 0)
    except click.exceptions.Exit as done:
        sys.exit(done.exit_code)
    except click.ClickException as error:
        error.show()
        sys.exit(error.exit_code)
    except (click.Abort, KeyboardInterrupt):
        _complain("Stopped.")
        sys.exit(EXIT_STOPPED)
    except BrokenPipeError:
        sys.stderr.close()
        sys.exit(1)
    except MossError as error:
        _complain(str(error))
        sys.exit(error.exit_code)
    except Exception as error:
        logging.getLogger("mosscrate").exception("unexpected error")
        _complain(f"Something went wrong inside the program ({type(error).__name__}: {error}). If a card was being "
                  "changed, “mosscrate sheet log” says how its job stands. The whole story is in the log"
                  f"{_log_place()}.")
        sys.exit(EXIT_FAILED)


def _start_log(path: Path) -> None:
    """What goes wrong inside is noted in a file, which is only made then."""
    handler = logging.FileHandler(path, delay=True)
    handler.setFormatter(logging.Formatter("%(asctime)s %(levelname)s %(name)s: %(message)s"))
    logging.getLogger("mosscrate").addHandler(handler)
    logging.getLogger("mosscrate").propagate = False
    logging.raiseExceptions = False                      # a full disk is no reason for another traceback


def _log_place() -> str:
    handlers = logging.getLogger("mosscrate").handlers
    return f" {handlers[0].baseFilename}" if handlers and isinstance(handlers[0], logging.FileHandler) else ""


def _complain(sentence: str) -> None:
    if "--json" in sys.argv:
        click.echo(json.dumps({"error": sentence}, ensure_ascii=False), err=True)
    else:
        click.echo(f"mosscrate: {sentence}", err=True)
