"""The single steps below `sheet`: bring, copy, empty, swap, map, add, remove, grow, shrink, move and so on.

Each plans one step on one medium. `--out` saves the sheet, `--append` adds the step to a saved one, and
`--tag` runs it at once.
"""

from __future__ import annotations

from pathlib import Path
from typing import Any

import click
import msgspec

from mosscrate.cli.sheets import foreseen, must_fit, put_out, run_sheet
from mosscrate.cli.speaking import FILE, json_option, show_json, size_of
from mosscrate.core.contents import survey
from mosscrate.core.contents.survey import open_partition
from mosscrate.core.contents.transfer import plan_passage
from mosscrate.core.errors import JobError
from mosscrate.core.maps import WRITTEN, MapKind
from mosscrate.core.sheet import steps as s
from mosscrate.core.sheet.bench import Bench
from mosscrate.core.sheet.planning.editing import with_steps
from mosscrate.core.sheet.planning.forecasting import Forecast
from mosscrate.core.sheet.planning.passing import shortened, together
from mosscrate.core.sheet.planning.propose import growth_with_room, under_another_map
from mosscrate.core.sheet.sheet import JobSheet, load_sheet, reference
from mosscrate.core.sizes import counted
from mosscrate.core.volumes import facts_for, kind_for

MAPS = tuple(str(kind) for kind in WRITTEN)
EXISTING = {"refuse": s.Existing.REFUSE, "keep": s.Existing.KEEP_BOTH, "replace": s.Existing.REPLACE}
PARTITION = click.option("--partition", "-p", type=int, required=True, help="Number of the partition.")


def planned(command: Any) -> Any:  # noqa: ANN401 - a decorator over click's own
    """The options of a step that is planned, saved or run."""
    for option in (click.option("--out", type=FILE, help="Save the sheet here."),
                   click.option("--append", type=FILE, help="Add the step to this sheet instead of a new one."),
                   click.option("--tag", default="", help="Run it at once: the four-character tag of the card."),
                   json_option):
        command = option(command)
    return click.pass_obj(command)


def plan_steps(bench: Bench, medium: str, steps: tuple[s.AnyStep, ...], out: Path | None, append: Path | None, tag: str,
               *, as_json: bool, source: str = "") -> None:
    """Show, save or run steps on a medium; `source` is another one that they bring something from."""
    found = bench.shelf.find(medium)
    came = bench.shelf.find(source) if source else None
    made = JobSheet(steps, reference(came) if came else None, reference(found))
    if append is not None:
        old = load_sheet(append)
        if old.target is None or old.target.key != found.key:
            raise JobError(f"The sheet {append} is for another card. Nothing was changed.")
        if came and old.source and old.source.key != came.key:
            raise JobError(f"The sheet {append} has another source. Nothing was changed.")
        made = msgspec.structs.replace(with_steps(old, steps).sheet, source=made.source or old.source)
        out = out or append
    seen = foreseen(bench, made)
    tell_losses(seen, steps)
    if tag:
        must_fit(seen)
        run_sheet(bench, made, tag, as_json=as_json)
    else:
        put_out(made, seen, out, as_json=as_json)


def tell_losses(seen: Forecast, steps: tuple[s.AnyStep, ...]) -> None:
    """What files lose on their way into another kind of volume, said before anything is done."""
    for finding in shortened(together(seen, steps)):
        click.echo(f"  ! {finding.sentence}", err=True)


@click.command()
@click.argument("source")
@click.argument("medium")
@PARTITION
@click.option("--kind", default="", help="Make it anew as this kind, with its files; copied exactly when left out.")
@click.option("--size", help="Its size there, such as 6GiB; as it is when left out.")
@click.option("--under", type=click.Choice([*MAPS, "none"]), help="Put this empty map on the MEDIUM first; with none "
              "the partition becomes a bare volume. What is on the MEDIUM is lost.")
@planned
def bring(bench: Bench, source: str, medium: str, partition: int, kind: str, size: str | None, under: str | None,
          **how: Any) -> None:  # noqa: ANN401
    """Bring one partition of a SOURCE into the free room of a MEDIUM."""
    first: tuple[s.AnyStep, ...] = () if under is None else (s.EmptyCard(),) if under == "none" else (s.NewMap(under),)
    plan_steps(bench, medium, (*first, s.CopyPartition(partition, kind, _optional(size))), source=source, **how)


