"""The window: stations in the order of the work, over the same core as the command line.

Widgets are thin; what they show is computed by Qt-free modules beside them.
"""

from __future__ import annotations

import sys
from importlib.util import find_spec


def main() -> None:
    """Open the window; Qt is only loaded here, and only the window needs it."""
    if find_spec("PyQt6") is None:
        sys.exit("mosscrate: the window needs PyQt6, which is not installed: pip install “mosscrate[desk]”. "
                 "The command line works without it.")
    from mosscrate.desk.app import main as run

    run()
