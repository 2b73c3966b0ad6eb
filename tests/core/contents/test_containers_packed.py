"""Every container in every wrapping, in a fresh state: what is inside is known before a byte of it is written."""

from __future__ import annotations

import io
import lzma
import struct
import tarfile
from contextlib import suppress
from functools import partial
from itertools import product
from pathlib import Path

import libarchive
import pytest
from backports import zstd

from mosscrate.core.blocks import MemoryBlocks
from mosscrate.core.blocks.streaming import copy
from mosscrate.core.contents import survey
from mosscrate.core.contents.survey import open_partition
from mosscrate.core.contents.unpacking import confirm_packed, in_full, read_through
from mosscrate.core.crate import Crate
from mosscrate.core.errors import MediumError, NotReadYet
from mosscrate.core.images import Reach
from mosscrate.core.images.drive_file import Facts
from mosscrate.core.images.making import kind_of
from mosscrate.core.sheet.bench import Bench, card_of
from mosscrate.core.sheet.running import run as running
from mosscrate.core.sheet.running.converting import Conversion, convert_to
from mosscrate.core.sheet.sheet import JobSheet, reference
from mosscrate.core.sheet.steps import GrowPartition, Verify, WriteImage
from mosscrate.core.slots import Shelf
from mosscrate.core.watch import Watch
from tests.cards import MIB, contents, handheld, put_card
from tests.packs import PACKERS

CONTAINERS = ("qcow2", "qcow2-packed", "vhd", "vhd-fixed", "drive")
WRAPPINGS = [name for name in PACKERS if "part" not in name and "volume" not in name]
CARD = bytes(handheld(40 * MIB).data)


def contained(kind: str, folder: Path) -> bytes:
    """The file of a container that holds the card."""
    path = folder / f"made{kind_of(kind).suffix}"
    kind_of(kind).make(MemoryBlocks(CARD), path, Facts(), Watch())
    data = path.read_bytes()
    path.unlink()
    return data


def written(path: Path) -> bytes:
    """What a job gets to write onto a card from a file, read from first to last."""
    medium = Shelf().medium_at(path)
    with medium.open_for_job() as blocks:
        def work() -> bytes:
            target = MemoryBlocks(bytes(blocks.size))
            copy(blocks, target, blocks.size, Watch(), phase="Writing")
            confirm_packed(blocks)
            return bytes(target.data)
        return in_full(blocks, work)


@pytest.mark.parametrize("wrapping", WRAPPINGS)
@pytest.mark.parametrize("kind", CONTAINERS)
def test_a_container_in_a_wrapping_is_written_as_the_card_that_it_holds(kind, wrapping, tmp_path):
    path = PACKERS[wrapping](tmp_path, contained(kind, tmp_path))
    assert written(path) == CARD


@pytest.mark.parametrize("wrapping", ["gz", "bz2", "zst of a pipe", "xz", "tar.gz"])
@pytest.mark.parametrize("kind", CONTAINERS)
def test_looked_at_and_read_through_first_it_is_the_same_card(kind, wrapping, tmp_path):
    path = PACKERS[wrapping](tmp_path, contained(kind, tmp_path))
    medium = Shelf().medium_at(path)
    with medium.open_to_look() as blocks, suppress(NotReadYet):
        assert [p.start for p in survey(blocks).map.partitions] == [MIB, 6 * MIB]
    assert written(path) == CARD
    with medium.open_to_look(Reach.endless()) as blocks:
        read_through(blocks, Watch())
    assert written(path) == CARD


STATES, ACTS = ("fresh", "looked at", "read through"), ("look", "write", "convert", "keep", "move")


def comes_out(path: Path, state: str, act: str, folder: Path) -> bool:
    """Whether the card comes out right, by one of the ways of using a file, on a bench that knows so much of it."""
    bench = Bench(Shelf(folder / "slots", backups=folder / "crate"), Crate(folder / "crate"), folder / "state")
    (folder / "slots").mkdir()
    medium = bench.shelf.medium_at(path)
    if state != "fresh":
        with medium.open_to_look(Reach.endless() if state == "read through" else None) as blocks, \
                suppress(NotReadYet):
            read_through(blocks, Watch()) if state == "read through" else survey(blocks)
    match act:
        case "look":
            with medium.open_to_look(Reach.endless()) as blocks:
                return [p.start for p in read_through(blocks, Watch()).map.partitions] == [MIB, 6 * MIB]
        case "convert":
            with medium.open_for_job() as blocks:
                convert_to(folder / "made.img", blocks, Conversion(), Watch())
            return (folder / "made.img").read_bytes() == CARD
        case "keep":
            with medium.open_for_job() as blocks:
                backup = bench.crate.keep(card_of(medium), blocks, Watch(), every_byte=True)
            with backup.open() as kept:
                return kept.read(0, kept.size) == CARD
    size = 40 * MIB if act == "write" else 64 * MIB
    put_card(bench, "new", size, b"\xe5" * size, name="New")
    target = bench.shelf.find("New")
    steps = (WriteImage(),) if act == "write" else (WriteImage(), GrowPartition(2), Verify())
    running.run(JobSheet(steps, reference(medium), reference(target)), bench, Watch(), typed_tag=target.tag)
    with target.open() as card:
        if act == "write":
            return card.read(0, card.size) == CARD
        return all(contents(open_partition(card, k).blocks) == contents(open_partition(MemoryBlocks(CARD), k).blocks)
                   for k in (1, 2))


