"""HFS as it is read: data forks out, resource forks listed, the shell of a later kind only named."""

from __future__ import annotations

from mosscrate.core import volumes
from mosscrate.core.blocks import MemoryBlocks
from mosscrate.core.contents import survey
from mosscrate.core.volumes import open_volume, volume_kind
from mosscrate.demo.contents import MadeFile
from mosscrate.demo.hfs import make_hfs
from tests.volumes import MIB, WHEN

RESOURCE_LENGTH = 36                     # in a catalog file record (cdrFilRec, filRLgLen)


def a_volume() -> MemoryBlocks:
    blocks = MemoryBlocks(bytes(4 * MIB), name="Tarn")
    make_hfs(blocks, "Studio", [MadeFile("Songs", None, WHEN), MadeFile("Songs/First", b"la" * 3000, WHEN)], WHEN)
    return blocks


def test_a_resource_fork_is_listed_beside_the_data_of_its_file():
    blocks = a_volume()
    at = blocks.data.rindex(b"\x05First") + 6                        # its record follows the key
    at = at if blocks.data[at] == 2 else at + 1
    assert blocks.data[at] == 2, "a file record"
    blocks.write(at + RESOURCE_LENGTH, (1234).to_bytes(4, "big"))
    entry = next(e for e in open_volume(blocks).tree().entries if e.path == "Songs/First")
    assert (entry.size, entry.resource) == (6000, 1234)
    assert b"".join(open_volume(blocks).read_file(entry)) == b"la" * 3000
    assert [f.sentence.startswith("Beside 1 file of") for f in volumes.check(open_volume(blocks))] == [True]


def test_the_shell_of_a_later_kind_is_named_and_called_sound():
    blocks = a_volume()
    blocks.write(1024 + 124, b"H+")                                  # drEmbedSigWord
    assert volume_kind(blocks) == "hfs+"
    layout = survey(blocks, thorough=True)
    assert [(f.severity, "HFS+" in f.sentence) for f in layout.findings] == [("good", True)]
