"""Journals of ext that were left dirty: read through a view, carried out for real, as the system's own tools do it."""

from __future__ import annotations

import random
import shutil
import subprocess
from pathlib import Path

import pytest

from mosscrate.core.blocks import open_blocks
from mosscrate.core.sheet import steps as s
from mosscrate.core.sheet.running.performing import perform
from mosscrate.core.volumes import Kind, check, open_volume
from mosscrate.core.watch import Watch

BLOCK = 1024
FILES = 6
MAGIC = bytes.fromhex("c03b3998")                       # a block of data that begins like one of the journal


def contents(image: Path) -> dict[str, bytes]:
    with open_blocks(image) as blocks:
        volume = open_volume(blocks)
        return {e.path: b"".join(volume.read_file(e)) for e in volume.tree().entries if e.kind == Kind.FILE}


def debugged(image: Path, *requests: str) -> None:
    subprocess.run(["debugfs", "-w", "-f", "-", image], input="\n".join(requests), text=True, check=True,
                   capture_output=True)


def dirty(folder: Path, seed: int, options: str) -> Path:
    """A volume whose journal holds transactions by chance; the last of them may not be committed."""
    rnd, image, source = random.Random(seed), folder / "volume", folder / "source"
    source.mkdir()
    for number in range(FILES):
        (source / f"file {number}").write_bytes(bytes([65 + number]) * 3 * BLOCK)
    subprocess.run(["mke2fs", "-q", "-t", "ext4", "-b", str(BLOCK), "-d", source, image, "16M"], check=True)
    with open_blocks(image) as blocks:
        volume = open_volume(blocks)
        places = [place // BLOCK + k for e in volume.tree().entries if e.kind == Kind.FILE
                  for _, place, length in volume.pieces_of(e).tolist() for k in range(length // BLOCK)]
    requests = [f"jo {options}"]
    last = rnd.randrange(2, 7)
    for number in range(last):
        wanted = rnd.sample(places, rnd.randrange(1, 5))
        part = folder / f"part {number}"
        part.write_bytes(b"".join((MAGIC + rnd.randbytes(BLOCK - 4) if rnd.random() < 0.3 else rnd.randbytes(BLOCK))
                                  for _ in wanted))
        revoked = f"-r {','.join(map(str, rnd.sample(places, 2)))} " if rnd.random() < 0.4 else ""
        uncommitted = "-c " if number == last - 1 and rnd.random() < 0.5 else ""
        requests.append(f'jw -b {",".join(map(str, wanted))} {revoked}{uncommitted}"{part}"')
    debugged(image, *requests, "jc")
    return image


@pytest.mark.parametrize("options", ["", "-c -v 2", "-c -v 3"])
@pytest.mark.parametrize("seed", range(8))
def test_a_dirty_journal_is_read_and_replayed_as_the_system_does(seed, options, tmp_path):
    image = dirty(tmp_path, seed, options)
    before, theirs = image.read_bytes(), tmp_path / "theirs"
    shutil.copy(image, theirs)
    debugged(theirs, "jr")
    seen = contents(image)
    with open_blocks(image) as blocks:
        assert open_volume(blocks).replayed
    assert image.read_bytes() == before                              # read on a view
    assert seen == contents(theirs)
    with open_blocks(image, writable=True) as blocks:
        perform(s.ReplayJournal(0), blocks, None, Watch())
        volume = open_volume(blocks)
        assert (volume.replayed, volume.is_clean, [f.sentence for f in check(volume)]) == (False, True, [])
    assert contents(image) == seen
    assert subprocess.run(["e2fsck", "-fn", image], capture_output=True, check=False).returncode == 0
