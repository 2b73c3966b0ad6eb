"""Listing a tree of 20,000 files."""

from __future__ import annotations

import statistics
from collections.abc import Iterator
from pathlib import Path

from benches.figure import Figure, seconds
from mosscrate.core.blocks import create_image
from mosscrate.core.volumes import open_volume
from mosscrate.core.volumes.fat.editing import FatEditor
from mosscrate.core.volumes.fat.making import make, plan_geometry
from mosscrate.core.volumes.fat.structures import FatType


def figures(folder: Path) -> Iterator[Figure]:
    with create_image(folder / "list.img", 1 << 30) as blocks:
        make(blocks, plan_geometry(blocks.size, FatType.FAT32), label="GAMES", volume_id=1)
        editor = FatEditor(blocks)
        for number in range(200):
            editor.add_folder(f"system {number}")
            for name in range(100):
                editor.add_file(f"system {number}/A game with a long name, number {name} (rev 2).gb", b"rom")
        editor.commit()
        rounds = [seconds(lambda: len(open_volume(blocks).tree().entries)) for _ in range(5)]
        yield Figure("list 20,000 files in 200 folders", statistics.median(rounds), 1.5, "s", "median of 5")
    (folder / "list.img").unlink()
