"""What differs between two states: by place from their lists alone, by file also against a card or an image."""

from __future__ import annotations

import random

import numpy as np
import pytest

from mosscrate.core.blocks import Window, open_blocks
from mosscrate.core.crate import Crate
from mosscrate.core.crate.compare import compare, places
from mosscrate.core.maps import read_map
from mosscrate.core.volumes import edit
from mosscrate.core.watch import Watch
from tests.cards import MIB, handheld, put_card
from tests.core.test_store import card_with, files_of, record

KINDS = ("fat16", "exfat", "ext4", "ffs-intl")


@pytest.mark.parametrize("kind", KINDS)
@pytest.mark.parametrize("seed", range(3))
def test_every_place_that_differs_is_named_and_little_else(kind, seed, tmp_path):
    crate, card = Crate(tmp_path), card_with(kind, seed, acts=80)
    first = crate.keep(record(card), card, Watch())
    seat = read_map(card).partitions[0]
    editor, rnd = edit(Window(card, seat.start, seat.length)), random.Random(seed)
    gone = rnd.choice([path for path in files_of(card) if files_of(card)[path]])
    editor.remove(gone)
    for number in range(3):
        editor.add_file(f"fresh{number}.bin", rnd.randbytes(rnd.randrange(1, 60_000)))
    editor.commit()
    second = crate.keep(record(card), card, Watch())
    with first.open() as a, second.open() as b:
        old, new = (np.frombuffer(blocks.read(0, blocks.size), np.uint8) for blocks in (a, b))
    named = np.zeros(len(old), bool)
    for extent in places(first, second):
        named[extent.start:extent.end] = True
    differs = old != new
    assert differs.any()
    assert not (differs & ~named).any()
    blocks = np.unique(np.flatnonzero(differs) >> 18)                 # of 256 KiB, as tables are cut
    assert named.sum() <= (2 * len(blocks) + 2) * (1 << 20)
    assert places(second, second) == []


def test_a_card_is_compared_with_the_image_that_it_was_written_from(bench, cli):
    """What was done to it since: new, changed and gone, by file."""
    data = handheld(seed=3).data
    stock = bench.shelf.simulated_folder.parent / "stock.img"
    stock.write_bytes(data)
    put_card(bench, "one", 40 * MIB, data, name="Pipkin")
    with open_blocks(bench.shelf.simulated_folder / "one.img", writable=True) as card:
        editor = edit(Window(card, 6 * MIB, 34 * MIB))
        editor.add_file("my own.sav", b"mine")
        editor.commit()
    change = next(c for c in compare(bench.shelf.medium_at(stock), bench.shelf.find("Pipkin")) if c.is_changed)
    assert [e.path for e in change.added] == ["my own.sav"]
    assert "1 save new: my own.sav" in cli("crate", "compare", stock, "Pipkin")[1]
