"""What growing a FAT32 from 2 to 32 GiB reads and writes, against what it cannot avoid."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

from benches.figure import Figure, settled
from benches.journalled import journalled
from mosscrate.core.blocks import Window, create_image
from mosscrate.core.blocks.base import Buffer, View
from mosscrate.core.volumes.fat import open_fat
from mosscrate.core.volumes.fat.editing import FatEditor
from mosscrate.core.volumes.fat.growing import grow, plan
from mosscrate.core.volumes.fat.making import make, plan_geometry
from mosscrate.core.volumes.fat.structures import FatType
from mosscrate.core.watch import Watch

GIB = 1 << 30


class Counting(View):
    """Counts what goes through."""

    read_bytes = written_bytes = 0

    def zero(self, offset: int, length: int) -> None:
        """See Blocks."""
        self.written_bytes += length
        super().zero(offset, length)

    def _read_into(self, offset: int, buffer: memoryview) -> None:
        self.read_bytes += len(buffer)
        super()._read_into(offset, buffer)

    def _write(self, offset: int, data: Buffer) -> None:
        self.written_bytes += len(data)
        super()._write(offset, data)


def figures(folder: Path) -> Iterator[Figure]:
    with create_image(folder / "grow.img", 32 * GIB) as blocks:
        window = Window(blocks, 0, 2 * GIB)
        make(window, plan_geometry(2 * GIB, FatType.FAT32, cluster=4096), label="GAMES", volume_id=1)
        editor = FatEditor(window)
        for number in range(400):
            editor.add_folder(f"folder {number}")
            for name in range(5):
                editor.add_file(f"folder {number}/a save of some size {name}.sav", b"x" * 30_000)
        editor.commit()
        volume = open_fat(window)
        folders = sum(x.length for e in volume.tree().entries if e.kind == "folder" for x in volume.extents_of(e))
        new = plan(volume, 32 * GIB)
        moved = int((volume.table[2:2 + new.shift] != 0).sum()) * volume.block
        fats = new.new.fat_count * new.new.fat_sectors * new.new.sector
        needed = fats + folders + moved
        counting = Counting(blocks)
        with journalled(counting, folder / "state") as journal:
            counting.read_bytes = counting.written_bytes = 0          # without the fingerprint, which any job takes
            took = settled(lambda: grow(journal, 32 * GIB, Watch()), journal)
            read, written = counting.read_bytes, counting.written_bytes
        detail = f"FATs {fats >> 20} MiB, folders {folders >> 10} KiB, moved {moved >> 20} MiB; {took:.2f} s"
        yield Figure("grow FAT32 2 → 32 GiB: read / (FATs + folders + moved)", read / needed, 2, "×",
                     detail)
        yield Figure("grow FAT32 2 → 32 GiB: written / the same", written / needed, 2, "×", detail)
