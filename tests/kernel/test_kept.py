"""Cards that were kept, put back onto cards of another size class: a kernel mounts what is there then."""

from __future__ import annotations

from hashlib import md5
from pathlib import Path

import pytest

from mosscrate.core.blocks import Window, create_image
from mosscrate.core.contents import survey
from mosscrate.core.contents.survey import open_partition
from mosscrate.core.sheet import steps as s
from mosscrate.core.sheet.bench import card_of
from mosscrate.core.sheet.planning.propose import propose
from mosscrate.core.sheet.running.performing import perform
from mosscrate.core.sheet.running.run import run
from mosscrate.core.volumes import Kind, edit
from mosscrate.core.watch import Watch
from tests.cards import MIB, put_card
from tests.kernel import machine

pytestmark = [pytest.mark.kernel,
              pytest.mark.skipif(not machine.is_available(), reason="no machine emulator (qemu-system-x86) here")]
KINDS = {"fat16": (60, 700), "fat32": (80, 9000), "exfat": (64, 5000), "ext4": (64, 3000)}      # MiB then and now


def laid_out(bench, kind: str, size: int) -> None:
    """A card with one volume whose free room holds old bytes."""
    path = bench.state.parent / f"{kind}.img"
    with create_image(path, size) as blocks:
        for at in range(0, size, MIB):
            blocks.write(at, b"old" * 300)
        for step in (s.NewMap("mbr"), s.AddPartition(kind, label="GAMES")):
            perform(step, blocks, None, Watch())
        editor = edit(open_window(blocks))
        editor.add_folder("roms")
        for number in range(40):
            editor.add_file(f"roms/A long name of a game {number}.bin", bytes([number]) * (number * 9001 + 1))
        editor.commit()
    put_card(bench, kind, size, path.read_bytes(), name=kind.title())


def open_window(blocks) -> Window:
    place = survey(blocks).partitions[0].partition
    return Window(blocks, place.start, place.length)


def sums(medium) -> dict[str, str]:
    with medium.open() as blocks:
        volume = open_partition(blocks, 1)
        return {e.path: md5(b"".join(volume.read_file(e)), usedforsecurity=False).hexdigest()
                for e in volume.tree().entries if e.kind == Kind.FILE}


def test_a_kept_card_comes_back_onto_one_of_another_size_class(bench, tmp_path: Path):
    wanted, script, disks = {}, "", []
    for number, (kind, (then, now)) in enumerate(KINDS.items()):
        laid_out(bench, kind, then * MIB)
        card = bench.shelf.find(kind.title())
        wanted[kind] = sums(card)
        with card.open() as blocks:
            backup = bench.crate.keep(card_of(card), blocks, Watch())
        put_card(bench, f"new-{kind}", now * MIB, name=f"New {kind}")
        source, target = bench.shelf.find(str(backup.path)), bench.shelf.find(f"New {kind}")
        with source.open() as a, target.open() as b:
            sheet = propose(source, survey(a), target, survey(b), bench.crate)
        assert any(isinstance(step, s.GrowPartition | s.RebuildPartition) for step in sheet.steps)
        run(sheet, bench, Watch(), typed_tag=target.tag)
        disks.append(target.path)
        mounted, disk = {"fat16": "vfat -o utf8", "fat32": "vfat -o utf8"}.get(kind, kind), f"vd{chr(97 + number)}"
        script += (f"mount -t {mounted} /dev/{disk}1 /mnt; echo '@{kind}'; (cd /mnt; find . -type f -print0 | "
                   f"xargs -0 md5sum); echo '@{kind} room'; df -k /mnt | tail -1; umount /mnt\n")
    seen = machine.run(script, disks)
    for kind, (_, now) in KINDS.items():
        assert {line[36:]: line[:32] for line in seen.parts[kind] if len(line) > 36} == wanted[kind]
        assert int(" ".join(seen.parts[f"{kind} room"]).split()[1]) > 0.9 * now * 1024
