"""A change of files that is tried out on a view: what it leaves, and whether it can be at all."""

from __future__ import annotations

from collections.abc import Callable

from mosscrate.core.blocks import Blocks, Overlay
from mosscrate.core.contents.layout import PartitionLook
from mosscrate.core.contents.survey import look_into
from mosscrate.core.errors import FitError
from mosscrate.core.maps import Partition
from mosscrate.core.sheet.sights import Sight, editor_of
from mosscrate.core.volumes import Editor


def tried_out(partition: Partition, view: Blocks, name: str, change: Callable[[Editor], object]) -> PartitionLook:
    """A partition after a change that was made on a view of it. Raises FitError."""
    editor = editor_of(view, name)
    change(editor)
    editor.commit()
    return look_into(partition, view)


def names_after(card: Sight, index: int, name: str, change: Callable[[Editor], object]) -> dict[int, Overlay]:
    """{number: a view with the names once files have changed}, where only names are known; {} where not even these.

    What does not fit there may fit by then: the view has the size that the volume had before.
    """
    view = card.likely(index) if card.is_planned else None
    if view is None:
        return {}
    try:
        editor = editor_of(view, name)
        change(editor)
        editor.commit()
    except FitError:
        return {}
    return {index: view}
