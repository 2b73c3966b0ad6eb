"""What a machine can take: every limit is found with its reason, and a bad description says what is wrong."""

from dataclasses import replace

import pytest

from mosscrate.core.blocks import MemoryBlocks
from mosscrate.core.contents import Layout, PartitionLook, VolumeLook, survey
from mosscrate.core.contents.roles import Role
from mosscrate.core.errors import MachineError
from mosscrate.core.findings import Severity
from mosscrate.core.machines import Machines, check, largest_in
from mosscrate.core.maps import MapKind, Partition
from mosscrate.core.sheet.running.performing import perform
from mosscrate.core.sheet.steps import NewMap
from mosscrate.core.sizes import GIB, MIB
from mosscrate.core.volumes import edit
from mosscrate.core.volumes.base import Traits
from mosscrate.core.watch import Watch
from tests.volumes import fresh


def layout_of(kind: MapKind, *volumes: tuple[str, int, int], active: bool = True, container: str = "raw") -> Layout:
    """A layout from (kind, start, length) of each volume, the first one marked to start from."""
    looks = tuple(PartitionLook(Partition(k, start, length, flags=("active",) if active and k == 1 else ()),
                                VolumeLook(name, f"V{k}"), Role.STORAGE)
                  for k, (name, start, length) in enumerate(volumes, start=1))
    return Layout(64 * GIB, 512, kind, "", looks, container)


SUITS = (
    ("pc-dos", layout_of(MapKind.MBR, ("fat16", MIB, 2 * GIB), ("fat16", 3 * GIB, 2 * GIB))),
    ("pc-fat32", layout_of(MapKind.MBR, ("fat32", MIB, 60 * GIB))),
    ("handheld-linux", layout_of(MapKind.GPT, ("fat32", MIB, GIB), ("ext4", 2 * GIB, GIB), active=False)),
    ("rdb-32bit", layout_of(MapKind.RDB, ("ffs", MIB, GIB), container="swapped")),
    ("rdb-64bit", layout_of(MapKind.RDB, ("ffs", MIB, GIB), ("ffs-intl", 5 * GIB, 8 * GIB))),
    ("rdb-64bit", layout_of(MapKind.NONE, ("ffs", 0, GIB), active=False)),
    ("gemdos-late", layout_of(MapKind.AHDI, ("gemdos", MIB, GIB), active=False)),
    ("apple-68k", layout_of(MapKind.APPLE, ("hfs", MIB, GIB), active=False)),
)

DOES_NOT = (
    ("pc-dos", layout_of(MapKind.MBR, ("fat16", MIB, 2 * GIB + 512)), "V1 has 2 GiB, above 2 GiB: FAT16"),
    ("pc-dos", layout_of(MapKind.MBR, ("fat16", MIB, GIB), ("fat16", 7 * GIB, GIB)), "ends above 7.84 GiB: INT 13h"),
    ("pc-dos", layout_of(MapKind.MBR, ("fat32", MIB, GIB)), "V1 holds FAT32"),
    ("pc-dos", layout_of(MapKind.GPT, ("fat16", MIB, GIB)), "expects an MBR; here is a GPT"),
    ("pc-dos", layout_of(MapKind.MBR, ("fat16", MIB, GIB), active=False), "No partition is marked to start from"),
    ("pc-dos", layout_of(MapKind.MBR, ("fat16", MIB, GIB), container="swapped"), "Its bytes are swapped"),
    ("pc-dos-old-bios", layout_of(MapKind.MBR, ("fat16", MIB, 504 * MIB)), "ends above 504 MiB"),
    ("pc-dos-early", layout_of(MapKind.MBR, ("fat12", MIB, 33 * MIB)), "above 32 MiB"),
    ("handheld-linux", layout_of(MapKind.MBR, ("ext4", MIB, GIB)), "does not start from ext4"),
    ("rdb-32bit", layout_of(MapKind.RDB, ("ffs", MIB, GIB), ("ffs", 4 * GIB, MIB)), "wrap around and overwrite"),
    ("rdb-64bit", layout_of(MapKind.RDB, ("ffs", 4 * GIB, GIB)), "V1, to start from, ends above 4 GiB"),
    ("gemdos-early", layout_of(MapKind.AHDI, ("gemdos", MIB, 257 * MIB)), "above 256 MiB"),
)


@pytest.mark.parametrize("key, layout", SUITS)
def test_what_suits_a_machine_gets_one_good_word(key, layout):
    found = check(layout, Machines().find(key))
    assert [f.severity for f in found] == [Severity.GOOD], found