@click.command()
@click.argument("source")
@click.argument("medium")
@click.argument("map_kind", metavar="MAP", type=click.Choice(MAPS))
@planned
def under(bench: Bench, source: str, medium: str, map_kind: str, **how: Any) -> None:  # noqa: ANN401
    """Bring every partition of a SOURCE onto a MEDIUM, under another MAP. What is on the MEDIUM is lost."""
    with bench.shelf.find(source).open() as blocks:
        steps = under_another_map(survey(blocks), MapKind(map_kind))
    plan_steps(bench, medium, steps, source=source, **how)


@click.command()
@click.argument("source")
@PARTITION
@click.option("--kind", required=True, help="The file system that the files would go into.")
@json_option
@click.pass_obj
def names(bench: Bench, source: str, partition: int, kind: str, as_json: bool) -> None:
    """List every name of a partition that would change in another KIND of file system."""
    with bench.shelf.find(source).open() as blocks:
        volume = open_partition(blocks, partition)
        passage = plan_passage(volume.tree().entries, facts_for(kind_for(kind, volume.size)))
    if as_json:
        show_json({"names": [{"path": old, "name": new} for old, new in passage.changed_names.items()],
                   "left_out": sorted(passage.left_out)})
        return
    for old, new in passage.changed_names.items():
        click.echo(f"{old}\t{new}")
    for path in sorted(passage.left_out):
        click.echo(f"{path}\t(left out)")
    click.echo(f"{counted(len(passage.changed_names), 'name')} would change, "
               f"{counted(len(passage.left_out), 'entry', 'entries')} would be left out.", err=True)


@click.command()
@click.argument("source")
@click.argument("medium")
@click.option("--from", "came", type=int, required=True, help="Number of the partition of the source.")
@PARTITION
@click.option("--folder", default="", help="Folder on the volume that takes them.")
@click.option("--path", default="", help="Only this file or folder; everything when left out.")
@click.option("--existing", type=click.Choice(list(EXISTING)), default="refuse", show_default=True,
              help="A file that is there already: refuse, keep it under a dated name, or replace it.")
@planned
def copy(bench: Bench, source: str, medium: str, came: int, partition: int, folder: str, path: str, existing: str,
         **how: Any) -> None:  # noqa: ANN401
    """Copy files of a partition of a SOURCE into a volume of a MEDIUM, which may be the same card."""
    step = s.CopyFiles(came, partition, folder.strip("/"), path.strip("/"), EXISTING[existing])
    is_same = bench.shelf.find(source).key == bench.shelf.find(medium).key
    plan_steps(bench, medium, (step,), source="" if is_same else source, **how)


@click.command()
@click.argument("medium")
@planned
def empty(bench: Bench, medium: str, **how: Any) -> None:  # noqa: ANN401
    """Clear every map and signature from a MEDIUM, also those that the desktop cannot see."""
    plan_steps(bench, medium, (s.EmptyCard(),), **how)


@click.command()
@click.argument("medium")
@planned
def swap(bench: Bench, medium: str, **how: Any) -> None:  # noqa: ANN401
    """Swap the two bytes of every word of a MEDIUM, for an adapter that swaps them or away from one."""
    plan_steps(bench, medium, (s.SwapBytes(),), **how)


@click.command("map")
@click.argument("medium")
@click.argument("kind", type=click.Choice(MAPS))
@click.option("--heads", default=0, help="Heads of an RDB's geometry; the usual one when left out.")
@click.option("--sectors", default=0, help="Sectors of a track in an RDB's geometry.")
@click.option("--machine", help="Take the geometry that this machine wants; `machines` lists them.")
@planned
def map_(bench: Bench, medium: str, kind: str, heads: int, sectors: int, machine: str | None,
         **how: Any) -> None:  # noqa: ANN401
    """Put an empty partition map of a KIND on a MEDIUM."""
    wanted = bench.machines.find(machine).geometry if machine else None
    if wanted and kind == "rdb":
        heads, sectors = heads or wanted.heads, sectors or wanted.sectors
    plan_steps(bench, medium, (s.NewMap(kind, heads, sectors),), **how)


