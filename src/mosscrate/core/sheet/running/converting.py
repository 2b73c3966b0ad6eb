"""A new image made from a medium: its bytes swapped, one of its partitions, or all of them below another map."""

from __future__ import annotations

import os
from contextlib import ExitStack
from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path
from typing import BinaryIO

from mosscrate.core.blocks import Blocks, begun_image
from mosscrate.core.blocks.swapped import SwappedBlocks
from mosscrate.core.contents import Layout, describe, survey
from mosscrate.core.contents.survey import whole_partition
from mosscrate.core.contents.unpacking import confirm_packed, in_full, read_through
from mosscrate.core.contents.used import used_only
from mosscrate.core.crate import CardRecord
from mosscrate.core.errors import FitError, MediumError
from mosscrate.core.images.drive_file import Facts
from mosscrate.core.images.making import kind_of, save
from mosscrate.core.maps import MapKind, map_format
from mosscrate.core.new_file import must_be_new, new_file
from mosscrate.core.sheet.planning.forecasting import forecast
from mosscrate.core.sheet.planning.passing import shortened, together
from mosscrate.core.sheet.planning.propose import under_another_map
from mosscrate.core.sheet.running.performing import perform
from mosscrate.core.sheet.sheet import JobSheet
from mosscrate.core.sheet.steps.shared.whole import must_be_whole
from mosscrate.core.sizes import MIB, binary, counted
from mosscrate.core.watch import Watch

SPARE = 16 * MIB                        # for the map itself, and for partitions rounded up to its grid


@dataclass(frozen=True)
class Conversion:
    """What is wanted.

    Attributes:
        partition: one of the source, as a bare volume; None for all of it.
        under: the kind of map that all partitions come below; None keeps what is there.
        size: bytes of the image below another map; None takes what is needed.
        is_swapped: whether the two bytes of every word are exchanged.
        kind: of the file, by a key of `images.making.KINDS`.
        used_only: whether what is left in free room is left out.
        about: the card, where that is known.
        made_at: ISO 8601; when a drive file was made, now where it is left out.
    """

    partition: int | None = None
    under: MapKind | None = None
    size: int | None = None
    is_swapped: bool = False
    kind: str = "raw"
    used_only: bool = False
    about: CardRecord | None = None
    made_at: str = ""


def convert_to(path: Path, source: Blocks, wanted: Conversion, watch: Watch) -> str:
    """Make the image; returns a sentence. Raises FitError, MediumError; what was half made is removed again.

    Damaged among them: also one partition is only whole where the checksums of what it is packed in agree.
    """
    must_be_new(path)
    return in_full(source, lambda: _convert_to(path, source, wanted, watch))


def _convert_to(path: Path, source: Blocks, wanted: Conversion, watch: Watch) -> str:
    layout = survey(source)
    if wanted.partition is None:
        must_be_whole(layout)
    with new_file(path) as part:
        if wanted.under:
            part_of = source if wanted.partition is None else whole_partition(source, wanted.partition)
            sentence = _laid_out(part, part_of, wanted, watch)
        else:
            sentence = _saved(part, source, layout, wanted, watch)
        confirm_packed(source)
    return f"{path.name}: {sentence}"


def convert_in_order(file: BinaryIO, source: Blocks, wanted: Conversion, watch: Watch) -> None:
    """Write the same to a pipe. Raises FitError for a kind that has to look back, MediumError."""
    kind = kind_of(wanted.kind)
    if wanted.under or kind.write is None:
        raise FitError(f"{kind.words.capitalize()}s cannot be written to a pipe. Name a file instead.")
    layout = survey(source) if source.has_end else read_through(source, watch)      # a pipe cannot be begun again
    if wanted.partition is None:
        must_be_whole(layout)
    blocks = _view(source, layout, wanted)
    try:
        kind.write(blocks, file, _facts(blocks, layout, wanted), watch)
        confirm_packed(source)
    except OSError as error:
        raise MediumError(f"The pipe cannot be written: {os.strerror(error.errno or 0)}.") from error


def _view(source: Blocks, layout: Layout, wanted: Conversion) -> Blocks:
    """What is saved of a source."""
    view = used_only(source, layout) if wanted.used_only else source
    if wanted.partition is not None:
        view = whole_partition(view, wanted.partition)
    return SwappedBlocks(view) if wanted.is_swapped else view


def _saved(path: Path, source: Blocks, layout: Layout, wanted: Conversion, watch: Watch) -> str:
    """All of it in a file of a kind, read back once it is written."""
    view = _view(source, layout, wanted)
    said = save(kind_of(wanted.kind), view, path, _facts(view, layout, wanted), watch)
    notes = (", its bytes swapped" if wanted.is_swapped else "") + (
        ", free room left out" if wanted.used_only else "")
    return said.replace(", read back", f"{notes}, read back")


def _facts(view: Blocks, layout: Layout, wanted: Conversion) -> Facts:
    """What a drive file notes."""
    heads, sectors = map_format(layout.map_kind).geometry(layout.as_map) if wanted.partition is None else (0, 0)
    track = heads * sectors * layout.sector
    made_at = wanted.made_at or datetime.now(UTC).isoformat(timespec="seconds")
    return Facts(wanted.about.name if wanted.about else view.name, view.size, layout.sector,
                 view.size // track if track else 0, heads, sectors,
                 wanted.about.model if wanted.about else "", wanted.about.serial if wanted.about else "",
                 wanted.about.key if wanted.about else "", made_at, wanted.used_only,
                 describe(layout) if wanted.partition is None else {})


def _laid_out(path: Path, source: Blocks, wanted: Conversion, watch: Watch) -> str:
    """Every partition below another map, by the steps of a sheet."""
    assert wanted.under is not None, "a map is wanted"
    layout = survey(source)
    steps = under_another_map(layout, wanted.under)
    with ExitStack() as opened:
        image = opened.enter_context(begun_image(path, wanted.size or _needed(layout)))
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
