"""A volume made anew with the files of an old one: what that will be, and doing it."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, replace

from mosscrate.core.blocks import Blocks, Extent, Overlay, Window
from mosscrate.core.contents.fresh import fresh_view, fresh_volume
from mosscrate.core.contents.layout import PartitionLook, VolumeLook
from mosscrate.core.contents.needs import room_for
from mosscrate.core.contents.transfer import Passage, copy_tree, hollow, must_fit, plan_passage
from mosscrate.core.errors import FitError
from mosscrate.core.maps import Partition
from mosscrate.core.sheet.sights import Sight
from mosscrate.core.sheet.steps.shared.holding import tell_contradictions
from mosscrate.core.sheet.steps.shared.likeness import with_boot_code
from mosscrate.core.sheet.steps.shared.moving import PIECE
from mosscrate.core.sheet.steps.shared.trying import tried_out
from mosscrate.core.sizes import binary
from mosscrate.core.volumes import Editor, Facts, Making, Volume, edit, facts_for, format_for
from mosscrate.core.watch import Watch


@dataclass(frozen=True)
class Anew:
    """What becomes of a partition whose volume is made anew; `view` is one that was tried out, its files hollow."""

    look: PartitionLook
    making: Making
    passage: Passage | None
    view: Blocks | None = None

    @property
    def bytes(self) -> dict[int, Blocks]:
        """See Decision."""
        return {} if self.view is None else {self.look.index: self.view}


def made_anew(look: PartitionLook, partition: Partition, making: Making, files: Volume | None, card: Sight) -> Anew:
    """Plan it. Raises FitError where the files do not fit, or would lose what cannot be had again.

    Args:
        look: the old volume on its partition.
        partition: where the new one will be.
        making: of the new one.
        files: the old volume, where more than its look is at hand.
        card: that takes it.
    """
    old, facts = look.volume, facts_for(making.kind)
    if old is None or old.used is None:
        raise FitError(f"{look.name} cannot be made anew: {look.role_reason}.")
    fresh = fresh_volume(making, partition.length, card.sector)
    assert fresh.used is not None, "a fresh volume is open"
    if files is None:
        need = old.used + old.files * fresh.block if fresh.block > old.block else old.used
        if fresh.used + need > fresh.size:
            raise _too_many(look, need, partition, facts)
        return Anew(replace(look, partition=partition, volume=_filled(fresh, old, need, facts.longest_name)), making,
                    None)
    tree = files.tree()
    entries, passage = tree.entries, plan_passage(tree.entries, facts, unread=tree.unread())
    must_fit(passage)
    tell_contradictions(passage, look)
    wanted = [e for e in entries if e.path not in passage.left_out]
    need = room_for(wanted, facts, fresh.block)
    if not card.is_planned and fresh.used + need <= fresh.size:
        return Anew(replace(look, partition=partition, volume=_filled(fresh, old, need, facts.longest_name)), making,
                    passage)
    view = Overlay(fresh_view(making, partition.length, card.sector))

    def fill_hollow(editor: Editor) -> None:
        copy_tree(hollow, entries, editor, passage, Watch())

    try:
        tried = tried_out(partition, view, look.name, fill_hollow)
    except FitError as error:
        raise _too_many(look, need, partition, facts) from error
    return Anew(tried, making, passage, view)


def _too_many(look: PartitionLook, need: int, partition: Partition, facts: Facts) -> FitError:
    return FitError(f"The files of {look.name} ({binary(need)}) do not fit into {binary(partition.length)} of "
                    f"{facts.name}.")


def _filled(fresh: VolumeLook, old: VolumeLook, need: int, longest: int) -> VolumeLook:
    assert fresh.used is not None, "a fresh volume is open"
    used = fresh.used + need
    return replace(fresh, used=used, files=old.files, saves=old.saves, summary=old.summary,
                   smallest=min(fresh.size, fresh.smallest + need + need // 16) if fresh.smallest else 0,
                   longest_name=old.longest_name[:longest], devices=old.devices)


def put_anew(old: Volume, source: Blocks, window: Blocks, making: Making, length: int, watch: Watch) -> int:
    """Make a volume over an old one and put its files back; returns bytes of files. Raises MossError.

    The new one is made on a view, so that the old files can be read until all are in it; only then is it written.

    Args:
        old: the volume.
        source: its bytes, where boot code is taken from.
        window: where the new one goes; the old one begins there too.
        making: of the new one.
        length: of the new one.
        watch: is told.
    """
    tree = old.tree()
    entries, passage = tree.entries, plan_passage(tree.entries, facts_for(making.kind), unread=tree.unread())
    must_fit(passage)
    with Overlay(window) as view:
        fresh = Window(view, 0, length)
        format_for(making.kind).make(fresh, with_boot_code(making, old, source))
        editor = edit(fresh)
        done = copy_tree(old.read_file, entries, editor, passage, watch)
        editor.commit()
        _apply(view, window, watch)
    return done


def forgo_free(old: Volume, window: Blocks) -> None:
    """What no file of an old volume holds belongs to nobody: a journal need not save it."""
    window.forgo(list(_free(old, window.size)))


def _free(volume: Volume, size: int) -> Iterator[Extent]:
    at = 0
    for used in volume.used_extents():
        if used.start > at:
            yield Extent(at, used.start - at)
        at = max(at, used.end)
    if at < size:
        yield Extent(at, size - at)


def _apply(view: Overlay, window: Blocks, watch: Watch) -> None:
    """Write what a view has changed onto the medium behind it."""
    changes = list(view.changes())
    total, done = sum(e.length for e in changes), 0
    for extent in changes:
        for at in range(extent.start, extent.end, PIECE):
            length = min(PIECE, extent.end - at)
            if extent.is_hole:
                window.zero(at, length)
            else:
                window.write(at, view.read(at, length))
            done += length
            watch.progress("Writing the new volume", done, total)
