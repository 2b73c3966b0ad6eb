"""The command line: the same abilities as the window, for a shell and for scripts."""

from mosscrate.cli.app import main

__all__ = ["main"]
