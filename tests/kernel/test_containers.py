"""Disks in VHD and qcow2 files of ours, attached to a machine as they are: the kernel finds, reads and fills them."""

from __future__ import annotations

from hashlib import md5
from pathlib import Path

import pytest

from mosscrate.core.blocks import Blocks
from mosscrate.core.contents import survey
from mosscrate.core.contents.survey import open_partition
from mosscrate.core.images import disk_in, open_image
from mosscrate.core.sheet.running.converting import Conversion, convert_to
from mosscrate.core.volumes import Kind
from mosscrate.core.watch import Watch
from tests.cards import MIB, handheld
from tests.kernel import machine

pytestmark = [pytest.mark.kernel,
              pytest.mark.skipif(not machine.is_available(), reason="no machine emulator (qemu-system-x86) here")]
KINDS = ("vhd", "vhd-fixed", "qcow2", "qcow2-packed")


def sums(disk: Blocks) -> dict[str, str]:
    """MD5 of every file of the second partition."""
    volume = open_partition(disk, 2)
    return {e.path: md5(b"".join(volume.read_file(e)), usedforsecurity=False).hexdigest()
            for e in volume.tree().entries if e.kind == Kind.FILE}


def test_a_machine_reads_and_fills_our_files_and_we_read_what_it_wrote(tmp_path: Path):
    card = handheld(90 * MIB)
    files = []
    for kind in KINDS:
        files.append(tmp_path / f"{kind}.{kind.partition(chr(45))[0]}")
        convert_to(files[-1], card, Conversion(kind=kind), Watch())
    script = ""
    for k, kind in enumerate(KINDS):
        disk = f"vd{chr(97 + k)}"
        listed = "(cd /mnt; find . -type f -print0 | xargs -0 md5sum)"
        script += (f"mount -t vfat -o utf8 /dev/{disk}2 /mnt; echo '@{kind} before'; {listed}; mkdir /mnt/new; n=0\n"
                   "while [ $n -lt 12 ]; do dd if=/dev/urandom of=/mnt/new/$n.bin bs=1M count=4 2>/dev/null\n"
                   f"n=$((n+1)); done; rm /mnt/new/3.bin; sync; echo '@{kind} after'; {listed}; umount /mnt\n"
                   f"echo '@{kind} size'; cat /sys/block/{disk}/size\n")
    seen = machine.run(script, files)

    def told(part: str) -> dict[str, str]:
        return {line[36:]: line[:32] for line in seen.parts[part] if len(line) > 36}

    for kind, file in zip(KINDS, files, strict=True):
        assert seen.parts[f"{kind} size"] == [str(card.size // 512)]
        assert told(f"{kind} before") == sums(card)
        with disk_in(open_image(file)) as disk:
            assert sums(disk) == told(f"{kind} after")
            assert len(sums(disk)) == len(sums(card)) + 11
            assert [f.sentence for f in survey(disk, thorough=True).findings if f.severity == "problem"] == []
