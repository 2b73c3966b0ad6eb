"""What the window is started with. Read before Qt is, which ends the program where there is no display."""

from __future__ import annotations

import argparse
import os
import sys
from collections.abc import Mapping

NO_DISPLAY = ("mosscrate: There is no display here to open a window on. The command line works without one: mosscrate "
              "--help. The made-up bench is built without a window by “mosscrate demo --headless”.")
DISPLAYS = ("DISPLAY", "WAYLAND_DISPLAY", "QT_QPA_PLATFORM")


class Arguments(argparse.Namespace):
    """Image files to open, and whose bench the window shows."""

    images: list[str]
    demo: bool
    folder: str
    theme: str


def read_arguments(words: list[str]) -> Arguments:
    """Ends the program where help is wanted, where they are wrong, or where there is no display."""
    parser = argparse.ArgumentParser(prog="mosscrate-desk", description="The window: one bench for cards, drives and "
                                                                        "images.")
    parser.add_argument("images", nargs="*", metavar="IMAGE", help="image files to open")
    parser.add_argument("--demo", action="store_true", help="open the made-up Heron Lane bench")
    parser.add_argument("--folder", default="", help="where the made-up bench lies")
    parser.add_argument("--theme", choices=("desktop", "dark", "light"),
                        default=os.environ.get("MOSSCRATE_THEME", "desktop"), help="colours of the window")
    found = parser.parse_args(words, Arguments())
    if not has_display(os.environ):
        sys.exit(NO_DISPLAY)
    return found


def has_display(environment: Mapping[str, str]) -> bool:
    """Whether Qt is told of any display."""
    return any(environment.get(name) for name in DISPLAYS)
