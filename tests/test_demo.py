"""The bench that the program is shown with: its whole journey, and what lies in its slots."""

from __future__ import annotations

from mosscrate.core.contents import survey
from mosscrate.core.watch import Watch
from mosscrate.demo.cards import bench_at
from mosscrate.demo.journey import run_headless


def test_the_journey_of_the_demo_ends_with_a_larger_card_that_is_sound(tmp_path):
    said: list[str] = []
    run_headless(tmp_path / "heron", Watch(), said.append)
    assert any("equal by digest" in line for line in said)
    assert "has 7.36 GiB now" in said[-1]
    assert "0 findings" in said[-1]
    bench = bench_at(tmp_path / "heron")
    kinds = set()
    for medium in bench.shelf.media():
        with medium.open() as blocks:
            layout = survey(blocks)
        kinds |= {str(layout.map_kind), *(look.volume.kind for look in layout.partitions if look.volume)}
    assert {"mbr", "rdb", "ahdi", "apple", "fat16", "fat32", "ffs", "hfs", "ext4", "exfat"} <= kinds
    assert [len(lane.backups) for lane in bench.crate.lanes()].count(0) == 0
    assert bench.crate.troubles() == []
