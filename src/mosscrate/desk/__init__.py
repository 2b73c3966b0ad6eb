"""The window: stations in the order of the work, over the same core as the command line.

Widgets are thin; what they show is computed by Qt-free modules beside them.
"""

from __future__ import annotations


def main() -> None:
    """Open the window; Qt is only loaded here."""
    from mosscrate.desk.app import main as run

    run()