@pytest.mark.parametrize(("kind", "wrapping", "state", "act"), [
    (kind, wrapping, STATES[number % 3], ACTS[(number + number // 15) % 5])
    for number, (kind, wrapping) in enumerate(product(CONTAINERS, WRAPPINGS))])
def test_whatever_is_known_of_a_file_and_done_with_it_the_card_is_the_same(kind, wrapping, state, act, tmp_path):
    assert comes_out(PACKERS[wrapping](tmp_path, contained(kind, tmp_path)), state, act, tmp_path)


@pytest.mark.parametrize("wrapping", ["gz", "bz2", "zst of a pipe", "zst", "xz"])
def test_a_sparse_tar_in_a_stream_is_read(wrapping, tmp_path):
    inner = PACKERS["sparse tar"](tmp_path, CARD).read_bytes()
    (tmp_path / "card.tar").unlink()
    path = PACKERS[wrapping](tmp_path, inner)
    assert written(path) == CARD


def old_tar(disk: bytes) -> bytes:
    """As tars were before POSIX: no magic at all."""
    into = io.BytesIO()
    with tarfile.open(fileobj=into, mode="w", format=tarfile.USTAR_FORMAT) as archive:
        info = tarfile.TarInfo("card.img")
        info.size = len(disk)
        archive.addfile(info, io.BytesIO(disk))
    raw = bytearray(into.getvalue())
    raw[257:500] = bytes(243)
    raw[148:156] = b" " * 8
    raw[148:156] = b"%06o\0 " % sum(raw[:512])
    return bytes(raw)


def filtered(name: str, disk: bytes) -> bytes:
    """A stream that the system's library packs."""
    out = list[bytes]()
    with libarchive.custom_writer(lambda data: out.append(bytes(data)) or len(data), "raw", name) as archive:
        archive.add_file_from_memory("card.img", len(disk), disk)
    return b"".join(out)


@pytest.mark.parametrize("name", ["lz4", "lzip"])
def test_a_damaged_stream_of_these_is_damaged_and_no_disk(name, tmp_path):
    data = bytearray(filtered(name, CARD))
    data[len(data) // 2] ^= 0x55
    (tmp_path / f"card.{name}").write_bytes(data)
    with pytest.raises(MediumError):
        written(tmp_path / f"card.{name}")
    (tmp_path / f"card.{name}").write_bytes(data[:len(data) // 2])
    with pytest.raises(MediumError):
        written(tmp_path / f"card.{name}")


@pytest.mark.parametrize(("name", "pack"), [
    ("card.tar", old_tar),
    ("card.img.zst", lambda disk: struct.pack("<II", 0x184D2A50, 4) + b"note" + zstd.compress(disk, 1)),
    ("card.img.lz4", partial(filtered, "lz4")), ("card.img.lz", partial(filtered, "lzip")),
    ("card.img.lzma", lambda disk: lzma.compress(disk, lzma.FORMAT_ALONE, preset=0))])
def test_less_usual_packings_are_read(name, pack, tmp_path):
    (tmp_path / name).write_bytes(pack(CARD))
    assert written(tmp_path / name) == CARD


NO_DISKS = {
    "card.lz4": struct.pack("<I", 0x184C2102),
    "card.img.Z": b"\x1f\x9d\x90", "card.lzo": b"\x89LZO\0\r\n\x1a\n", "tool.bin": b"\x7fELF\2\1\1",
    "a.deb": b"!<arch>\n",
    "a.cab": b"MSCF\0\0\0\0", "picture.img": b"\x89PNG\r\n\x1a\n", "machine.hdd": b"KDMV\1\0\0\0",
    "machine.vdi": bytes(64) + struct.pack("<I", 0xBEDA107F), "machine.vhdx": b"vhdxfile", "game.chd": b"MComprHD",
    "archive.br": b"\x8b\x7f", "book.img": b"%PDF-1.7"}


@pytest.mark.parametrize("name", NO_DISKS)
def test_what_is_known_to_be_no_disk_is_refused_with_what_to_do(name, tmp_path):
    path = tmp_path / name
    path.write_bytes(NO_DISKS[name] + bytes(range(1, 256)) * 8000)
    with pytest.raises(MediumError, match="nothing was changed"):
        written(path)


def test_a_name_that_says_packed_is_believed_once_it_cannot_be_unpacked(tmp_path):
    path = tmp_path / "card.img.gz"
    path.write_bytes(CARD)
    with pytest.raises(MediumError, match=r"its name says that it is packed, .*give it another name"):
        written(path)
    path.rename(tmp_path / "card.img")
    assert written(tmp_path / "card.img") == CARD
