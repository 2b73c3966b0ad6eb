"""Floppy images: the boot sectors that drives of the time expect, files in and out, nothing overwritten."""

from __future__ import annotations

import pytest

from mosscrate.core import volumes
from mosscrate.core.blocks import MemoryBlocks, open_blocks
from mosscrate.core.contents import survey
from mosscrate.core.contents.fresh_images import FLOPPIES, floppy, make_drive, make_floppy
from mosscrate.core.errors import FitError, MediumError
from mosscrate.core.maps import MapKind
from mosscrate.core.sheet import steps as s
from mosscrate.core.sheet.running.performing import perform
from mosscrate.core.volumes import open_volume
from mosscrate.core.watch import Watch
from tests.volumes import tree

# cluster and FAT sectors, root entries, media, sectors of a track: as such disks came from the shop
BPB = {"pc-360": (2, 2, 112, 0xFD, 9), "pc-720": (2, 3, 112, 0xF9, 9), "pc-1200": (1, 7, 224, 0xF9, 15),
       "pc-1440": (1, 9, 224, 0xF0, 18), "pc-2880": (2, 9, 240, 0xF0, 36),
       "gemdos-720": (2, 5, 112, 0xF9, 9), "gemdos-800": (2, 5, 112, 0xF9, 10)}


@pytest.mark.parametrize("key", BPB)
def test_a_floppy_has_the_boot_sector_that_its_drive_expects(key, tmp_path):
    make_floppy(tmp_path / "a.img", floppy(key), label="DISK")
    raw = (tmp_path / "a.img").read_bytes()
    word = lambda at: raw[at] | raw[at + 1] << 8                       # noqa: E731
    assert (raw[13], word(22), word(17), raw[21], word(24)) == BPB[key]
    assert (word(26), word(11) * word(19), raw[16], raw[512]) == (2, len(raw), 2, raw[21])


@pytest.mark.parametrize(("disk", "kind"), [(d, k) for d in FLOPPIES for k in d.kinds], ids=lambda v: getattr(
    v, "key", v))
def test_every_disk_is_opened_edited_and_sound(disk, kind, tmp_path):
    make_floppy(tmp_path / "a.img", disk, kind=kind, label="DISK")
    (tmp_path / "README.TXT").write_bytes(b"hello " * 5000)
    with open_blocks(tmp_path / "a.img", writable=True) as blocks:
        assert (survey(blocks).map_kind, survey(blocks).partition(0).name) == (MapKind.NONE, "DISK")
        perform(s.PutFiles(0, (str(tmp_path / "README.TXT"),)), blocks, None, Watch())
        assert tree(blocks)["README.TXT"][1] == b"hello " * 5000
        assert (open_volume(blocks).variant, volumes.check(open_volume(blocks))) == (kind, ())


@pytest.mark.parametrize("links", [b"", b"\xff\x0f", b"\x03\x40\x00\x05\xf0\xff"])
def test_a_gemdos_floppy_is_of_12_bits_although_its_fat_has_room_for_16(links, tmp_path):
    """Empty, with one file of a cluster (which reads like an end in 16 bits too), with one of four."""
    make_floppy(tmp_path / "a.img", floppy("gemdos-720"))
    raw = bytearray((tmp_path / "a.img").read_bytes())
    for copy in (512, 6 * 512):
        raw[copy + 3:copy + 3 + len(links)] = links
    volume = open_volume(MemoryBlocks(bytes(raw)))
    assert (volume.kind, volume.variant, raw[510:512]) == ("fat12", "gemdos-floppy", b"\0\0")
    assert volume.why_not("a longer name.txt")


def test_a_blank_drive_takes_no_room_and_is_laid_out_like_any_other(tmp_path):
    assert "blank drive" in make_drive(tmp_path / "d.img", 4 << 30)
    assert (tmp_path / "d.img").stat().st_blocks * 512 < 1 << 20
    with open_blocks(tmp_path / "d.img", writable=True) as blocks:
        assert survey(blocks).is_blank
        perform(s.NewMap("rdb"), blocks, None, Watch())
        perform(s.AddPartition("ffs-intl", label="Work"), blocks, None, Watch())
        assert survey(blocks).partition(1).name == "Work"
    for size, why in ((1000, "at least"), ((1 << 20) + 1, "whole sectors")):
        with pytest.raises(FitError, match=why):
            make_drive(tmp_path / "e.img", size)
    with pytest.raises(MediumError, match="cannot be made"):
        make_drive(tmp_path / "nowhere" / "e.img", 1 << 20)


def test_nothing_is_overwritten_and_a_wrong_kind_leaves_no_file(tmp_path):
    place = tmp_path / "a.img"
    with pytest.raises(FitError, match="not ext4"):
        make_floppy(place, floppy("pc-720"), kind="ext4")
    with pytest.raises(FitError, match="cannot be the name"):
        make_floppy(place, floppy("home-880"), label="x" * 40)
    assert not place.exists()
    place.write_text("mine")
    with pytest.raises(MediumError, match="there already"):
        make_floppy(place, floppy("pc-720"))
    with pytest.raises(FitError, match="these are known"):
        floppy("pc-1")
    assert place.read_text() == "mine"
