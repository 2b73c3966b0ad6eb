"""Drives of big-endian home computers: the real kernel finds our map, reads our volumes, writes into them."""

from __future__ import annotations

import random
from hashlib import md5
from pathlib import Path

import pytest

from mosscrate.core import volumes
from mosscrate.core.blocks import Window, open_blocks
from mosscrate.core.contents import survey
from mosscrate.core.errors import FitError
from mosscrate.core.maps import read_map
from mosscrate.core.sheet import steps as s
from mosscrate.core.sheet.running.performing import perform
from mosscrate.core.volumes import Kind, edit, open_volume
from mosscrate.core.watch import Watch
from mosscrate.demo.cards import apple_map
from mosscrate.demo.contents import MadeFile
from mosscrate.demo.hfs import make_hfs
from tests.kernel import machine
from tests.volumes import MIB, Model

pytestmark = [pytest.mark.kernel,
              pytest.mark.skipif(not machine.is_available(), reason="no machine emulator (qemu-system-x86) here")]
KINDS = (("ofs", 512), ("ffs", 512), ("ofs-intl", 512), ("ffs-intl", 512), ("ffs-intl", 1024), ("ofs", 2048),
         ("ffs", 4096))
CACHED = (("ofs-cache", 512), ("ffs-cache", 512))        # the kernel reads these only
WRITE = r"""
mkdir "$D/kernel"; i=0
while [ $i -lt 40 ]; do head -c $((i * 301)) /dev/urandom >"$D/kernel/file $i"; i=$((i + 1)); done
i=0; while [ $i -lt 40 ]; do rm "$D/kernel/file $i"; i=$((i + 3)); done
mv "$D/kernel/file 1" "$D/renamed by it"
ln "$D/renamed by it" "$D/kernel/a second name"; ln "$D/renamed by it" "$D/third name"
"""


def latin(tree):
    """The kernel gives names as they stand on the disk: Latin-1."""
    return {p.encode("utf-8", "surrogateescape").decode("latin-1"): v for p, v in tree.items()}


def tree_of(blocks):
    volume = open_volume(blocks)
    found = volume.tree()
    assert found.findings == ()
    return {e.path: (str(e.kind), e.size, e.modified if e.kind == Kind.FILE else 0,
                     md5(b"".join(volume.read_file(e))).hexdigest() if e.kind == Kind.FILE else "")
            for e in found.entries if e.kind != Kind.LINK}


def faults(window):
    """What our check finds; the kernel leaves blocks behind the end of OFS files, which is only noted."""
    return [f.sentence for f in volumes.check(open_volume(window)) if f.severity != "note"]


def plain(tree):
    return {p: (k, s, t if k == "file" else 0, d) for p, (k, s, t, d) in tree.items() if k != "link"}


