"""Each feature of today's ext4, and names that fold alike: a real kernel mounts and reads what we changed."""

from __future__ import annotations

import random
import shutil
import subprocess
from pathlib import Path

import pytest

from mosscrate.core.blocks import MemoryBlocks, open_blocks
from mosscrate.core.sheet.running.performing import perform
from mosscrate.core.sheet.steps import GrowPartition, MovePartition, PutFiles
from mosscrate.core.volumes import Kind, check, edit, format_with, open_volume, smallest
from mosscrate.core.volumes.base import Traits
from mosscrate.core.watch import Watch
from tests.core.volumes.test_ext_features import FEATURES, made
from tests.kernel import machine
from tests.kernel.test_exfat_and_ext import MOUNT, WRITE, complaints, plain, tree_of
from tests.volumes import MIB

needed = ("mkfs.exfat", "mkfs.vfat", "mkfs.ext4", "e2fsck")
pytestmark = [pytest.mark.kernel,
              pytest.mark.skipif(not machine.is_available(), reason="no machine emulator (qemu-system-x86) here"),
              pytest.mark.skipif(any(shutil.which(tool) is None for tool in needed), reason=f"needs {needed}")]
WHEN = 1_700_000_000
ALIKE = {"fat16": ("CAFÉ x", "Café x"), "fat32": ("CAFÉ x", "Café x"), "exfat": ("maẞ", "maß")}
MAKE = {"fat16": "mkfs.vfat -F 16 -s 4", "fat32": "mkfs.vfat -F 32 -s 1", "exfat": "mkfs.exfat -c 4K"}
SIZE = {"fat16": 40 * MIB, "fat32": 60 * MIB, "exfat": 40 * MIB}


def letter(number: int) -> str:
    return chr(97 + number)


def in_a_map(volume: bytes) -> MemoryBlocks:
    """A card with a volume as its second partition, room in front of it and behind."""
    card = MemoryBlocks(bytes(300 * MIB))
    at, length = 40 * MIB, len(volume)
    card.data[at:at + length] = volume
    card.data[446:462] = bytes((0, 0, 0, 0, 0x83, 0, 0, 0)) + (at // 512).to_bytes(4, "little") + (
        length // 512).to_bytes(4, "little")
    card.data[510:512] = b"\x55\xaa"
    return card


def test_the_kernel_mounts_ext4_with_each_feature_after_put_shrink_move_and_grow(tmp_path: Path):
    images = []
    for number, features in enumerate(FEATURES):
        folder = tmp_path / f"{number}"
        folder.mkdir()
        blocks = made(features, folder)
        if low := smallest(open_volume(blocks))[0]:
            size = format_with(open_volume(blocks)).shrink(blocks, max(low, 40 * MIB), Watch()).size
            blocks = MemoryBlocks(bytes(blocks.data[:size]))
        card = in_a_map(bytes(blocks.data))
        (folder / "put.bin").write_bytes(random.Random(number).randbytes(300_000))
        for step in (PutFiles(1, (str(folder / "put.bin"),)), MovePartition(1, 4 * MIB), GrowPartition(1, 250 * MIB)):
            perform(step, card, None, Watch())
        images.append(folder / "card.img")
        images[-1].write_bytes(card.data[4 * MIB:254 * MIB])
    before = [tree_of(image) for image in images]
    assert all("put.bin" in tree for tree in before)
    seen = machine.run("".join(f"{MOUNT['ext']} /dev/vd{letter(k)} /mnt\nD=/mnt\necho '@{k}'; list /mnt\n{WRITE}\n"
                               f"echo '@{k} after'; list /mnt\numount /mnt\n" for k in range(len(images))), images)
    assert complaints(seen) == []
    for number, (image, tree) in enumerate(zip(images, before, strict=True)):
        assert plain(seen.tree(f"{number}")) == plain(tree), FEATURES[number]
        assert plain(tree_of(image)) == plain(seen.tree(f"{number} after")), FEATURES[number]
        done = subprocess.run(["e2fsck", "-fn", image], capture_output=True, text=True, check=False)
        assert done.returncode == 0, (FEATURES[number], done.stdout[-800:])


def test_names_that_fold_alike_stay_both_whatever_is_done_beside_them(tmp_path: Path):
    images = [tmp_path / f"{kind}.img" for kind in ALIKE]
    for kind, image in zip(ALIKE, images, strict=True):
        with image.open("wb") as file:
            file.truncate(SIZE[kind])
        subprocess.run([*MAKE[kind].split(), image], check=True, capture_output=True)
    mounts = [MOUNT["exfat" if kind == "exfat" else "fat"] for kind in ALIKE]
    fill = "".join(f"{mount} /dev/vd{letter(k)} /mnt\nmkdir /mnt/roms\necho first >'/mnt/roms/{a}'\n"
                   f"echo second, longer >'/mnt/roms/{b}'\necho '@{k}'; list /mnt\numount /mnt\n"
                   for k, (mount, (a, b)) in enumerate(zip(mounts, ALIKE.values(), strict=True)))
    made_by_kernel = machine.run(fill, images)
    wanted = []
    for number, (kind, image) in enumerate(zip(ALIKE, images, strict=True)):
        names = {f"roms/{name}" for name in ALIKE[kind]}
        assert names <= made_by_kernel.tree(f"{number}").keys(), f"{kind}: the kernel took them for one"
        with open_blocks(image, writable=True) as blocks:
            editor = edit(blocks)
            editor.add_file("roms/third", b"third", Traits(WHEN))
            editor.add_file("roms/fourth", b"fourth", Traits(WHEN))
            editor.commit()
            editor = edit(blocks)
            editor.rename("roms/third", "roms/renamed")
            editor.remove("roms/fourth")
            editor.commit()
            assert names <= {e.path for e in open_volume(blocks).tree().entries if e.kind == Kind.FILE}
            said = [f.sentence for f in check(open_volume(blocks))]
            assert kind == "exfat" or any("are one name" in sentence for sentence in said), said
        wanted.append({**plain(made_by_kernel.tree(f"{number}")),
                       "roms/renamed": plain(tree_of(image))["roms/renamed"]})
    again = machine.run("".join(f"{mount} /dev/vd{letter(k)} /mnt\necho '@{k}'; list /mnt\numount /mnt\n"
                                for k, mount in enumerate(mounts)), images)
    assert complaints(again) == []
    for number, tree in enumerate(wanted):
        assert plain(again.tree(f"{number}")) == tree
