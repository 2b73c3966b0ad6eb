"""A new image made from a medium: its bytes swapped, one of its partitions, or all of them below another map."""

from __future__ import annotations

import os
from contextlib import ExitStack
from dataclasses import dataclass
from pathlib import Path

from mosscrate.core.blocks import Blocks, create_image
from mosscrate.core.blocks.streaming import copy, digest
from mosscrate.core.blocks.swapped import SwappedBlocks
from mosscrate.core.contents import Layout, survey
from mosscrate.core.contents.fresh_images import must_be_new
from mosscrate.core.contents.survey import whole_partition
from mosscrate.core.errors import FitError, JobError, MossError
from mosscrate.core.images import disk_in, open_image
from mosscrate.core.images.vhd_making import dynamic_size, fixed_size, write_dynamic, write_fixed
from mosscrate.core.maps import MapKind
from mosscrate.core.sheet.planning.forecasting import forecast
from mosscrate.core.sheet.planning.passing import shortened, together
from mosscrate.core.sheet.planning.propose import under_another_map
from mosscrate.core.sheet.running.performing import perform
from mosscrate.core.sheet.sheet import JobSheet
from mosscrate.core.sheet.steps.shared.whole import must_be_whole
from mosscrate.core.sizes import MIB, binary, counted
from mosscrate.core.watch import Watch

KINDS = ("raw", "vhd", "vhd-fixed")
SPARE = 16 * MIB                        # for the map itself, and for partitions rounded up to its grid


@dataclass(frozen=True)
class Conversion:
    """What is wanted.

    Attributes:
        partition: one of the source, as a bare volume; None for all of it.
        under: the kind of map that all partitions come below; None keeps what is there.
        size: bytes of the image below another map; None takes what is needed.
        is_swapped: whether the two bytes of every word are exchanged.
        kind: of the file: raw, vhd (only what holds something), vhd-fixed.
    """

    partition: int | None = None
    under: MapKind | None = None
    size: int | None = None
    is_swapped: bool = False
    kind: str = "raw"


def convert_to(path: Path, source: Blocks, wanted: Conversion, watch: Watch) -> str:
    """Make the image; returns a sentence. Raises FitError, MediumError; what was half made is removed again."""
    must_be_new(path)
    layout = survey(source)
    if wanted.partition is None:
        must_be_whole(layout)
    part = path.with_name(path.name + ".part")
    if wanted.partition is not None:
        source = whole_partition(source, wanted.partition)
    try:
        sentence = _laid_out(part, source, wanted, watch) if wanted.under else _copied(part, source, wanted, watch)
    except MossError:
        part.unlink(missing_ok=True)
        raise
    part.rename(path)
    return f"{path.name}: {sentence}"


def _copied(path: Path, source: Blocks, wanted: Conversion, watch: Watch) -> str:
    """The same bytes, or swapped ones, read back once they are written."""
    view = SwappedBlocks(source) if wanted.is_swapped else source
    if wanted.kind != "raw":
        return _contained(path, view, wanted, watch)
    with create_image(path, view.size) as image:
        copied = copy(view, image, view.size, watch, phase="Writing the image")
        image.flush()
        image.drop_cache()
        if digest(image, view.size, watch, phase="Reading it back") != copied.digest:
            raise JobError(f"{path} does not read back as it was written; its disk may be failing.")
    return f"{binary(view.size)}{', its bytes swapped' if wanted.is_swapped else ''}, read back and equal."


def _contained(path: Path, source: Blocks, wanted: Conversion, watch: Watch) -> str:
    """The disk in a file of another format, read back through it."""
    is_fixed = wanted.kind == "vhd-fixed"
    with create_image(path, fixed_size(source) if is_fixed else dynamic_size(source)) as image:
        if is_fixed:
            written, length = write_fixed(source, image, watch), image.size
        else:
            written, length = write_dynamic(source, image, watch)
        image.flush()
        os.truncate(path, length)
    with disk_in(open_image(path)) as disk:
        disk.drop_cache()
        if digest(disk, source.size, watch, phase="Reading it back") != written:
            raise JobError(f"{path} does not read back as it was written; its disk may be failing.")
    swapped = ", its bytes swapped" if wanted.is_swapped else ""
    return f"{binary(source.size)} in a VHD file of {binary(length)}{swapped}, read back and equal."


def _laid_out(path: Path, source: Blocks, wanted: Conversion, watch: Watch) -> str:
    """Every partition below another map, by the steps of a sheet."""
    assert wanted.under is not None, "a map is wanted"
    layout = survey(source)
    steps = under_another_map(layout, wanted.under)
    with ExitStack() as opened:
        image = opened.enter_context(create_image(path, wanted.size or _needed(layout)))
        view = SwappedBlocks(image) if wanted.is_swapped else image
        seen = forecast(JobSheet(steps), layout, survey(view), source_blocks=source, target_blocks=view)
        if seen.problems:
            raise FitError(seen.problems[0].sentence)
        for step in seen.settled:
            perform(step, view, source, watch)
        view.flush()
        made = survey(view)
    said = "".join(f" {f.sentence}" for f in shortened(together(seen), 2))
    return f"{counted(len(made.partitions), 'partition')} below {wanted.under.upper()}, {binary(image.size)}.{said}"


def _needed(layout: Layout) -> int:
    """Bytes in which all partitions find room below any map. Raises FitError where there are none."""
    if not layout.partitions:
        raise FitError("There is no partition that could be brought below another map.")
    total = sum(p.partition.length for p in layout.partitions)
    return -(-(total + len(layout.partitions) * SPARE // 4 + SPARE) // MIB) * MIB
