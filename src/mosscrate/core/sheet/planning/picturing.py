"""What has to be scaled and fetched before a filling has all its pictures; done beside the rest, and never twice."""

from __future__ import annotations

from collections import defaultdict
from contextlib import ExitStack
from dataclasses import replace

from mosscrate.core.contents.survey import open_partition
from mosscrate.core.errors import MediumError
from mosscrate.core.fill.bringing import Brought
from mosscrate.core.fill.companions import pictures_of
from mosscrate.core.fill.origins import OnCard
from mosscrate.core.fill.pictures.gallery import Gallery
from mosscrate.core.fill.pictures.gathering import fetch
from mosscrate.core.fill.pictures.scaling import Fit
from mosscrate.core.fill.placed import Sorted
from mosscrate.core.fill.plans import FolderPlan
from mosscrate.core.sizes import counted
from mosscrate.core.slots import Medium
from mosscrate.core.volumes import Volume
from mosscrate.core.watch import Watch


def scale_waiting(plan: FolderPlan, found: Sorted, gallery: Gallery, watch: Watch,
                  source: Medium | None = None) -> str:
    """Scale the pictures that a filling waits for; says how it went. Raises MediumError, FormatError, Stopped.

    `source` is the card that is brought in from, where one is: it is opened again.
    """
    by_fit, done = defaultdict[Fit, list[Brought]](list), 0
    with ExitStack() as open_:
        volumes = dict[int, Volume]()
        blocks = open_.enter_context(source.open()) if source is not None else None
        for picture in found.waiting:
            own = picture
            if isinstance(picture.origin, OnCard) and blocks is not None:
                home = picture.origin.home
                volumes[home] = volumes.get(home) or open_partition(blocks, home)
                own = replace(picture, origin=replace(picture.origin, volume=volumes[home]))
            by_fit[Fit.of(pictures_of(plan, picture.system))].append(own)
        for fit, pictures in by_fit.items():
            done += gallery.make(pictures, fit, watch)
    failed = len(found.waiting) - done
    left = f" {failed} cannot be read and stay out." if failed else ""
    return f"{counted(done, 'picture')} scaled.{left}"


def fetch_missing(plan: FolderPlan, found: Sorted, address: str, gallery: Gallery, watch: Watch) -> str:
    """Ask a picture server for the games that have none; says how it went. Raises Stopped.

    Games never wait for a server: where it fails they come without pictures.
    """
    width = max((pictures_of(plan, game.system).width for game in found.bare), default=0)
    try:
        return fetch(address, found.bare, gallery, watch, width=width).sentence
    except MediumError as error:
        return f"{error} Games come without the pictures that are missing."
