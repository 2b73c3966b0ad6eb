"""FAT volumes of the system's own formatter, filled by a real kernel: read equal, grown, read equal again."""

from __future__ import annotations

import shutil
import subprocess
from dataclasses import dataclass
from hashlib import md5
from pathlib import Path

import pytest

from mosscrate.core import volumes
from mosscrate.core.blocks import Window, open_blocks
from mosscrate.core.maps import read_map
from mosscrate.core.sheet.running.performing import perform
from mosscrate.core.sheet.steps import GrowPartition
from mosscrate.core.volumes import Kind, open_volume
from mosscrate.core.volumes.fat.growing import grow
from mosscrate.core.watch import Watch
from tests.cards import MIB, lay_out, some_files
from tests.kernel import machine

pytestmark = [pytest.mark.kernel,
              pytest.mark.skipif(not machine.is_available(), reason="no machine emulator (qemu-system-x86) here"),
              pytest.mark.skipif(shutil.which("mkfs.vfat") is None, reason="the system's FAT formatter is missing")]
MOUNT = "mount -t vfat -o utf8=1,shortname=mixed,tz=UTC"
GIB = 1 << 30


@dataclass(frozen=True)
class Case:
    """A volume as the system's formatter is asked to make it, and what it is grown to."""

    type: int
    cluster: int
    size: int
    grown: int

    @property
    def name(self) -> str:
        return f"fat{self.type}-{self.cluster}"


CASES = (
    Case(12, 512, 1 * MIB, 2 * MIB), Case(12, 4096, 8 * MIB, 15 * MIB), Case(12, 32768, 60 * MIB, 120 * MIB),
    Case(16, 512, 8 * MIB, 30 * MIB), Case(16, 2048, 20 * MIB, 120 * MIB), Case(16, 32768, 200 * MIB, 2 * GIB),
    Case(32, 512, 40 * MIB, 300 * MIB), Case(32, 4096, 300 * MIB, 3 * GIB), Case(32, 32768, 3 * GIB, 30 * GIB),
)
# Long, accented, deep, many and fragmented: every second small file is removed before the large one is written.
FILL = r"""
mkdir -p "$D/roms/gb" "$D/A folder with a long name" "$D/many"
i=0; while [ $i -lt 60 ]; do head -c $((i * 37)) /dev/urandom >"$D/many/file number $i.sav"; i=$((i + 1)); done
i=0; while [ $i -lt 60 ]; do rm "$D/many/file number $i.sav"; i=$((i + 2)); done
head -c 150000 /dev/urandom >"$D/roms/gb/Täst Größe.gb"
head -c 40000 /dev/urandom >"$D/UPPER.BIN"; head -c 1000 /dev/urandom >"$D/lower.txt"
: >"$D/empty"; head -c 60000 /dev/urandom >"$D/A folder with a long name/x.sav"
"""


def tree_of(blocks) -> dict[str, tuple[str, int, int, str]]:
    """What our reader finds, in the shape of the kernel's listing."""
    volume = open_volume(blocks)
    return {e.path: (str(e.kind), e.size, e.modified or 0,
                     md5(b"".join(volume.read_file(e))).hexdigest() if e.kind == Kind.FILE else "")
            for e in volume.tree().entries}


def checker(image: Path) -> str:
    """What the system's own checker says, forced, without mending."""
    done = subprocess.run(["fsck.vfat", "-n", image], capture_output=True, text=True, check=False)
    return "" if done.returncode == 0 else done.stdout + done.stderr


def letter(number: int) -> str:
    return chr(ord("a") + number)


def test_volumes_of_the_system_are_read_and_grown_without_a_difference(tmp_path: Path):
    images = [tmp_path / f"{case.name}.img" for case in CASES]
    for case, image in zip(CASES, images, strict=True):
        with image.open("wb") as file:
            file.truncate(case.size)
        subprocess.run(["mkfs.vfat", "-F", str(case.type), "-s", str(case.cluster // 512), "-n", "GAMES", image],
                       check=True, capture_output=True)
    script = "".join(f"{MOUNT} /dev/vd{letter(k)} /mnt\nD=/mnt\n{FILL}\necho '@{case.name}'; list /mnt; umount /mnt\n"
                     for k, case in enumerate(CASES))
    filled = machine.run(script, images)
    for case, image in zip(CASES, images, strict=True):
        with open_blocks(image, writable=True) as blocks:
            assert tree_of(blocks) == filled.tree(case.name), case
            assert [f.sentence for f in volumes.check(open_volume(blocks))] == [], case
        with image.open("r+b") as file:
            file.truncate(case.grown)
        with open_blocks(image, writable=True) as blocks:
            plan = grow(blocks, case.grown, Watch())
            assert plan.shift > 0 or case.type == 12, f"{case}: the FAT was meant to get longer"
            assert [f.sentence for f in volumes.check(open_volume(blocks))] == [], case
        assert checker(image) == "", case
    script = "".join(
        f"{MOUNT} /dev/vd{letter(k)} /mnt\necho '@{case.name}'; list /mnt\necho '@{case.name} size'; "
        f"stat -f -c '%b %S' /mnt; head -c 300000 /dev/urandom >/mnt/written-after.bin; umount /mnt\n"
        for k, case in enumerate(CASES))
    grown = machine.run(script, images)
    for case, image in zip(CASES, images, strict=True):
        assert grown.tree(case.name) == filled.tree(case.name), case
        clusters, unit = map(int, grown.parts[f"{case.name} size"][0].split())
        assert clusters * unit > case.size, case
        assert checker(image) == "", case
    assert [line for line in filled.parts["kernel"] + grown.parts["kernel"] if "FAT" in line.upper()] == []


def test_kernel_finds_and_reads_a_card_that_we_made_and_grew(tmp_path: Path):
    image = tmp_path / "card.img"
    with image.open("wb") as file:
        file.truncate(600 * MIB)
    from mosscrate.core.volumes.fat.structures import FatType
    with open_blocks(image, writable=True) as blocks:
        lay_out(blocks, [(MIB, 16 * MIB, FatType.FAT16, "PEAT", some_files(5)),
                         (17 * MIB, 80 * MIB, FatType.FAT32, "GAMES", some_files(6, 200))])
        perform(GrowPartition(2), blocks, None, Watch())
        ours = {p.index: tree_of(Window(blocks, p.start, p.length)) for p in read_map(blocks).partitions}
    seen = machine.run(f"echo @size; cat /sys/block/vda/vda2/start /sys/block/vda/vda2/size\n"
                       f"for n in 1 2; do {MOUNT},ro /dev/vda$n /mnt; echo @$n; list /mnt; umount /mnt; done", [image])
    assert [int(line) for line in seen.parts["size"]] == [17 * MIB // 512, 583 * MIB // 512]
    assert {n: seen.tree(str(n)) for n in (1, 2)} == ours
    assert [line for line in seen.parts["kernel"] if "FAT" in line.upper()] == []
