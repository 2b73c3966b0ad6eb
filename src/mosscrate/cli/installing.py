"""The program in the menu of a desktop, and its completions in the shells of a user: put there, and taken away."""

from __future__ import annotations

import shutil
import sys
from collections.abc import Iterator
from importlib.resources import as_file, files
from pathlib import Path

import click
from click.shell_completion import get_completion_class
from platformdirs import user_config_path, user_data_path

from mosscrate.cli.speaking import json_option, say, show_json
from mosscrate.core.durable import write_whole
from mosscrate.core.errors import MediumError

NAME, WINDOW = "mosscrate", "mosscrate-desk"
SHELLS = {"bash": "bash-completion/completions/mosscrate", "zsh": "zsh/site-functions/_mosscrate",
          "fish": "fish/completions/mosscrate.fish"}       # places below the folders that follow


@click.command("install-desktop")
@click.option("--remove", is_flag=True, help="Take all of it away again.")
@json_option
def install_desktop(remove: bool, as_json: bool) -> None:
    """Put the program into your desktop's menu, and its completions into your shells.

    \b
    mosscrate install-desktop
    mosscrate install-desktop --remove
    """
    done = list(_removed() if remove else _installed())
    if as_json:
        show_json({"removed" if remove else "made": [str(path) for path in done]})
        return
    for path in done:
        say(f"{'removed' if remove else 'made'}  {path}")
    if remove:
        say("Moss Crate is out of your menu. The program and your backups are still there." if done
            else "Nothing of it was there.")
    else:
        say("Moss Crate is in your menu; a desktop that was open may show it after the next login.")


def _installed() -> Iterator[Path]:
    window = shutil.which(WINDOW) or str(Path(sys.executable).with_name(WINDOW))
    if not Path(window).exists():
        raise MediumError(f"{WINDOW} was not found beside {sys.executable}: install the program first, for example "
                          "with pip install 'mosscrate[desk]'. Nothing was changed.")
    for place, text in _all():
        place.parent.mkdir(parents=True, exist_ok=True)
        write_whole(place, text.replace(f"Exec={WINDOW}", f"Exec={_in_entry(window)}").encode())
        yield place


def _removed() -> Iterator[Path]:
    for place, _ in _all():
        if place.exists():
            place.unlink()
            yield place


def _all() -> Iterator[tuple[Path, str]]:
    """Where each file goes, and what stands in it."""
    data = user_data_path()
    with as_file(files(NAME) / "share") as share:
        for path in sorted(share.rglob("*")):
            if path.is_file():
                yield data / path.relative_to(share), path.read_text("utf-8")
    for shell, place in SHELLS.items():
        completion = get_completion_class(shell)
        assert completion is not None, "click knows it"
        made = completion(click.Command(NAME), {}, NAME, f"_{NAME.upper()}_COMPLETE")
        yield (user_config_path() if shell == "fish" else data) / place, made.source()


def _in_entry(program: str) -> str:
    """A path as the entry of a menu has it: quoted where it holds more than plain letters."""
    plain = all(letter.isalnum() or letter in "/._-+" for letter in program)
    quoted = program
    for letter in '\\"`$':
        quoted = quoted.replace(letter, f"\\{letter}")
    return program if plain else '"' + quoted.replace("\\", "\\\\").replace("%", "%%") + '"'


COMMANDS = {"install-desktop": install_desktop}