@pytest.mark.parametrize("key, layout, words", DOES_NOT)
def test_what_does_not_is_told_with_its_reason(key, layout, words):
    found = check(layout, Machines().find(key))
    assert len(found) == 1, found
    assert words in found[0].sentence
    assert found[0].severity in (Severity.WARNING, Severity.PROBLEM)


def test_names_and_geometry_are_compared_with_what_a_machine_takes():
    machine = Machines().find("rdb-32bit")
    layout = layout_of(MapKind.RDB, ("ffs-long", MIB, GIB))
    look = layout.partition(1)
    named = layout.with_partition(replace(look, volume=replace(look.volume, kind="ffs", variant="ffs-intl",
                                                               longest_name="x" * 31)))
    (found,) = check(named, machine)
    assert "has 31 characters" in found.sentence
    assert "keep 30 characters" in found.sentence
    assert "holds FFS with long names" in check(layout, machine)[0].sentence
    for heads, sectors, count in ((16, 63, 0), (4, 32, 1)):
        blocks = MemoryBlocks(bytes(32 * MIB))
        perform(NewMap("rdb", heads, sectors), blocks, None, Watch())
        assert sum("heads" in f.sentence for f in check(survey(blocks), machine)) == count


def test_the_nearest_limit_counts_for_the_size_of_a_partition():
    machines = Machines()
    look = layout_of(MapKind.RDB, ("ffs", GIB, GIB)).partition(1)
    assert largest_in(machines.find("rdb-32bit"), look, is_boot=False)[0] == 3 * GIB
    assert largest_in(machines.find("rdb-64bit"), look, is_boot=False) is None
    assert largest_in(machines.find("rdb-64bit"), look, is_boot=True)[0] == 3 * GIB
    assert largest_in(machines.find("pc-dos"), look, is_boot=True)[0] == 2 * GIB


@pytest.mark.parametrize("text, words", [
    ('maps = ["mbr"]\nvolumes = ["fat16"]', "name"),
    ('name = "x"\nmaps = ["mbr"]\nvolumes = ["fat61"]', "“fat61”, expected one of"),
    ('name = "x"\nmaps = ["mbx"]\nvolumes = ["fat16"]', "“mbx”, expected one of mbr, gpt"),
    ('name = "x"\nmaps = ["mbr"]\nvolumes = ["fat16"]\nwheels = 4', "wheels"),
    ('name = "x"\nmaps = ["mbr"]\nvolumes = ["fat16"]\n[reach]\nsize = "far"\nbecause = "y"', "reach"),
    ('name = 4\nmaps = ["mbr"]\nvolumes = ["fat16"]', "Expected `str`"),
    ('name = "x"\nmaps = ["rdb"]\nvolumes = ["ffs"]\n[geometry]\nheads = 0\nsectors = 63', "heads is 0, expected 1"),
    ('name = "x"\nmaps = ["rdb"]\nvolumes = ["ffs"]\n[names]\nmost = 0\nbecause = "y"', "above zero"),
    ("name = ", "cannot be used"),
])
def test_a_bad_description_names_file_key_and_what_was_expected(tmp_path, text, words):
    (tmp_path / "bench.toml").write_text(text)
    with pytest.raises(MachineError) as refusal:
        Machines(tmp_path).all()
    assert "bench.toml" in str(refusal.value)
    assert words in str(refusal.value)


def test_an_own_machine_stands_beside_those_that_ship_and_wins_by_name(tmp_path):
    (tmp_path / "pc-dos.toml").write_text('name = "our PC"\nmaps = ["mbr"]\nvolumes = ["fat16"]\nmost = 1\n')
    machines = Machines(tmp_path)
    assert len(machines.all()) == len(Machines().all())
    two = layout_of(MapKind.MBR, ("fat16", MIB, MIB), ("fat16", GIB, MIB))
    assert "takes 1 partition; here are 2" in check(two, machines.find("pc-dos"))[0].sentence
    with pytest.raises(MachineError, match=r"no machine “loom”.*pc-dos"):
        machines.find("loom")


def test_names_of_devices_are_told_for_machines_that_run_dos():
    volume = fresh("fat16")
    editor = edit(volume)
    for name in ("aux", "con.txt", "lpt1.dat", "console.txt", "com10", "auxiliary"):
        editor.add_file(name, b"x", Traits(1_700_000_000))
    editor.commit()
    layout = survey(volume)
    assert layout.partitions[0].volume.devices == ("aux", "con.txt", "lpt1.dat")
    machines = Machines().all()
    told = {key: [f.sentence for f in check(layout, machine) if "the device and never the file" in f.sentence]
            for key, machine in machines.items()}
    assert {key for key, said in told.items() if said} == {key for key in machines if key.startswith("pc-")}
    assert "“aux”, “con.txt”, “lpt1.dat” on" in told["pc-dos"][0]
