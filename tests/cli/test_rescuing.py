"""`rescue` in a shell: whole cards, holes, going on, ending at once."""

from __future__ import annotations

import json

from mosscrate.core.blocks.faulty import Bad, Speed
from mosscrate.core.contents.survey import open_partition
from tests.cards import MIB, handheld, put_card
from tests.cli.test_proving import faulty


def failing(bench, *, seconds: float = 20.0) -> str:
    """A card with a bad stretch in one of its games; returns that file's path."""
    put_card(bench, "tired", 40 * MIB, handheld().data, name="Tired card")
    with bench.shelf.find("Tired card").open() as card:
        volume = open_partition(card, 2)
        entry = max((e for e in volume.tree().entries if e.path.endswith(".gb")), key=lambda e: e.size)
        at = 6 * MIB + volume.extents_of(entry)[0].start
    faulty(bench, "tired", bad=(Bad(at, 1024, seconds=seconds),), speed=Speed(18e6, 8e6))
    return entry.path


def test_a_card_that_can_be_read_becomes_a_backup_at_once(cli, cards, tmp_path):
    code, out, _ = cli("rescue", "Worn card", "--json")
    said = json.loads(out)
    assert (code, said["whole"], said["backup"]["complete"], said["backup"]["files_with_holes"]) == (0, True, True, [])
    assert "No rescue of Worn card is under way" in cli("rescue", "Worn card", "--status")[1]
    code, _, _ = cli("get", said["backup"]["image"], "-p", "1", "zImage", "--to", str(tmp_path / "out"))
    assert (code, (tmp_path / "out").read_bytes()) == (0, b"kernel" * 900)


def test_holes_are_told_and_kept_when_asked(cli, bench):
    path = failing(bench)
    code, out, _ = cli("rescue", "Tired card", "--to-the-end")
    assert (code, "files 9" in out, "no save is missing" in out) == (1, True, True)
    assert cli("rescue", "Tired card", "--status")[1].startswith("Rescued of Tired card: saves all")
    code, out, _ = cli("rescue", "Tired card", "--for", "0", "--finish", "--json")
    backup = json.loads(out)["backup"]
    assert (code, backup["complete"]) == (1, False)
    assert [(f["path"], f["holes"]) for f in backup["files_with_holes"]] == [(path, [[0, 1024]])]
    assert "incomplete" in cli("crate")[1]
    looked = cli("look", bench.crate.find("Tired card").path)[1]
    assert ("Incomplete: 1 place of the card could not be read" in looked, path in looked) == (True, True)


def test_it_can_be_stopped_by_the_clock_and_gone_on_with(cli, bench):
    failing(bench, seconds=600.0)
    code, out, _ = cli("rescue", "Tired card", "--for", "5")
    assert (code, "You can continue it" in out) == (1, True)
    code, out, _ = cli("rescue", "Tired card", "--again", "--finish")
    assert (code, "is kept: " in out, "1 file has holes, zeros there" in out) == (1, True, True)


def test_nothing_begun_is_nothing_to_keep(cli, cards):
    code, _, err = cli("rescue", "Worn card", "--for", "0", "--finish")
    assert (code, "No rescue of Worn card was begun" in err) == (1, True)
