"""OFS and FFS: bytes beside their meaning, long names, caches, block sizes, bitmaps left invalid, circles."""

from __future__ import annotations

import pytest

from mosscrate.core import volumes
from mosscrate.core.blocks import MemoryBlocks
from mosscrate.core.errors import FitError, MossError
from mosscrate.core.sheet import steps as s
from mosscrate.core.sheet.running.performing import perform
from mosscrate.core.volumes import Making, Traits, edit, format_for, open_volume
from mosscrate.core.volumes.ffs import caching
from mosscrate.core.volumes.ffs import structures as f
from mosscrate.core.watch import Watch
from tests.volumes import MIB, WHEN, fresh, tree, worked_on

NOTE = "a comment that says at length where this came from and what was done to it since"


def findings(blocks) -> list[str]:
    return [found.sentence for found in volumes.check(open_volume(blocks))]


def patch(blocks, number: int, place: int, value: int) -> None:
    """Another long in a block, its checksum made right again."""
    longs = open_volume(blocks).longs(number)
    longs[place] = value
    blocks.write(number * len(longs) * 4, f.seal(longs))


def test_a_header_with_a_long_name_is_laid_out_as_published():
    blocks = fresh("ffs-long")
    editor = edit(blocks)
    editor.add_file("Ab", b"", Traits(1_000_000_000, protection=0x15, comment="hi"))
    editor.commit()
    number = open_volume(blocks).tree().find("Ab").node
    block = bytes(blocks.data[number * 512:number * 512 + 512])
    assert block[:8] == bytes.fromhex("00000002") + number.to_bytes(4, "big")      # type 2, own key
    assert block[512 - 192:512 - 184] == bytes.fromhex("00000015 00000000")        # protection, size
    assert block[512 - 184:512 - 72] == bytes.fromhex("02 4162 02 6869").ljust(112, b"\0")     # name, comment
    assert block[512 - 72:512 - 60] == bytes(12)                                   # no comment block, reserved
    # 2001-09-09 01:46:40 is day 8652, minute 106, tick 2000
    assert block[512 - 60:512 - 48] == bytes.fromhex("000021cc 0000006a 000007d0")
    assert block[-4:] == bytes.fromhex("fffffffd")                                 # a file


def test_a_cache_record_is_laid_out_as_published():
    record = caching.Record(0x371, 0x1234, 0x15, (1, 2), (8652, 106, 2000), -3, "Ab", "hi!")
    assert record.build() == bytes.fromhex("00000371 00001234 00000015 0001 0002 21cc 006a 07d0 fd 02 4162 03 686921")


@pytest.mark.parametrize("name", ["short", "n" * 60, "é" * 107])
def test_comments_of_long_names_stand_beside_them_or_in_a_block_of_their_own(name):
    blocks = fresh("ofs-long")
    free = open_volume(blocks).free
    editor = edit(blocks)
    editor.add_file(name, b"x" * 2000, Traits(WHEN, comment=NOTE[:79]))
    editor.add_folder("folder", Traits(WHEN, comment="c"))
    editor.rename(name, "folder/" + "r" * 100)
    editor.commit()
    entry = open_volume(blocks).tree().find("folder/" + "r" * 100)
    assert (entry.comment, entry.modified, findings(blocks)) == (NOTE[:79], WHEN, [])
    editor = edit(blocks)
    editor.remove("folder")
    editor.commit()
    assert (open_volume(blocks).free, findings(blocks)) == (free, [])


@pytest.mark.parametrize("kind", ["ofs", "ffs-cache", "ffs-long"])
def test_comment_protection_and_date_of_a_file_are_set_and_nothing_else(kind):
    blocks = fresh(kind)
    editor = edit(blocks)
    editor.add_folder("songs", Traits(WHEN))
    name = "songs/" + "a" * (30 if kind != "ffs-long" else 90)
    editor.add_file(name, b"la" * 3000, Traits(WHEN, protection=0x1100))
    editor.commit()
    free = open_volume(blocks).free
    for step in (s.SetTraits(0, name, NOTE[:79], "----rw-d", WHEN + 60), s.SetTraits(0, name, modified=WHEN + 120),
                 s.SetTraits(0, name, comment="short", protection="hrwed")):
        perform(step, blocks, None, Watch())
        assert findings(blocks) == []
    entry = open_volume(blocks).tree().find(name)
    assert (entry.comment, entry.modified, entry.protection) == ("short", WHEN + 120, 0x1180)
    assert f.protection_text(entry.protection) == "h---rwed"
    assert (open_volume(blocks).free, tree(blocks)[name][1]) == (free, b"la" * 3000)
    for step, why in ((s.SetTraits(0, name, "x" * 80), "79 characters"),
                      (s.SetTraits(0, name, None, "rwz"), "hsparwed"),
                      (s.SetTraits(0, "not there", "x"), "no “not there”"), (s.SetTraits(0, "", "x"), "label")):
        with pytest.raises(FitError, match=why):
            perform(step, blocks, None, Watch())
    with pytest.raises(FitError, match="only OFS and FFS"):
        perform(s.SetTraits(0, "x", "y"), fresh("fat16"), None, Watch())


