"""exFAT and ext: what a real kernel wrote is read equal, what we made and changed it reads equal and checkers pass."""

from __future__ import annotations

import random
import shutil
import subprocess
from dataclasses import dataclass
from hashlib import md5
from pathlib import Path

import pytest

from mosscrate.core import volumes
from mosscrate.core.blocks import open_blocks
from mosscrate.core.errors import FitError
from mosscrate.core.sheet.running.performing import perform
from mosscrate.core.sheet.steps import ReplayJournal
from mosscrate.core.volumes import Kind, Making, Traits, edit, format_for, format_of, open_volume
from mosscrate.core.watch import Watch
from tests.kernel import machine
from tests.volumes import MIB, Model

needed = ("mkfs.exfat", "fsck.exfat", "mkfs.ext4", "e2fsck", "fsck.vfat")
missing = [tool for tool in needed if shutil.which(tool) is None]
pytestmark = [pytest.mark.kernel,
              pytest.mark.skipif(not machine.is_available(), reason="no machine emulator (qemu-system-x86) here"),
              pytest.mark.skipif(bool(missing), reason=f"the system's {', '.join(missing)} are missing")]
GIB = 1 << 30
MOUNT = {"exfat": "mount -t exfat -o iocharset=utf8", "ext": "mount -t ext4",
         "fat": "mount -t vfat -o utf8=1,shortname=mixed,tz=UTC"}


@dataclass(frozen=True)
class Case:
    """A volume: how it is made ("" by us), and what it is resized to."""

    name: str
    kind: str
    size: int
    resized: int
    maker: str = ""
    block: int | None = None

    @property
    def family(self) -> str:
        return self.kind.rstrip("1234567890")


def ext(name: str, size: int, resized: int, options: str, kind: str = "ext4") -> Case:
    return Case(name, kind, size, resized, f"mkfs.{kind} -q -F -L GAMES {options}")


SYSTEM = (
    Case("exfat-4k", "exfat", 64 * MIB, 3 * GIB, "mkfs.exfat -L GAMES -c 4K"),
    Case("exfat-32k", "exfat", 2 * GIB, 40 * GIB, "mkfs.exfat -L GAMES -c 32K"),
    ext("ext4-64M", 64 * MIB, 2 * GIB, "-b 4096"), ext("ext4-1k", 64 * MIB, 2 * GIB, "-b 1024"),
    ext("ext4-meta-bg", 500 * MIB, 14 * GIB, "-b 4096 -O ^resize_inode"),
    ext("ext4-60G", 4600 * MIB, 60 * GIB, "-b 4096 -E lazy_itable_init=1"),
    ext("ext4-500G", 30 * GIB, 500 * GIB, "-b 4096 -E lazy_itable_init=1"),
    ext("ext4-crc16", 100 * MIB, 3 * GIB, "-b 1024 -O ^metadata_csum,uninit_bg"),
    ext("ext4-plain", 100 * MIB, 3 * GIB, "-b 4096 -O ^metadata_csum,^64bit,^flex_bg,^resize_inode"),
    ext("ext4-inline", 64 * MIB, 700 * MIB, "-b 4096 -O inline_data"),
    ext("ext4-shrunk", 2 * GIB, 300 * MIB, "-b 4096"), ext("ext3", 64 * MIB, 1 * GIB, "-b 1024", "ext3"),
    ext("ext2", 32 * MIB, 20 * MIB, "-b 1024", "ext2"),
)
OURS = (
    Case("our-exfat", "exfat", 40 * MIB, 900 * MIB), Case("our-exfat-shrunk", "exfat", 200 * MIB, 30 * MIB, block=4096),
    Case("our-ext4", "ext4", 64 * MIB, 5 * GIB), Case("our-ext4-4k", "ext4", 700 * MIB, 200 * MIB, block=4096),
    Case("our-ext3", "ext3", 40 * MIB, 300 * MIB), Case("our-ext2", "ext2", 20 * MIB, 100 * MIB),
    Case("our-fat12", "fat12", 4 * MIB, 2 * MIB, block=2048),
    Case("our-fat16", "fat16", 60 * MIB, 20 * MIB, block=2048),
    Case("our-fat32", "fat32", 300 * MIB, 80 * MIB, block=512),
)
FILL = r"""
mkdir -p "$D/roms/gb" "$D/A folder with a long name" "$D/many"
i=0; while [ $i -lt 80 ]; do head -c $((i * 137)) /dev/urandom >"$D/many/file number $i.sav"; i=$((i + 1)); done
i=0; while [ $i -lt 80 ]; do rm "$D/many/file number $i.sav"; i=$((i + 2)); done
head -c 200000 /dev/urandom >"$D/roms/gb/Täst Größe.gb"; head -c 1000 /dev/urandom >"$D/lower.txt"
: >"$D/empty"; head -c 90000 /dev/urandom >"$D/A folder with a long name/x.sav"
ln -s ../roms/gb "$D/many/link" 2>/dev/null; ln "$D/lower.txt" "$D/hard link" 2>/dev/null
dd if=/dev/urandom of="$D/sparse" bs=1k count=20 seek=900 2>/dev/null
"""


