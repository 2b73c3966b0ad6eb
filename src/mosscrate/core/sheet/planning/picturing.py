"""What has to be scaled and fetched before a filling has all its pictures; done beside the rest, and never twice."""

from __future__ import annotations

from collections import defaultdict

from mosscrate.core.fill.bringing import Brought
from mosscrate.core.fill.companions import pictures_of
from mosscrate.core.fill.pictures.gallery import Gallery
from mosscrate.core.fill.pictures.gathering import fetch
from mosscrate.core.fill.pictures.scaling import Fit
from mosscrate.core.fill.placed import Sorted
from mosscrate.core.fill.plans import FolderPlan
from mosscrate.core.sizes import counted
from mosscrate.core.watch import Watch


def scale_waiting(plan: FolderPlan, found: Sorted, gallery: Gallery, watch: Watch) -> str:
    """Scale the pictures that a filling waits for; says how it went. Raises MediumError, Stopped."""
    by_fit, done = defaultdict[Fit, list[Brought]](list), 0
    for picture in found.waiting:
        by_fit[Fit.of(pictures_of(plan, picture.system))].append(picture)
    for fit, pictures in by_fit.items():
        done += gallery.make(pictures, fit, watch)
    failed = len(found.waiting) - done
    left = f" {failed} cannot be read and stay out." if failed else ""
    return f"{counted(done, 'picture')} scaled.{left}"


def fetch_missing(plan: FolderPlan, found: Sorted, address: str, gallery: Gallery, watch: Watch) -> str:
    """Ask a picture server for the games that have none; says how it went. Raises MediumError, Stopped."""
    width = max((pictures_of(plan, game.system).width for game in found.bare), default=0)
    return fetch(address, found.bare, gallery, watch, width=width).sentence