def hard_link(blocks, path: str, real: str) -> None:
    """What a driver does for a link: a header of its own, first in the chain behind the real one."""
    editor = edit(blocks)
    editor.add_file(path, b"", Traits(WHEN))
    editor.commit()
    volume = open_volume(blocks)
    to, number = volume.tree().find(real), volume.tree().find(path).node
    is_folder = to.kind == "folder"
    patch(blocks, number, f.NEXT_LINK, int(volume.longs(to.node)[f.NEXT_LINK]))
    patch(blocks, number, f.REAL_ENTRY, to.node)
    patch(blocks, number, f.SEC_TYPE, (f.ST_FOLDER_LINK if is_folder else f.ST_FILE_LINK) & 0xFFFFFFFF)
    patch(blocks, to.node, f.NEXT_LINK, number)


@pytest.mark.parametrize("kind", ["ffs", "ofs-cache", "ffs-long"])
@pytest.mark.parametrize("order", [("real", "b/one", "two"), ("two", "real", "b/one"), ("b", "two", "real"),
                                   ("b/one", "b", "real", "two")])
def test_a_file_with_hard_links_lives_until_its_last_name_is_gone(kind, order):
    blocks = fresh(kind)
    empty = open_volume(blocks).free
    editor = edit(blocks)
    editor.add_file("real", b"data" * 500, Traits(WHEN, comment=NOTE))
    editor.add_folder("b")
    editor.commit()
    for name in ("b/one", "two"):
        hard_link(blocks, name, "real")
    if kind == "ofs-cache":                                  # the headers were changed by hand: write the cache anew
        for folder in ("x", "b/x"):
            for call in ("add_folder", "remove"):
                editor = edit(blocks)
                getattr(editor, call)(folder)
                editor.commit()
    assert findings(blocks) == []
    left = {"real", "b/one", "two"}
    for path in order:
        editor = edit(blocks)
        editor.remove(path)
        editor.commit()
        left = {p for p in left if p != path and not p.startswith(path + "/")}
        files = {p: v[1] for p, v in tree(blocks).items() if v[0] == "file"}
        assert (files, findings(blocks)) == (dict.fromkeys(left, b"data" * 500), [])
    editor = edit(blocks)
    for path in ("b",) if "b" in tree(blocks) else ():
        editor.remove(path)
    editor.commit()
    assert (open_volume(blocks).free, findings(blocks)) == (empty, [])


@pytest.mark.parametrize("block", [1024, 2048, 4096])
@pytest.mark.parametrize("kind", ["ofs", "ffs-cache", "ffs-long"])
def test_every_block_size_holds_what_was_put_into_it(kind, block):
    blocks, model = worked_on(kind, 5, operations=120, size=4 * MIB, block=block)
    assert (open_volume(blocks).block, tree(blocks), findings(blocks)) == (block, model.tree(), [])
    editor = edit(blocks)
    editor.add_file("large", bytes(range(256)) * 4000, Traits(WHEN))
    editor.commit()
    assert (tree(blocks)["large"][1], findings(blocks)) == (bytes(range(256)) * 4000, [])


@pytest.mark.parametrize("more", [512, 32 * 512 - 512, 15 * 63 * 512])
def test_a_bare_volume_in_a_file_that_is_no_whole_number_of_cylinders_is_found(more):
    blocks, model = worked_on("ffs-intl", 6, operations=60, size=2 * MIB)
    longer = MemoryBlocks(bytes(blocks.data) + bytes(more))
    volume = open_volume(longer)
    assert (volume.size, tree(longer), findings(longer)) == (2 * MIB, model.tree(), [])
    editor = edit(longer)
    editor.add_file("one more", b"abc")
    editor.commit()
    assert (tree(longer)["one more"][1], findings(longer)) == (b"abc", [])


def test_a_bitmap_that_was_left_invalid_is_rebuilt_by_its_step():
    blocks, model = worked_on("ffs", 8, operations=80)
    sound, root = bytes(blocks.data), open_volume(blocks).root
    patch(blocks, root, f.BM_FLAG, 0)
    for page in open_volume(blocks).bitmap_pages():
        blocks.write(page * 512, b"\xff" * 512)
    volume = open_volume(blocks)
    assert (volume.is_clean, volume.free) == (False, open_volume(MemoryBlocks(sound)).free)
    done = perform(s.RebuildBitmap(0), blocks, None, Watch())
    assert "bitmap" in done.sentence
    assert (open_volume(blocks).is_clean, tree(blocks), findings(blocks)) == (True, model.tree(), [])