WRITE = 'head -c 300000 /dev/urandom >"$D/written after.bin"; mkdir "$D/new"'


def checker(case: Case, image: Path) -> str:
    """What the system's own checker says, forced, without mending."""
    command = {"exfat": ["fsck.exfat", "-n"], "ext": ["e2fsck", "-f", "-n"], "fat": ["fsck.vfat", "-n"]}[case.family]
    done = subprocess.run([*command, image], capture_output=True, text=True, check=False)
    return "" if done.returncode == 0 else done.stdout + done.stderr


def tree_of(image: Path) -> dict[str, tuple[str, int, int, str]]:
    """What our reader finds, in the shape of the kernel's listing."""
    with open_blocks(image) as blocks:
        volume = open_volume(blocks)
        found = volume.tree()
        assert found.findings == ()
        return {e.path: (str(e.kind), e.size if e.kind == Kind.FILE else 0, e.modified or 0,
                         md5(b"".join(volume.read_file(e))).hexdigest() if e.kind == Kind.FILE else "")
                for e in found.entries}


def plain(tree: dict[str, tuple[str, int, int, str]]) -> dict[str, tuple[str, int, str]]:
    """Without times: folders and links have those of the kernel's own clock."""
    return {path: (kind, size, digest) for path, (kind, size, _, digest) in tree.items()}


def resize(case: Case, image: Path) -> None:
    if case.resized > case.size:
        with image.open("r+b") as file:
            file.truncate(case.resized)
    with open_blocks(image, writable=True) as blocks:
        format = format_of(blocks)
        change = format.grow if case.resized > case.size else format.shrink
        done = change(blocks, case.resized, Watch())
        assert abs(done.size - case.resized) < 140 * MIB if case.family == "ext" else done.size <= case.resized
        assert [f.sentence for f in volumes.check(open_volume(blocks))] == [], case
    if case.resized < case.size:
        with image.open("r+b") as file:
            file.truncate(case.resized)


def change(image: Path) -> None:
    """Our own changes to what the kernel wrote."""
    rnd = random.Random(5)
    with open_blocks(image, writable=True) as blocks:
        editor = edit(blocks)
        editor.add_folder("ours", Traits(1_700_000_000))
        for k in range(40):
            editor.add_file(f"ours/Spiel Nr {k} äöü.sav", rnd.randbytes(k * 401), Traits(1_700_000_000 + 2 * k))
        for k in (1, 21, 41):
            editor.remove(f"many/file number {k}.sav")
        editor.rename("many", "ours/moved")
        editor.rename("roms/gb/Täst Größe.gb", "renamed.gb")
        editor.remove("roms")
        editor.commit()


def make_and_fill(case: Case, image: Path) -> None:
    with open_blocks(image, writable=True) as blocks:
        format_for(case.kind).make(blocks, Making(case.kind, "GAMES", case.block))
        rnd, model = random.Random(case.name), Model(case.kind)
        editor = edit(blocks)
        for _ in range(120):
            model.step(editor, rnd)
        editor.commit()


def listing(cases, images, extra: str = "") -> str:
    return "".join(f"D=/mnt; {MOUNT[c.family]} /dev/vd{chr(97 + k)} /mnt\n{extra}\necho '@{c.name}'; list /mnt\n"
                   f"umount /mnt\n" for k, (c, _) in enumerate(zip(cases, images, strict=True)))


