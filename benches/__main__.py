"""Runs every bench and prints its figure beside its goal; exit status 1 when one misses it."""

from __future__ import annotations

import argparse
import sys
import tempfile
from pathlib import Path

from benches import (
    crating,
    devices,
    filling,
    growing,
    keeping,
    listing,
    packing,
    proving,
    rescuing,
    vintage,
    volumes,
    window,
)
from benches.figure import Figure
from mosscrate.core.collecting import collect_seldom

BENCHES = {"keep": keeping.figures, "crate": crating.figures, "grow": growing.figures, "list": listing.figures,
           "volumes": volumes.figures, "vintage": vintage.figures, "packing": packing.figures,
           "proof": proving.figures, "rescue": rescuing.figures, "devices": devices.figures, "fill": filling.figures,
           "window": window.figures}


def main() -> int:
    parser = argparse.ArgumentParser(prog="moss bench", description=__doc__)
    parser.add_argument("benches", nargs="*", choices=[*BENCHES, []], help="which; all when left out")
    parser.add_argument("--folder", type=Path, default=Path(), help="a folder on the disk to measure")
    options = parser.parse_args()
    figures: list[Figure] = []
    collect_seldom()
    with tempfile.TemporaryDirectory(prefix=".bench-", dir=options.folder) as folder:
        for name in options.benches or BENCHES:
            own = Path(folder) / name                    # what one leaves behind is not in the way of the next
            own.mkdir()
            for figure in BENCHES[name](own):
                print(figure.line, flush=True)
                figures.append(figure)
    return 0 if all(f.is_met for f in figures) else 1


if __name__ == "__main__":
    sys.exit(main())
