"""Every job on every card that lies: it ends in a sentence, and nothing is called done that is not."""

from __future__ import annotations

import random
from contextlib import nullcontext, suppress
from pathlib import Path

import msgspec
import pytest

from mosscrate.core.blocks import MemoryBlocks
from mosscrate.core.blocks.faulty import AddressLine, Bad, Cache, Drop, Faults, Fold, Repeat, Speed, Stall
from mosscrate.core.contents.survey import open_partition, survey
from mosscrate.core.errors import GuardRefusal, MossError
from mosscrate.core.proof.job import prove
from mosscrate.core.sheet.bench import card_of
from mosscrate.core.sheet.running import recovering
from mosscrate.core.sheet.running import run as running
from mosscrate.core.sheet.sheet import JobSheet, reference
from mosscrate.core.sheet.steps import GrowPartition, KeepCard, MakeFolder, PutFiles, Which, WriteImage
from mosscrate.core.slots.simulated import read_card, write_card
from mosscrate.core.watch import Watch
from tests.cards import MIB, contents, handheld, put_card

SIZE = 60 * MIB
FAULTS = {
    "cannot be read somewhere": Faults(bad=(Bad(20 * MIB, 4096),)),
    "cannot be written somewhere": Faults(bad=(Bad(20 * MIB, 4096, reading=False, writing=True),)),
    "keeps nothing somewhere": Faults(bad=(Bad(20 * MIB, 4096, reading=False, silent=True),)),
    "stalls": Faults(stalls=(Stall(3 * MIB, 90.0),), speed=Speed(2e7, 1e7)),
    "is pulled": Faults(pulled_after=200_000),
    "turns read-only": Faults(read_only_after=200_000),
    "dies": Faults(dies_after=30 * MIB),
    "drops": Faults(drop=Drop(25 * MIB)),
    "folds": Faults(fold=Fold(25 * MIB)),
    "repeats": Faults(repeat=Repeat(25 * MIB)),
    "has a stuck line": Faults(address_line=AddressLine(24)),
    "hides it behind a cache": Faults(drop=Drop(25 * MIB), cache=Cache(blocks=512)),
}
FALSE = ("drops", "folds", "repeats", "has a stuck line", "hides it behind a cache")
JOBS = ("write", "grow", "folder", "keep", "prove", "put")
GAME = random.Random(3).randbytes(26 * MIB)                            # over every place where a card lies


@pytest.fixture
def cards(bench):
    put_card(bench, "source", 40 * MIB, handheld(40 * MIB, seed=5).data, name="Source")
    put_card(bench, "card", SIZE, handheld(40 * MIB).data + bytes(SIZE - 40 * MIB), name="Card")
    return bench.shelf.simulated_folder / "card.toml"


def become(path, faults: Faults) -> None:
    write_card(path, msgspec.structs.replace(read_card(path), faults=faults))


def work(job: str, bench):
    """Do it, on the card as it is; whatever it says."""
    card, source = bench.shelf.find("Card"), bench.shelf.find("Source")
    if job == "keep":
        with card.open() as blocks:
            return bench.crate.keep(card_of(card), blocks, Watch())
    if job == "prove":
        return prove(card, bench, Watch(), typed_tag=card.tag)
    steps = {"write": (KeepCard(Which.TARGET), WriteImage(verify=True)), "grow": (GrowPartition(2),),
             "folder": (MakeFolder(2, "fresh"),), "put": (PutFiles(2, (str(_game(bench)),)),)}[job]
    sheet = JobSheet(steps, reference(source) if job == "write" else None, reference(card))
    return running.run(sheet, bench, Watch(), typed_tag=card.tag)


@pytest.mark.parametrize("job", JOBS)
@pytest.mark.parametrize("lie", FAULTS)
def test_a_job_on_a_lying_card_ends_in_a_sentence_and_can_be_finished_or_taken_back(lie, job, bench, cards):
    before = cards.with_suffix(".img").read_bytes()
    become(cards, FAULTS[lie])
    said = ""
    try:
        done = work(job, bench)
    except MossError as error:
        said, done = str(error), None
        assert said.endswith((".", "!")) and len(said) > 20, said     # noqa: PT018
    bench.shelf.find("Card").state.pull()
    is_honest = lie in ("stalls", "cannot be read somewhere")
    if done is not None and job == "write":
        assert _is_whole(bench), f"called done: {done.done[-1].sentence}"
    if done is not None and job == "put":
        with bench.shelf.find("Card").open() as card:
            assert _files(card)["2/game.bin"] == GAME, f"called done: {done.done[-1].sentence}"
    if done is not None and job == "keep" and not done.record.unreadable:
        bench.crate.check(done, Watch())
        with done.open() as kept, bench.shelf.find("Card").open() as card:
            assert _files(kept) == _files(card)
    if is_honest and job == "folder":
        assert done is not None, said
    become(cards, Faults())                                            # the hand puts it into a better reader
    is_lost = job == "put" and lie == "keeps nothing somewhere"        # the file is not as it was put
    with suppress(GuardRefusal) if lie in FALSE or is_lost else nullcontext():      # nobody's job any more
        for left in recovering.unfinished(bench):
            recovering.undo(left, bench, Watch(), typed_tag=bench.shelf.find("Card").tag)
    if done is None and lie in ("is pulled", "turns read-only", "dies") and job in ("grow", "folder"):
        assert _trees(cards.with_suffix(".img").read_bytes()) == _trees(before), said


def _game(bench) -> Path:
    path = bench.state.parent / "game.bin"
    path.write_bytes(GAME)
    return path


def _files(blocks) -> dict[str, bytes]:
    """What is on every volume."""
    return {f"{look.index}/{entry.path}": b"".join(volume.read_file(entry))
            for look in survey(blocks).partitions if look.volume
            for volume in [open_partition(blocks, look.index)] for entry in volume.tree().entries}


def _is_whole(bench) -> bool:
    with bench.shelf.find("Card").open() as card, bench.shelf.find("Source").open() as source:
        return card.read(0, source.size) == source.read(0, source.size)


def _trees(data: bytes):
    blocks = MemoryBlocks(data)
    return [contents(MemoryBlocks(blocks.read(p.start, p.length))) for p in survey(blocks).partitions]


def test_a_folder_that_was_made_on_an_honest_card_is_there(bench, cards):
    work("folder", bench)
    with bench.shelf.find("Card").open() as card:
        assert "fresh" in {e.path for e in open_partition(card, 2).tree().entries}