@click.command()
@click.argument("medium")
@click.argument("kind")
@click.option("--size", help="Such as 4GiB; all of the largest free stretch when left out.")
@click.option("--start", help="Where it starts, such as 1MiB; the largest free stretch when left out.")
@click.option("--label", default="", help="Label of its volume.")
@click.option("--logical", is_flag=True, help="A logical drive of an MBR; in an AHDI map one of the chain.")
@click.option("--block", help="Size of a cluster or block, such as 32KiB.")
@click.option("--align", help="Start on a multiple of this; 4 MiB on ordinary cards, 32256 for a track.")
@planned
def add(bench: Bench, medium: str, kind: str, size: str | None, start: str | None, label: str, logical: bool,
        block: str | None, align: str | None, **how: Any) -> None:  # noqa: ANN401
    """Make a partition with a volume of a KIND: fat (by size), fat12 …, exfat, ext2 …, ofs, ffs, gemdos, none."""
    step = s.AddPartition("" if kind == "none" else kind, _optional(size), _optional(start), label, logical,
                          _optional(block), _optional(align))
    plan_steps(bench, medium, (step,), **how)


@click.command()
@click.argument("medium")
@PARTITION
@planned
def remove(bench: Bench, medium: str, partition: int, **how: Any) -> None:  # noqa: ANN401
    """Take a partition out of the map; its bytes stay until something else is put there."""
    plan_steps(bench, medium, (s.RemovePartition(partition),), **how)


@click.command()
@click.argument("medium")
@PARTITION
@click.option("--size", help="Its new size, such as 6GiB; all the room behind it when left out.")
@click.option("--make-room", is_flag=True, help="Move the partitions behind it to the end of the card first.")
@planned
def grow(bench: Bench, medium: str, partition: int, size: str | None, make_room: bool,
         **how: Any) -> None:  # noqa: ANN401
    """Grow one partition of a MEDIUM in place."""
    steps: tuple[s.AnyStep, ...] = (s.GrowPartition(partition, _optional(size)),)
    if make_room:
        with bench.shelf.find(medium).open() as blocks:
            steps = growth_with_room(survey(blocks), partition, _optional(size))
    plan_steps(bench, medium, steps, **how)


@click.command()
@click.argument("medium")
@PARTITION
@click.option("--size", help="Its new size, such as 2GiB; as small as it can be when left out.")
@planned
def shrink(bench: Bench, medium: str, partition: int, size: str | None, **how: Any) -> None:  # noqa: ANN401
    """Shrink one partition in place; what lies behind its new end moves forward."""
    plan_steps(bench, medium, (s.ShrinkPartition(partition, _optional(size)),), **how)


@click.command()
@click.argument("medium")
@PARTITION
@click.option("--start", help="Where it starts then, such as 4GiB; as far back as possible when left out.")
@planned
def move(bench: Bench, medium: str, partition: int, start: str | None, **how: Any) -> None:  # noqa: ANN401
    """Move a partition with all that is on it."""
    plan_steps(bench, medium, (s.MovePartition(partition, _optional(start)),), **how)


@click.command()
@click.argument("medium")
@click.argument("label")
@PARTITION
@planned
def label(bench: Bench, medium: str, label: str, partition: int, **how: Any) -> None:  # noqa: ANN401
    """Give a volume another LABEL."""
    plan_steps(bench, medium, (s.LabelPartition(partition, label),), **how)


@click.command()
@click.argument("medium")
@click.argument("flag")
@PARTITION
@click.option("--off", is_flag=True, help="Clear the flag instead of setting it.")
@planned
def flag(bench: Bench, medium: str, flag: str, partition: int, off: bool, **how: Any) -> None:  # noqa: ANN401
    """Set a FLAG of a partition: active, hidden, and for a GPT required, read-only, …"""
    plan_steps(bench, medium, (s.FlagPartition(partition, flag, not off),), **how)


@click.command("type")
@click.argument("medium")
@click.argument("code")
@PARTITION
@planned
def type_(bench: Bench, medium: str, code: str, partition: int, **how: Any) -> None:  # noqa: ANN401
    """Set the type CODE of a partition: 0x0c for an MBR, a GUID or its name for a GPT."""
    plan_steps(bench, medium, (s.TypePartition(partition, code),), **how)


def number(text: str) -> int:
    """A number, also as 0x and hexadecimal digits. Raises ValueError, which click words."""
    return int(text, 0)