def test_a_drive_of_ours_is_found_read_and_written_by_the_kernel(tmp_path: Path):
    image = tmp_path / "drive.img"
    with image.open("wb") as file:
        file.truncate(220 * MIB)
    with open_blocks(image, writable=True) as blocks:
        perform(s.NewMap("rdb"), blocks, None, Watch())
        for kind, block in KINDS + CACHED:
            perform(s.AddPartition(kind, 20 * MIB, label=f"Label {kind}", block=block), blocks, None, Watch())
        parts = read_map(blocks).partitions
        for p in parts:
            rnd, model, editor = random.Random(p.index), Model("ffs"), edit(Window(blocks, p.start, p.length))
            for _ in range(200):
                model.step(editor, rnd)
            editor.add_file("large", rnd.randbytes(3_000_000))
            editor.commit()
        ours = {p.index: tree_of(Window(blocks, p.start, p.length)) for p in parts}
    script = "echo @parts; cd /sys/block/vda; for n in 1 2 3 4 5 6 7 8 9; do echo $(cat vda$n/start vda$n/size); done\n"
    for p in parts[:len(KINDS)]:
        script += (f"mount -t affs /dev/vda{p.index} /mnt; D=/mnt; echo '@{p.index}'; list /mnt\n{WRITE}\n"
                   f"echo '@{p.index} later'; list /mnt; umount /mnt\n")
    for p in parts[len(KINDS):]:
        script += f"mount -t affs /dev/vda{p.index} /mnt; echo '@{p.index}'; list /mnt; umount /mnt\n"
    seen = machine.run(script, [image])
    assert [tuple(map(int, line.split())) for line in seen.parts["parts"]] == \
        [(p.start // 512, p.length // 512) for p in parts]
    with open_blocks(image) as blocks:
        for p in parts:
            assert plain(latin(seen.tree(str(p.index)))) == ours[p.index], p.type_name
            window = Window(blocks, p.start, p.length)
            if p.index > len(KINDS):
                continue
            assert tree_of(window) == plain(latin(seen.tree(f"{p.index} later"))), p.type_name
            assert faults(window) == [], p.type_name
    with open_blocks(image, writable=True) as blocks:                 # what has other names lives on under them
        for p in parts[:len(KINDS)]:
            window = Window(blocks, p.start, p.length)
            held = tree_of(window)["renamed by it"]
            for gone, left in (("renamed by it", "kernel/a second name"), ("third name", "kernel/a second name")):
                editor = edit(window)
                editor.remove(gone)
                editor.commit()
                assert tree_of(window)[left] == held, p.type_name
                assert faults(window) == [], p.type_name
    assert [line for line in seen.parts["kernel"] if "AFFS" in line and "error" in line.lower()] == []


@pytest.mark.parametrize("is_chained", [False, True], ids=["second style", "chained"])
def test_an_ahdi_drive_of_ours_is_found_read_and_written_by_the_kernel(tmp_path: Path, is_chained):
    image = tmp_path / "corvid.img"
    with image.open("wb") as file:
        file.truncate(90 * MIB)
    with open_blocks(image, writable=True) as blocks:
        perform(s.NewMap("ahdi"), blocks, None, Watch())
        for number in range(6):
            perform(s.AddPartition("gemdos", 14 * MIB, label=f"PART{number}", is_logical=is_chained and number > 2),
                    blocks, None, Watch())
        parts = read_map(blocks).partitions
        for p in parts:
            rnd, editor = random.Random(p.index), edit(Window(blocks, p.start, p.length))
            editor.add_folder("AUTO")
            for number in range(50):
                editor.add_file(f"AUTO/PROG{number}.TOS", rnd.randbytes(rnd.randrange(40_000)))
            editor.commit()
        ours = {p.index: tree_of(Window(blocks, p.start, p.length)) for p in parts}
    script = "echo @parts; for p in /sys/block/vda/vda*; do echo $(cat $p/start) $(cat $p/size); done\n"
    for p in parts:
        script += (f"mount -t msdos -o tz=UTC /dev/vda{p.index} /mnt; echo '@{p.index}'; list /mnt\n"
                   f"head -c 50000 /dev/urandom >/mnt/KERNEL.BIN; rm /mnt/auto/prog7.tos\n"
                   f"echo '@{p.index} later'; list /mnt; umount /mnt\n")
    seen = machine.run(script, [image])
    assert [tuple(map(int, line.split())) for line in seen.parts["parts"]] == \
        [(p.start // 512, p.length // 512) for p in parts]

    def upper(tree):
        return {path.upper(): (kind, size, digest) for path, (kind, size, _, digest) in tree.items()}

    with open_blocks(image) as blocks:
        for p in parts:
            assert upper(seen.tree(str(p.index))) == upper(ours[p.index])
            window = Window(blocks, p.start, p.length)
            assert upper(tree_of(window)) == upper(seen.tree(f"{p.index} later"))
            assert [f.sentence for f in volumes.check(open_volume(window))] == []


def test_an_hfs_volume_that_the_kernel_filled_is_read_bare_and_behind_a_map(tmp_path: Path):
    image, drive = tmp_path / "bare.hfs", tmp_path / "drive.img"
    laid_out = [MadeFile("Laid Out", None, 1_000_000_000)]
    laid_out += [MadeFile(f"Laid Out/Letter {k:03}", bytes((k,)) * (k * 97), 1_000_000_000) for k in range(120)]
    with image.open("wb") as file:
        file.truncate(20 * MIB)
    with open_blocks(image, writable=True) as blocks:
        make_hfs(blocks, "Old Desk", laid_out, 1_000_000_000)
        assert {e.path for e in open_volume(blocks).tree().entries} == {made.path for made in laid_out}
    fill = r"""
mkdir -p "/mnt/A Folder/Inner"; i=0
while [ $i -lt 150 ]; do head -c $((i * 211)) /dev/urandom >"/mnt/A Folder/File number $i"; i=$((i + 1)); done
i=0; while [ $i -lt 150 ]; do rm "/mnt/A Folder/File number $i"; i=$((i + 2)); done
i=0
while [ $i -lt 40 ]; do
    head -c 3000 /dev/urandom >>"/mnt/Grows"; head -c 900 /dev/urandom >"/mnt/A Folder/x$i"; i=$((i + 1))
done
head -c 900000 /dev/urandom >/mnt/large; : >"/mnt/A Folder/Inner/empty"
"""
    mount = "mount -t hfs -o codepage=macroman,iocharset=utf8"
    seen = machine.run(f"{mount} /dev/vda /mnt\n{fill}\numount /mnt; {mount} /dev/vda /mnt\necho @tree; list /mnt\n"
                       "umount /mnt\n", [image])
    wanted = {p: (k, size, digest) for p, (k, size, _, digest) in seen.tree("tree").items()}
    with open_blocks(image) as blocks:
        volume = open_volume(blocks)
        assert (volume.kind, volume.label) == ("hfs", "Old Desk")
        assert {p: (k, size, digest) for p, (k, size, _, digest) in tree_of(blocks).items()} == wanted
    data = image.read_bytes()
    drive.write_bytes(apple_map("Old Desk", len(data)) + data)
    listed = "echo @parts; for p in /sys/block/vda/vda*; do echo $(cat $p/start) $(cat $p/size); done\n"
    found = machine.run(listed, [drive])
    with open_blocks(drive) as blocks:
        layout = survey(blocks, thorough=True)
        assert [tuple(map(int, line.split())) for line in found.parts["parts"]] == \
            [(p.partition.start // 512, p.partition.length // 512) for p in layout.partitions]
        look = layout.partition(2)
        assert (layout.map_kind, look.name, look.volume.kind) == ("apple", "Old Desk", "hfs")
        with pytest.raises(FitError, match="only read"):
            perform(s.MakeFolder(2, "x"), blocks, None, Watch())
