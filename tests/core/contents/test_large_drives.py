"""Drives beyond what maps and file systems of their time count."""

from __future__ import annotations

from mosscrate.core.blocks import create_image
from mosscrate.core.contents import survey
from mosscrate.core.sheet.running.performing import perform
from mosscrate.core.sheet.steps import AddPartition, NewMap
from mosscrate.core.watch import Watch


def test_what_no_map_and_no_file_system_reaches_on_a_very_large_drive_is_told(tmp_path):
    for kind, volume, told in (("mbr", "exfat", "2 TiB at its end are out of reach"),
                               ("gpt", "fat32", "leaves 2 TiB of its partition unused"), ("gpt", "exfat", "")):
        with create_image(tmp_path / f"{kind} {volume}.img", 4 << 40) as drive:
            for step in (NewMap(kind), AddPartition(volume, label="GAMES")):
                perform(step, drive, None, Watch())
            said = [f"{f.sentence} {f.remedy}" for f in survey(drive).findings]
        assert [told in each for each in said] == ([True] if told else [])
        assert "Growing it" not in " ".join(said)