def complaints(outcome: machine.Outcome) -> list[str]:
    fine = ("mounted filesystem", "unmounting filesystem", "mounting ext", "Volume was not properly")
    return [line for line in outcome.parts["kernel"] if any(w in line for w in ("EXT4-fs", "exFAT", "FAT-fs", "JBD2"))
            and not any(word in line for word in fine)]


def test_a_real_kernel_and_we_agree_about_exfat_and_ext(tmp_path: Path):
    theirs = [tmp_path / f"{case.name}.img" for case in SYSTEM]
    for case, image in zip(SYSTEM, theirs, strict=True):
        with image.open("wb") as file:
            file.truncate(case.size)
        subprocess.run([*case.maker.split(), image], check=True, capture_output=True)
    filled = machine.run(listing(SYSTEM, theirs, FILL), theirs)
    for case, image in zip(SYSTEM, theirs, strict=True):
        assert tree_of(image) == filled.tree(case.name), case
        with open_blocks(image) as blocks:
            assert [f.sentence for f in volumes.check(open_volume(blocks))] == [], case
        change(image)
        assert checker(case, image) == "", case
        resize(case, image)
        assert checker(case, image) == "", case
    ours = [tmp_path / f"{case.name}.img" for case in OURS]
    for case, image in zip(OURS, ours, strict=True):
        with image.open("wb") as file:
            file.truncate(case.size)
        make_and_fill(case, image)
        assert checker(case, image) == "", case
        resize(case, image)
        assert checker(case, image) == "", case
    cases, images = (*SYSTEM, *OURS), [*theirs, *ours]
    before = [tree_of(image) for image in images]
    seen = machine.run(listing(cases, images), images)
    assert complaints(filled) + complaints(seen) == []
    for case, found in zip(cases, before, strict=True):
        assert plain(seen.tree(case.name)) == plain(found), case
    after = machine.run(listing(cases, images, WRITE), images)
    assert complaints(after) == []
    for case, image in zip(cases, images, strict=True):
        assert plain(tree_of(image)) == plain(after.tree(case.name)), case
        assert checker(case, image) == "", case


DIRTY = r"""
mount -t ext4 /dev/vd$L /mnt; D=/mnt
FILL
sync; echo "@$N"; list /mnt
for k in 1 2 3 4 5 6 7 8 9; do echo $k >"$D/late $k"; done
rm "$D/many/file number 5.sav"; sync
echo "@$N later"; list /mnt
""".replace("FILL", FILL)


def test_a_journal_that_was_left_dirty_is_replayed_on_a_view_and_then_for_real(tmp_path: Path):
    """The machine goes down with the volumes mounted: what was synced stands in their journals."""
    options = {"csum": "-b 1024", "plain": "-b 4096 -O ^metadata_csum,^64bit"}
    images = [tmp_path / f"{name}.img" for name in options]
    for image, how in zip(images, options.values(), strict=True):
        with image.open("wb") as file:
            file.truncate(64 * MIB)
        subprocess.run(["mkfs.ext4", "-q", "-F", *how.split(), image], check=True)
    script = "".join(f"L={chr(97 + k)}; N={name}\n{DIRTY}" for k, name in enumerate(options))
    script += "echo @kernel; echo @end; exec poweroff -f -n\n"          # no unmount, no last sync
    seen = machine.run(script, images)
    for name, image in zip(options, images, strict=True):
        before = image.read_bytes()
        with open_blocks(image) as blocks:
            volume = open_volume(blocks)
            assert volume.replayed, "the volume was meant to be dirty"
            assert not volume.is_clean
            with pytest.raises(FitError, match="journal must be replayed"):
                edit(blocks)
        assert plain(tree_of(image)) == plain(seen.tree(f"{name} later")), name
        assert image.read_bytes() == before
        with open_blocks(image, writable=True) as blocks:
            done = perform(ReplayJournal(0), blocks, None, Watch())
            assert "carried out" in done.sentence
            assert [f.sentence for f in volumes.check(open_volume(blocks))] == []
        assert plain(tree_of(image)) == plain(seen.tree(f"{name} later")), name
        done = subprocess.run(["e2fsck", "-f", "-n", image], capture_output=True, text=True, check=False)
        assert done.returncode == 0, done.stdout