@click.command()
@click.argument("medium")
@PARTITION
@click.option("--name", default="", help="Name that drivers give it, such as DH0.")
@click.option("--boot-priority", type=number, help="-128 to 127; the highest starts the machine.")
@click.option("--mask", type=number, help="Addresses that its controller can reach, such as 0x7ffffffe.")
@click.option("--max-transfer", type=number, help="Bytes of the largest transfer, such as 0x1fe00.")
@click.option("--buffers", type=number, help="Blocks that its file system holds in memory.")
@planned
def tune(bench: Bench, medium: str, partition: int, name: str, boot_priority: int | None, mask: int | None,
         max_transfer: int | None, buffers: int | None, **how: Any) -> None:  # noqa: ANN401
    """Set how the drivers of an RDB's machine take a partition."""
    plan_steps(bench, medium, (s.TunePartition(partition, name, boot_priority, mask, max_transfer, buffers),), **how)


@click.command()
@click.argument("source")
@click.argument("medium")
@click.option("--type", "dos_type", default="", help="Only that of this DosType, such as 0x50465303.")
@planned
def code(bench: Bench, source: str, medium: str, dos_type: str, **how: Any) -> None:  # noqa: ANN401
    """Copy the file-system code embedded in the RDB of a SOURCE into that of a MEDIUM."""
    plan_steps(bench, medium, (s.BringCode(dos_type),), source=source, **how)


@click.command("remove-code")
@click.argument("medium")
@click.argument("dos_type")
@planned
def remove_code(bench: Bench, medium: str, dos_type: str, **how: Any) -> None:  # noqa: ANN401
    """Take the embedded file-system code for a DOS_TYPE out of an RDB."""
    plan_steps(bench, medium, (s.RemoveCode(dos_type),), **how)


@click.command("format")
@click.argument("medium")
@click.argument("kind")
@PARTITION
@click.option("--label", default="", help="Label of the volume.")
@click.option("--block", help="Size of a cluster or block, such as 32KiB.")
@planned
def format_(bench: Bench, medium: str, kind: str, partition: int, label: str, block: str | None,
            **how: Any) -> None:  # noqa: ANN401
    """Put a fresh volume of a KIND on a partition; what is on it is lost."""
    plan_steps(bench, medium, (s.FormatPartition(partition, kind, label, _optional(block)),), **how)


@click.command()
@click.argument("medium")
@PARTITION
@click.option("--kind", default="", help="Another file system; its own when left out.")
@click.option("--block", help="Another size of clusters or blocks, such as 32KiB.")
@planned
def rebuild(bench: Bench, medium: str, partition: int, kind: str, block: str | None, **how: Any) -> None:  # noqa: ANN401
    """Make a volume anew, with the same label, and put its files back."""
    plan_steps(bench, medium, (s.RebuildPartition(partition, kind, _optional(block)),), **how)


@click.command()
@click.argument("medium")
@click.option("--each", default="2GiB", show_default=True, help="Largest size of a drive.")
@click.option("--until", default="8GB", show_default=True, help="No drive ends above this.")
@click.option("--kind", default="fat16", show_default=True, help="File system of the drives.")
@click.option("--label", default="DRIVE", show_default=True, help="Their labels: this and a number.")
@planned
def drives(bench: Bench, medium: str, each: str, until: str, kind: str, label: str, **how: Any) -> None:  # noqa: ANN401
    """Fill the free room of an MBR with logical drives, as many as fit below a limit of the machine."""
    plan_steps(bench, medium, (s.FillWithDrives(size_of(each), size_of(until), kind, label),), **how)


@click.command()
@click.argument("medium")
@PARTITION
@planned
def replay(bench: Bench, medium: str, partition: int, **how: Any) -> None:  # noqa: ANN401
    """Carry out what the journal of an ext volume still holds."""
    plan_steps(bench, medium, (s.ReplayJournal(partition),), **how)


@click.command()
@click.argument("medium")
@PARTITION
@planned
def bitmap(bench: Bench, medium: str, partition: int, **how: Any) -> None:  # noqa: ANN401
    """Work out from its files which blocks of a volume are in use, and make bitmaps, tables and counts agree."""
    plan_steps(bench, medium, (s.RebuildBitmap(partition),), **how)


@click.command()
@click.argument("medium")
@planned
def mend(bench: Bench, medium: str, **how: Any) -> None:  # noqa: ANN401
    """Write a partition map again as it was read: both copies of a GPT, the backup at the card's end."""
    plan_steps(bench, medium, (s.MendMap(),), **how)


def _optional(text: str | None) -> int | None:
    return None if text is None else size_of(text)


COMMANDS = (bring, under, names, copy, code, remove_code, empty, swap, map_, tune, add, remove, grow, shrink, move,
            label, flag, type_, format_, rebuild, drives, replay, bitmap, mend)
