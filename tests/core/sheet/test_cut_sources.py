"""A source that ends before its own map or volume does is told, refused unless asked for, and never called equal."""

from __future__ import annotations

import pytest

from mosscrate.core.blocks import MemoryBlocks
from mosscrate.core.contents import survey
from mosscrate.core.errors import FitError, JobError, MediumError
from mosscrate.core.images import disk_in, open_image
from mosscrate.core.maps import MapKind
from mosscrate.core.sheet import steps as s
from mosscrate.core.sheet.planning.forecasting import forecast
from mosscrate.core.sheet.planning.propose import propose
from mosscrate.core.sheet.running import recovering
from mosscrate.core.sheet.running import run as running
from mosscrate.core.sheet.sheet import JobSheet, reference
from mosscrate.core.sheet.steps import WriteImage
from mosscrate.core.sheet.steps.shared.comparing import verify_copy
from mosscrate.core.watch import Watch
from tests.cards import MIB, handheld, put_card
from tests.core.maps.test_rdb import drive
from tests.core.sheet.test_steps import card
from tests.volumes import fresh

WHOLE = {"mbr": lambda: handheld(), "gpt": lambda: card(MapKind.GPT), "rdb": lambda: drive(40 * MIB),
         **{kind: lambda kind=kind: fresh(kind) for kind in ("fat12", "fat16", "fat32", "exfat", "ext2", "ext4")}}


@pytest.mark.parametrize("kind", WHOLE)
def test_a_cut_source_is_known_by_its_map_or_its_volume(kind):
    whole = WHOLE[kind]()
    assert survey(whole).cut == 0
    for share in (2, 5):
        cut = MemoryBlocks(bytes(whole.data[:whole.size // share // 512 * 512]))
        layout = survey(cut)
        assert layout.cut > 0
        assert any("cut short" in f.sentence for f in layout.findings)
        target = survey(MemoryBlocks(bytes(whole.size)))
        for step in (WriteImage(), s.WriteFitted()):
            assert "cut short" in forecast(JobSheet((step,)), layout, target).problems[0].sentence
        assert forecast(JobSheet((WriteImage(cut=True),)), layout, target).problems == ()


def test_a_cut_image_is_not_written_unless_that_was_said_and_never_equal(bench, tmp_path):
    image = tmp_path / "firmware.img.001"
    image.write_bytes(bytes(handheld().data[:20 * MIB]))
    put_card(bench, "new", 64 * MIB, b"\x11" * MIB)
    source, target = bench.shelf.find(str(image)), bench.shelf.find("new")
    before = target.open().read(0, 64 * MIB)
    made = propose(source, survey(source.open()), target, survey(target.open()), bench.crate)
    assert "cut short" in forecast(made, survey(source.open()), survey(target.open())).problems[0].sentence
    for steps in ((WriteImage(verify=True),), (s.WriteFitted(),), (s.EmptyCard(), s.CopyPartition(2))):
        with pytest.raises(FitError, match="cut short"):
            running.run(JobSheet(steps, reference(source), reference(target)), bench, Watch(), typed_tag=target.tag)
        assert target.open().read(0, 64 * MIB) == before
    assert recovering.unfinished(bench) == []
    sheet = JobSheet((WriteImage(cut=True), s.Verify()), reference(source), reference(target))
    with pytest.raises(JobError, match="nothing of it can be called equal"):
        running.run(sheet, bench, Watch(), typed_tag=target.tag)
    with pytest.raises(JobError, match="cut short"):
        verify_copy(MemoryBlocks(image.read_bytes()), MemoryBlocks(image.read_bytes()), Watch())


@pytest.mark.parametrize(("data", "why"), [
    (b"", "empty"), (b"not a disk", "less than one sector"), (b"name,size\n" * 4000, "a text file"),
    ("Größe\n".encode() * 900, "a text file")])
def test_what_cannot_be_a_disk_is_named(tmp_path, data, why):
    path = tmp_path / "list.img"
    path.write_bytes(data)
    with pytest.raises(MediumError, match=why):
        disk_in(open_image(path))


def test_a_card_filled_with_one_letter_is_a_disk(tmp_path):
    (tmp_path / "card.img").write_bytes(b"Z" * MIB)
    assert disk_in(open_image(tmp_path / "card.img")).size == MIB


def test_a_cut_image_is_neither_rehearsed_nor_converted_as_if_it_were_whole(bench, tmp_path):
    from mosscrate.core.sheet.running.converting import Conversion, convert_to
    image = tmp_path / "half.img"
    image.write_bytes(bytes(handheld().data[:20 * MIB]))
    put_card(bench, "new", 64 * MIB)
    source, target = bench.shelf.find(str(image)), bench.shelf.find("new")
    with pytest.raises(FitError, match="cut short"):
        running.rehearse(JobSheet((WriteImage(),), reference(source), reference(target)), bench, Watch())
    with pytest.raises(FitError, match="cut short"):
        convert_to(tmp_path / "swapped.img", source.open(), Conversion(is_swapped=True), Watch())
    assert not (tmp_path / "swapped.img").exists()