def test_a_bitmap_that_is_wrong_is_rebuilt_too_but_not_where_a_file_cannot_be_followed():
    blocks, model = worked_on("ofs", 8, operations=80)
    page = open_volume(blocks).bitmap_pages()[0]
    for place in range(1, 40):
        patch(blocks, page, place, 0xFFFFFFFF)                    # checksum at another place: right again by hand
    longs = open_volume(blocks).longs(page)
    blocks.write(page * 512, f.seal(longs, 0))
    assert any("marked as free" in line for line in findings(blocks))
    perform(s.RebuildBitmap(0), blocks, None, Watch())
    assert (tree(blocks), findings(blocks)) == (model.tree(), [])
    editor = edit(blocks)
    editor.add_file("long", bytes(512 * 200), Traits(WHEN))
    editor.commit()
    volume = open_volume(blocks)
    header = volume.longs(volume.tree().find("long").node)
    patch(blocks, int(header[f.EXTENSION]), f.EXTENSION, 3)
    patch(blocks, volume.root, f.BM_FLAG, 0)
    before = bytes(blocks.data)
    for call in (lambda: perform(s.RebuildBitmap(0), blocks, None, Watch()),
                 lambda: perform(s.MakeFolder(0, "x"), blocks, None, Watch())):
        with pytest.raises(FitError, match=r"cannot be (told|followed)"):
            call()
    assert bytes(blocks.data) == before


@pytest.mark.parametrize("field", [f.OWN_KEY, f.HIGH_SEQ, f.DATA_SIZE, f.FIRST_DATA, f.CHECKSUM])
def test_a_data_block_of_another_file_is_found(field):
    blocks = fresh("ofs")
    editor = edit(blocks)
    editor.add_file("song", b"x" * 5000, Traits(WHEN))
    editor.commit()
    volume = open_volume(blocks)
    number = int(volume.data_blocks(volume.tree().find("song").node)[0][4])
    longs = volume.longs(number)
    longs[field] += 1
    if field != f.CHECKSUM:
        f.seal(longs)
    blocks.write(number * 512, longs.tobytes())
    assert [line for line in findings(blocks) if "1 data block of “song”" in line]


@pytest.mark.parametrize(("field", "value", "words"), [
    (f.BYTE_SIZE, 50_000, "which take"), (f.BYTE_SIZE, 600, "8 blocks behind its end"),
    (f.FIRST_DATA, 600, "begins in another block"), (f.PARENT, 600, "another folder")])
def test_fields_that_say_the_same_twice_have_to_agree(field, value, words):
    blocks = fresh("ffs")
    editor = edit(blocks)
    editor.add_file("song", b"x" * 5000, Traits(WHEN))
    editor.commit()
    patch(blocks, open_volume(blocks).tree().find("song").node, field, value)
    assert any(words in line for line in findings(blocks))


def test_a_cache_that_differs_is_found_and_written_anew_by_the_next_change():
    blocks = fresh("ffs-cache")
    editor = edit(blocks)
    for number in range(100):
        editor.add_file(f"a file with number {number}", b"x" * number, Traits(WHEN, comment=NOTE[:number % 80]))
    editor.commit()
    volume = open_volume(blocks)
    chain = caching.chain_of(volume, volume.root_longs)
    assert len(chain) > 5
    assert len(list(caching.records_in(volume, chain))) == 100
    patch(blocks, chain[1], f.TABLE + 1, 77)                      # the size in its first record
    assert ["differs" in line for line in findings(blocks)] == [True]
    patch(blocks, chain[2], caching.NEXT, chain[0])               # and a circle
    assert any("cannot be read" in line for line in findings(blocks))
    editor = edit(blocks)
    editor.remove("a file with number 50")
    editor.commit()
    assert not any("cache" in line for line in findings(blocks))
    assert len(tree(blocks)) == 99


@pytest.mark.parametrize("circle", ["hash", "extension", "folder"])
def test_a_chain_that_bites_its_tail_is_found_and_the_rest_is_read(circle):
    blocks = fresh("ffs")
    editor = edit(blocks)
    editor.add_folder("folder/".strip("/"))
    editor.add_file("folder/inner", b"i")
    editor.add_file("long", bytes(512 * 200), Traits(WHEN))
    editor.commit()
    entries = {e.path: e.node for e in open_volume(blocks).tree().entries}
    if circle == "hash":
        patch(blocks, entries["folder"], f.HASH_CHAIN, entries["folder"])
    elif circle == "extension":
        extension = int(open_volume(blocks).longs(entries["long"])[f.EXTENSION])
        patch(blocks, extension, f.EXTENSION, extension)
    else:
        volume = open_volume(blocks)
        slot = f.TABLE + f.hash_of("inner", volume.slots, international=False)
        patch(blocks, entries["folder"], slot, entries["folder"])
    assert findings(blocks)
    volume = open_volume(blocks)
    for entry in volume.tree().entries:
        if circle == "extension" and entry.path == "long":
            with pytest.raises(MossError, match="chain that ends"):
                list(volume.read_file(entry))
        elif entry.kind == "file":
            list(volume.read_file(entry))


@pytest.mark.parametrize("size", [901120, 1802240])
@pytest.mark.parametrize("kind", ["ofs", "ffs", "ffs-cache"])
def test_a_floppy_of_the_common_sizes_is_made_and_has_its_root_in_the_middle(kind, size):
    blocks = MemoryBlocks(bytes(size))
    format_for(kind).make(blocks, Making(kind, "Empty"))
    assert open_volume(blocks).root == size // 1024
    assert findings(blocks) == []
