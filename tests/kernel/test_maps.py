"""Partition maps that we wrote, as a real kernel finds them: same numbers, starts and lengths."""

from __future__ import annotations

from pathlib import Path

import pytest

from mosscrate.core.blocks import open_blocks
from mosscrate.core.contents import survey
from mosscrate.core.maps import MapKind, edits, read_map, write_map
from mosscrate.core.maps.mbr import is_extended
from mosscrate.core.sheet import steps as s
from mosscrate.core.sheet.planning.making_room import growth_with_room
from mosscrate.core.sheet.running.performing import perform
from mosscrate.core.watch import Watch
from tests.kernel import machine
from tests.volumes import MIB

pytestmark = [pytest.mark.kernel,
              pytest.mark.skipif(not machine.is_available(), reason="no machine emulator (qemu-system-x86) here")]
STEPS = {
    "gpt": (s.NewMap("gpt"), s.AddPartition("fat16", 40 * MIB, label="PEAT"), s.AddPartition("ext4", 60 * MIB),
            s.AddPartition("exfat"), s.RemovePartition(2), s.MovePartition(1, 60 * MIB)),
    "mbr": (s.NewMap("mbr"), s.AddPartition("fat16", 40 * MIB), s.FillWithDrives(60 * MIB, 300 * MIB),
            s.RemovePartition(6), s.AddPartition("ext4", 20 * MIB, is_logical=True)),
    "pushed": (s.NewMap("mbr"), s.AddPartition("fat16", 40 * MIB), s.FillWithDrives(60 * MIB, 200 * MIB)),
    "grown": (s.NewMap("gpt"), s.AddPartition("ext4", 60 * MIB), s.GrowPartition(1)),
}


def test_the_kernel_finds_our_maps_as_we_meant_them(tmp_path: Path):
    images = []
    for name, steps in STEPS.items():
        images.append(tmp_path / f"{name}.img")
        with images[-1].open("wb") as file:
            file.truncate(400 * MIB + 512 * 77)
        with open_blocks(images[-1], writable=True) as blocks:
            for step in steps:
                perform(step, blocks, None, Watch())
            for step in growth_with_room(survey(blocks), 1, 60 * MIB) if name == "pushed" else ():
                perform(step, blocks, None, Watch())                     # the extended partition gives way
    script = "".join(f"echo '@{name}'; for p in /sys/block/vd{chr(97 + k)}/vd*; do "
                     "echo $(cat $p/partition) $(cat $p/start) $(cat $p/size); done\n" for k, name in enumerate(STEPS))
    seen = machine.run(script, images)
    for name, image in zip(STEPS, images, strict=True):
        with open_blocks(image) as blocks:
            map_ = read_map(blocks)
            assert map_.findings == ()
        ours = {(p.index, p.start // 512, 2 if is_extended(p) else p.length // 512) if map_.kind == MapKind.MBR
                else (p.index, p.start // 512, p.length // 512) for p in map_.partitions}
        assert {tuple(map(int, line.split())) for line in seen.parts[name]} == ours, name
    assert [line for line in seen.parts["kernel"] if "GPT" in line or "corrupt" in line] == []


def test_a_gpt_with_one_damaged_copy_is_mended_so_that_the_kernel_takes_it(tmp_path: Path):
    image = tmp_path / "card.img"
    with image.open("wb") as file:
        file.truncate(100 * MIB)
    with open_blocks(image, writable=True) as blocks:
        for step in STEPS["grown"]:
            perform(step, blocks, None, Watch())
        blocks.zero(512, 512)
        assert "first copy" in read_map(blocks).findings[0].sentence
        perform(s.MendMap(), blocks, None, Watch())
        map_ = read_map(blocks)
        assert map_.findings == ()
        write_map(blocks, edits.named(map_, 1, "STATE"))
    seen = machine.run("echo @start; cat /sys/block/vda/vda1/start", [image])
    assert int(seen.parts["start"][0]) == map_.partition(1).start // 512
