"""Structures by field: every value is what its bytes say, at the place where they stand."""

from __future__ import annotations

import contextlib
import random
from itertools import pairwise

import pytest

from mosscrate.core.blocks import MemoryBlocks
from mosscrate.core.contents.inspecting import inspect
from mosscrate.core.errors import MossError
from mosscrate.core.maps import MapKind, rdb
from mosscrate.core.sheet import steps as s
from mosscrate.core.sheet.running.performing import perform
from mosscrate.core.watch import Watch
from mosscrate.demo.contents import studio
from mosscrate.demo.hfs import make_hfs
from tests.core.maps.test_ahdi import chained_drive
from tests.core.maps.test_rdb import drive, with_code
from tests.core.sheet.test_steps import card
from tests.volumes import MIB, WHEN


def hfs() -> MemoryBlocks:
    blocks = MemoryBlocks(bytes(16 * MIB))
    make_hfs(blocks, "Tapes", studio(WHEN), WHEN)
    return blocks


def coded() -> MemoryBlocks:
    """A drive with embedded code, and two bad blocks noted in block 70."""
    blocks = drive()
    with_code(blocks, b"PFS\x03", bytes(492), (200, 60))
    bad = b"BADB" + (128).to_bytes(4, "big") + bytes(4) + (7).to_bytes(4, "big") + b"\xff" * 4 + bytes(4)
    bad += b"".join(n.to_bytes(4, "big") for n in (5000, 80, 5001, 81))
    blocks.write(70 * 512, rdb.sealed_bytes(bad.ljust(512, b"\0")))
    head = bytearray(blocks.data[:512])
    head[24:28] = (70).to_bytes(4, "big")
    blocks.write(0, rdb.sealed_bytes(bytes(head)))
    return blocks


MEDIA = {
    "rdb": (coded, ["RDSK, rigid disk block", "PART, DH0", "PART, DH1", "PART, DH2", "BADB, bad blocks",
                    "FSHD, PFS\\3 40.1",
                    *["Boot block", "Root block"] * 3]),
    "ahdi": (chained_drive, ["Root sector", "Chained root sector", "Chained root sector"]),
    "mbr": (lambda: card(MapKind.MBR), ["Master boot record", "Boot sector", "Superblock", "Boot sector"]),
    "gpt": (lambda: card(MapKind.GPT), ["Master boot record", "GPT header", "GPT entry 1", "GPT entry 2", "GPT entry 3",
                                        "GPT header, second copy", "Boot sector", "Superblock", "Boot sector"]),
    "hfs": (hfs, ["Master directory block"])}


@pytest.mark.parametrize("kind", MEDIA)
def test_every_structure_is_there_and_its_fields_cover_it_with_the_bytes_of_the_medium(kind):
    make, titles = MEDIA[kind]
    blocks = make()
    found = inspect(blocks)
    assert [structure.title for structure in found] == titles
    for structure in found:
        fields = structure.fields
        assert structure.data == blocks.read(structure.offset, len(structure.data))
        for f in fields:
            at = structure.offset + f.offset
            assert f.raw == bytes(blocks.data[at:at + len(f.raw)])
        assert fields[0].offset == 0
        if structure.title != "Root block":                       # whose middle is a table that grows with the block
            assert all(a.offset + len(a.raw) == b.offset for a, b in pairwise(fields))


def test_values_are_in_the_words_of_the_format():
    values = {(structure.title, f.name): f.value for structure in inspect(coded()) for f in structure.fields}
    assert values["RDSK, rigid disk block", "file sys header list"] == "block 200"
    assert values["RDSK, rigid disk block", "bad block list"] == "block 70"
    assert values["BADB, bad blocks", "pairs 2: good block"] == "81"
    assert values["RDSK, rigid disk block", "drive init"] == "none"
    assert values["PART, DH1", "dos type"] == "FFS"
    assert values["PART, DH1", "drive name"] == "“DH1”"
    assert values["PART, DH1", "max transfer"] == "0x0001fe00"
    assert values["Root block", "name"] == "“Old”"
    assert [i.heading for i in inspect(coded()) if i.title == "Root block"] == [
        f"Root block of {name}" for name in ("System", "Work", "Old")]
    verdicts = {structure.verdict for structure in inspect(coded())}
    assert verdicts == {"", "its longs sum to zero"}
    assert inspect(hfs())[0].fields[-1].name == "catalog extents"


def test_a_wrong_checksum_is_said_and_damage_is_read_or_refused():
    blocks = drive()
    root = next(i for i in inspect(blocks) if i.title == "Root block")
    blocks.write(root.offset + 512 - 60, b"x")                    # behind the name: the volume does not open any more
    assert [i.verdict for i in inspect(blocks) if i.title == "Root block"] == [
        "its checksum is wrong", "its longs sum to zero", "its longs sum to zero"]
    rnd = random.Random(1)
    for make in (coded, chained_drive, lambda: card(MapKind.GPT), hfs):
        fresh = bytes(make().data)
        for _ in range(40):
            damaged = MemoryBlocks(fresh)
            for _ in range(6):
                damaged.write(rnd.randrange(4096), rnd.randbytes(rnd.choice((1, 4, 8))))
            with contextlib.suppress(MossError):
                inspect(damaged)


def test_a_swapped_drive_is_inspected_as_its_machine_sees_it():
    blocks = drive()
    straight = [(i.title, [f.value for f in i.fields]) for i in inspect(blocks)]
    perform(s.SwapBytes(), blocks, None, Watch())
    assert [(i.title, [f.value for f in i.fields]) for i in inspect(blocks)] == straight
