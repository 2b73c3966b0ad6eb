"""convert, floppy, image: new image files. Nothing that is there already is written over."""

from __future__ import annotations

import sys
from pathlib import Path

import click

from mosscrate.cli.arranging import MAPS
from mosscrate.cli.progress import watching
from mosscrate.cli.speaking import FILE, json_option, say, show_json, size_of
from mosscrate.core.contents.fresh_images import FLOPPIES, floppy, make_drive, make_floppy
from mosscrate.core.images.making import KEYS
from mosscrate.core.maps import MapKind
from mosscrate.core.sheet.bench import Bench, card_of
from mosscrate.core.sheet.running.converting import Conversion, convert_in_order, convert_to


@click.command()
@click.argument("source")
@click.argument("file", type=FILE)
@click.option("--partition", "-p", type=int, help="Only this partition, as a bare volume.")
@click.option("--under", type=click.Choice(MAPS), help="Every partition below an empty map of this kind.")
@click.option("--size", help="Size of the new image below another map; as large as needed when left out.")
@click.option("--swap", is_flag=True, help="Exchange the two bytes of every word.")
@click.option("--to-kind", "kind", type=click.Choice(KEYS), default="raw", show_default=True,
              help="What the file is: an image as it is; a drive file that keeps geometry, layout and digests; VHD and "
              "qcow2 for emulators; gz, xz or zst to pass on.")
@click.option("--used-only", is_flag=True, help="Leave out what is left in the free room of volumes.")
@json_option
@click.pass_obj
def convert(bench: Bench, source: str, file: Path, partition: int | None, under: str | None, size: str | None,
            swap: bool, kind: str, used_only: bool, as_json: bool) -> None:
    """Make a new FILE of a SOURCE: in another kind of file, swapped, one partition of it, or all below another map.

    A FILE of “-” writes to the next command in a pipe, for the kinds that can: drive, gz, xz, zst.
    """
    if under and kind != "raw":
        raise click.UsageError("An image below another map is raw; convert that one then.")
    if size and not under:
        raise click.UsageError("A size is for an image below another map; everything else keeps its own.")
    medium = bench.shelf.find(source)
    wanted = Conversion(partition, MapKind(under) if under else None, size_of(size) if size else None, swap, kind,
                        used_only, card_of(medium))
    with medium.open_for_job() as blocks, watching() as watch:
        if str(file) == "-":
            convert_in_order(sys.stdout.buffer, blocks, wanted, watch)
            return
        sentence = convert_to(file, blocks, wanted, watch)
    _say(file, sentence, as_json=as_json)


@click.command()
@click.argument("file", type=FILE)
@click.argument("size")
@json_option
def image(file: Path, size: str, as_json: bool) -> None:
    """Make the image FILE of a blank drive of a SIZE such as 500MB."""
    _say(file, make_drive(file, size_of(size) // 512 * 512), as_json=as_json)


@click.command("floppy")
@click.argument("file", type=FILE)
@click.option("--size", "key", type=click.Choice([f.key for f in FLOPPIES]), default="pc-1440", show_default=True,
              help="Which disk it is.")
@click.option("--kind", default="", help="File system, where the disk has several: ofs, ffs …")
@click.option("--label", default="", help="Label of the volume.")
@json_option
def floppy_(file: Path, key: str, kind: str, label: str, as_json: bool) -> None:
    """Make the image FILE of an empty floppy disk. A file that is there already stays."""
    sentence = make_floppy(file, floppy(key), kind=kind, label=label)
    _say(file, sentence, as_json=as_json)


def _say(file: Path, sentence: str, *, as_json: bool) -> None:
    if as_json:
        show_json({"file": str(file), "size": file.stat().st_size, "result": sentence})
    else:
        say(sentence)


COMMANDS: dict[str, click.Command] = {"convert": convert, "floppy": floppy_, "image": image}
