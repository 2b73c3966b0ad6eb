"""The root command: the bench that every command works on, errors and exit codes."""

from __future__ import annotations

import logging
import signal
import sys
from contextlib import suppress
from importlib import import_module
from pathlib import Path
from types import FrameType
from typing import NoReturn

import click

from mosscrate import __version__
from mosscrate.cli.registry import COMMANDS, GROUPS
from mosscrate.cli.speaking import FOLDER, program, say, show_json
from mosscrate.core.collecting import collect_seldom
from mosscrate.core.errors import BY_SIGNAL, EXIT_FAILED, EXIT_STOPPED, MossError


class _Commands(click.Group):
    """Loads a command when it is called."""

    def list_commands(self, ctx: click.Context) -> list[str]:
        return [entry.name for entry in COMMANDS]

    def get_command(self, ctx: click.Context, cmd_name: str) -> click.Command | None:
        entry = next((entry for entry in COMMANDS if entry.name == cmd_name), None)
        if entry is None:
            return None
        found: dict[str, click.Command] = import_module(f"mosscrate.cli.{entry.module}").COMMANDS
        return found[cmd_name]

    def format_commands(self, ctx: click.Context, formatter: click.HelpFormatter) -> None:
        for group in GROUPS:
            with formatter.section(group.title):
                formatter.write_dl([(entry.name, entry.help) for entry in group.entries])


class _BesideTheWork(logging.FileHandler):
    """A log that cannot be opened, on a full disk or in a folder that is gone, is no reason to end anything."""

    def emit(self, record: logging.LogRecord) -> None:
        with suppress(OSError):
            super().emit(record)


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

    Exit status: 0 done, 1 could not be done, 2 wrong usage, 3 the guard refused, 130 stopped,
    143 ended by the system.
    """
    from mosscrate.core.sheet.bench import standard_bench

    ctx.obj = standard_bench(slots=slots, crate=crate, state=state)
    _start_log(ctx.obj.state / "mosscrate.log")


def main() -> NoReturn:
    """Run, and turn errors into a sentence and an exit status."""
    collect_seldom()
    signal.signal(signal.SIGTERM, _end)
    try:
        code = root(prog_name=program(), standalone_mode=False)
        sys.exit(code if isinstance(code, int) else 0)
    except click.exceptions.Exit as done:
        sys.exit(done.exit_code)
    except click.ClickException as error:
        if "--json" in sys.argv:
            _complain(error.format_message())
        else:
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
                  f"changed, “{program()} sheet log” says how its job stands. The whole story is in the log"
                  f"{_log_place()}.")
        sys.exit(EXIT_FAILED)


def _end(number: int, frame: FrameType | None) -> NoReturn:
    """The system asks it to end: what was begun is let go in order, as at Ctrl+C."""
    sys.exit(BY_SIGNAL + number)


def _start_log(path: Path) -> None:
    """What goes wrong inside is noted in a file, which is only made then."""
    handler = _BesideTheWork(path, delay=True)
    handler.setFormatter(logging.Formatter("%(asctime)s %(levelname)s %(name)s: %(message)s"))
    logging.getLogger("mosscrate").addHandler(handler)
    logging.getLogger("mosscrate").propagate = False
    logging.raiseExceptions = False                      # a full disk is no reason for another traceback


def _log_place() -> str:
    handlers = logging.getLogger("mosscrate").handlers
    return f" {handlers[0].baseFilename}" if handlers and isinstance(handlers[0], logging.FileHandler) else ""


def _complain(sentence: str) -> None:
    if "--json" in sys.argv:
        show_json({"error": sentence}, err=True)
    else:
        say(f"mosscrate: {sentence}", err=True)
