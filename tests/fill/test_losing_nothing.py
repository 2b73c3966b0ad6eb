"""Whatever is filled with whatever, and wherever it is cut: every file of the person is still there."""

from __future__ import annotations

import random
from pathlib import Path

import pytest

from mosscrate.core.blocks.faulty import Faults, FaultyBlocks
from mosscrate.core.errors import MossError
from mosscrate.core.fill.plans import shipped
from mosscrate.core.sheet.planning.filling import Sources, fill, lay_over, regroup_under
from mosscrate.core.sheet.running import recovering
from mosscrate.core.sheet.running.run import run
from mosscrate.core.slots import medium as medium_module
from mosscrate.core.watch import Watch
from tests.cards import put_card
from tests.core.test_store import card_with
from tests.fill.samples import SAMPLES
from tests.fill.test_filling import on

SYSTEMS = ("gb", "gba", "nes", "lynx")
PLANS = [shipped()[name] for name in ("short-codes-saves-beside", "long-names-saves-apart", "upper-codes", "numbered")]
NAMES = ("Hill Run", "hill run", "Velvet Weaver (World)", "Größe", "con", "Tide. ", "a" * 120)


def stuff(folder: Path, rnd: random.Random) -> Path:
    """Games, saves, discs, pictures, litter and strange things, often with the same names as the last time."""
    games = [(code, name, rnd.randrange(3)) for code in SYSTEMS for name in rnd.sample(NAMES, 3)]
    for code, name, state in games:
        own = folder / rnd.choice([code, code.upper(), "misc"])
        own.mkdir(parents=True, exist_ok=True)
        (own / f"{name}.{SAMPLES[code][0]}").write_bytes(SAMPLES[code][1](random.Random(f"{code} {name} {state}")))
        if rnd.random() < 0.5:
            (own / f"{name}.sav").write_bytes(rnd.randbytes(rnd.choice([8192, 32768, 77])))
    disc = folder / "psx"
    disc.mkdir(parents=True, exist_ok=True)
    (disc / "Tide.cue").write_text('FILE "Tide.bin" BINARY\n')
    (disc / "Tide.bin").write_bytes(rnd.choice([b"1", b"2"]) * 5000)
    (folder / "Thumbs.db").write_bytes(b"litter")
    (folder / "strange.xyz").write_bytes(rnd.randbytes(50))
    return folder


def card_for(bench, kind: str, seed: int):
    blocks = card_with(kind, seed, acts=25)
    put_card(bench, "one", len(blocks.data), bytes(blocks.data), name="Pipkin")
    return bench.shelf.find("Pipkin")


def planned(card, top: Path, rnd: random.Random):
    """One of the ways to fill a card, and its sheet; None where nothing is to be done."""
    plan, answers = rnd.choice(PLANS), {"skeleton": rnd.choice(["make them", ""]), "renames": rnd.choice([
        "rename", "bring in as well"]), "both save": rnd.choice(["keep both", "use the ones brought in"])}
    match rnd.randrange(4):
        case 0:
            return lay_over(card, Sources([top]), Watch(), partition=1).sheet
        case 1:
            return regroup_under(card, plan, partition=1, now=rnd.choice([None, *PLANS]), answers=answers).sheet
    return fill(card, Sources([top]), plan, Watch(), partition=1, answers=answers).sheet


@pytest.mark.parametrize("kind", ["fat32", "exfat", "ext4", "ffs-intl", "fat16"])
@pytest.mark.parametrize("seed", range(2))
def test_no_sequence_of_fillings_loses_a_file(kind, seed, bench, tmp_path):
    rnd, card = random.Random(f"{kind} {seed}"), card_for(bench, kind, seed)
    held = set(on(card, 1).values())
    for number in range(6):
        sheet = planned(card, stuff(tmp_path / f"{number}", rnd), rnd)
        if sheet is None:
            continue
        run(sheet, bench, Watch(), typed_tag=card.tag)
        now = set(on(card, 1).values())
        assert held <= now, f"filling {number}"
        held = now


@pytest.mark.parametrize("kind", ["fat32", "exfat", "ext4"])
def test_a_filling_cut_after_any_write_is_taken_back_or_finished_without_a_loss(kind, bench, tmp_path, monkeypatch):
    rnd, card = random.Random(kind), card_for(bench, kind, 3)
    run(fill(card, Sources([stuff(tmp_path / "first", rnd)]), PLANS[0], Watch(), partition=1).sheet, bench, Watch(),
        typed_tag=card.tag)
    image = card.path.read_bytes()
    before, top = on(card, 1), stuff(tmp_path / "second", rnd)
    original = medium_module.Medium.open_for_guard
    for cut in range(1, 30):
        card.path.write_bytes(image)
        sheet = fill(card, Sources([top]), PLANS[1], Watch(), partition=1).sheet
        with monkeypatch.context() as patched:
            patched.setattr(medium_module.Medium, "open_for_guard", lambda self, *words, cut=cut: FaultyBlocks(
                original(self, *words), Faults(pulled_after_writes=cut)))
            try:
                run(sheet, bench, Watch(), typed_tag=card.tag)
            except MossError:
                pass
            else:
                break
        job, = recovering.unfinished(bench) or [None]
        if job is not None and cut % 2:
            recovering.finish(job, bench, Watch(), typed_tag=card.tag)
            assert set(before.values()) <= set(on(card, 1).values()), f"cut after write {cut}"
        elif job is not None:
            recovering.undo(job, bench, Watch(), typed_tag=card.tag)
            assert on(card, 1) == before, f"cut after write {cut}"
    assert cut > 3
    assert set(before.values()) <= set(on(card, 1).values())
