"""ext4 with each feature of the system's formatter: put into, shrunk, grown, and sound for the system's checker."""

from __future__ import annotations

import os
import random
import shutil
import subprocess
from pathlib import Path

import pytest

from mosscrate.core.blocks import MemoryBlocks, open_blocks
from mosscrate.core.contents.extract import take_out
from mosscrate.core.contents.transfer import plan_passage
from mosscrate.core.volumes import check, edit, facts_of, format_with, open_volume, smallest
from mosscrate.core.volumes.base import Traits
from mosscrate.core.volumes.ext.filesystem import open_filesystem
from mosscrate.core.volumes.ext.orphans import orphan_file_faults
from mosscrate.core.watch import Watch
from tests.volumes import MIB

pytestmark = pytest.mark.skipif(not (shutil.which("mkfs.ext4") and shutil.which("e2fsck")),
                                reason="needs the system's own formatter and checker")
FEATURES = ("orphan_file", "metadata_csum_seed,orphan_file", "^metadata_csum,orphan_file",
            "orphan_file,^64bit", "large_dir", "sparse_super2", "^resize_inode,meta_bg",
            "dir_index,uninit_bg,"
            "^metadata_csum", "^flex_bg", "inline_data", "fast_commit")


def made(features: str, folder: Path, size: str = "96M") -> MemoryBlocks:
    """A volume with files that reach to its end."""
    source, image = folder / "source", folder / "volume.img"
    source.mkdir()
    rnd = random.Random(1)
    for number in range(40):
        (source / f"file {number}").write_bytes(rnd.randbytes(rnd.randrange(300_000)))
    subprocess.run(["mkfs.ext4", "-q", "-F", "-b", "1024", "-O", features, "-d", source, image, size], check=True,
                   capture_output=True)
    return MemoryBlocks(image.read_bytes())


def _shrunk(blocks: MemoryBlocks, size: int, watch: Watch):
    return format_with(open_volume(blocks)).shrink(blocks, size, watch)


def must_be_clean(blocks: MemoryBlocks, folder: Path) -> None:
    """For the system's checker, which changes nothing, and for our own."""
    image = folder / "checked.img"
    image.write_bytes(blocks.data)
    done = subprocess.run(["e2fsck", "-fn", image], capture_output=True, text=True, check=False)
    assert done.returncode == 0, done.stdout[-1500:]
    assert [f.sentence for f in check(open_volume(blocks)) if f.severity in ("problem", "warning")] == []


@pytest.mark.parametrize("features", FEATURES)
def test_a_volume_with_a_feature_is_sound_after_everything_that_is_done_to_it(features, tmp_path):
    blocks = made(features, tmp_path)
    must_be_clean(blocks, tmp_path)
    editor = edit(blocks)
    editor.add_file("put.bin", b"moss" * 50_000, Traits(1_700_000_000))
    editor.commit()
    must_be_clean(blocks, tmp_path)
    before = {e.path: b"".join(open_volume(blocks).read_file(e)) for e in open_volume(blocks).tree().entries
              if e.kind == "file"}
    low, _ = smallest(open_volume(blocks))
    if low:
        shrunk = _shrunk(blocks, max(low, 40 * MIB), Watch()).size
        blocks = MemoryBlocks(bytes(blocks.data[:shrunk]))
        must_be_clean(blocks, tmp_path)
    blocks = MemoryBlocks(bytes(blocks.data) + bytes(200 * MIB - len(blocks.data)))
    format_with(open_volume(blocks)).grow(blocks, 200 * MIB, Watch())
    must_be_clean(blocks, tmp_path)
    volume = open_volume(blocks)
    assert before == {e.path: b"".join(volume.read_file(e)) for e in volume.tree().entries if e.kind == "file"}


def test_the_file_of_orphans_is_sealed_anew_where_it_moves_and_a_wrong_seal_is_told(tmp_path):
    blocks = made("orphan_file", tmp_path)
    shrunk = _shrunk(blocks, max(smallest(open_volume(blocks))[0], 40 * MIB), Watch()).size
    blocks = MemoryBlocks(bytes(blocks.data[:shrunk]))
    fs = open_filesystem(blocks)
    assert list(orphan_file_faults(fs)) == []
    place = next(at for at in range(0, shrunk, 1024) if blocks.data[at + 1016:at + 1020] == b"\x04\xca\x10\x0b")
    blocks.data[place + 1020] ^= 1
    assert ["block" in fault for fault in orphan_file_faults(open_filesystem(blocks))] == [True]
    assert any("does not mount" in f.sentence for f in check(open_volume(blocks)))


def test_pipes_and_devices_are_no_files(tmp_path):
    source, image = tmp_path / "source", tmp_path / "volume.img"
    source.mkdir()
    (source / "file").write_bytes(b"moss")
    os.mkfifo(source / "pipe")
    subprocess.run(["mkfs.ext4", "-q", "-F", "-d", source, image, "16M"], check=True, capture_output=True)
    with open_blocks(image) as blocks:
        volume = open_volume(blocks)
        kinds = {e.path: e.kind for e in volume.tree().entries}
        assert (kinds["file"], kinds["pipe"]) == ("file", "special")
        taken = take_out(volume, "/", tmp_path / "out", Watch())
        assert [(left.entry.path, left.reason) for left in taken.left_out] == [
            ("pipe", "it is a pipe or a device, which has no contents")]
        passage = plan_passage(volume.tree().entries, facts_of("ext4"))
        assert passage.left_out == {"pipe"}
        assert "“pipe”" in passage.findings[-1].sentence
