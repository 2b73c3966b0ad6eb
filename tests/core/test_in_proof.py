"""A card in the middle of a proof is that for whoever opens it: marks are no contents, and nothing writes there."""

from __future__ import annotations

import pytest

from mosscrate.core.blocks.file import open_blocks
from mosscrate.core.blocks.proof_marks import BLOCK, build, first_mark
from mosscrate.core.contents import survey
from mosscrate.core.crate import Crate
from mosscrate.core.errors import InProof, JobError, MossError
from mosscrate.core.proof import job as proof
from mosscrate.core.proof.size.rounds import Rounds
from mosscrate.core.proof.size.whole import Whole
from mosscrate.core.sheet import steps as s
from mosscrate.core.sheet.bench import Bench, card_of
from mosscrate.core.sheet.running import guard
from mosscrate.core.sheet.running import run as running
from mosscrate.core.sheet.running.converting import Conversion, convert_to
from mosscrate.core.sheet.running.knowing import known
from mosscrate.core.sheet.sheet import JobSheet, reference
from mosscrate.core.slots import Shelf
from mosscrate.core.watch import Watch
from tests.cards import MIB, handheld, put_card

WAYS = {"every block": (proof.prove_every_block, Whole, "look"), "size": (proof.prove, Rounds, "_put_back"),
        "write": (lambda medium, bench, watch, typed_tag: proof.write(medium, bench, None, watch, typed_tag=typed_tag),
                  Rounds, "_put_back")}


class Killed(BaseException):
    """The process is gone here."""


@pytest.fixture(params=WAYS)
def marked(request, bench, monkeypatch):
    """A card whose proof was killed while its marks stood there; what it held before, and how it was known."""
    put_card(bench, "card", 48 * MIB, handheld(44 * MIB).data)
    medium = bench.shelf.find("card")
    before, planned = medium.path.read_bytes(), reference(medium)
    how, owner, at = WAYS[request.param]

    def killed(*_):
        raise Killed
    with monkeypatch.context() as patched:
        patched.setattr(owner, at, killed)
        with pytest.raises(Killed):
            how(medium, bench, Watch(), typed_tag=medium.tag)
    assert medium.path.read_bytes() != before
    return medium, before, planned


def test_nothing_reads_it_as_contents_and_nothing_but_putting_back_writes_it(marked, bench, tmp_path):
    medium, before, planned = marked
    now = medium.path.read_bytes()
    for use in (lambda blocks: bench.crate.keep(card_of(medium), blocks, Watch()),
                lambda blocks: convert_to(tmp_path / "out.img", blocks, Conversion(), Watch())):
        with pytest.raises(InProof, match="Put back first"), medium.open_for_job() as blocks:
            use(blocks)
    sheet = JobSheet((s.MakeFolder(2, "one"),), None, planned)
    with pytest.raises(MossError, match="Put back first"):
        running.run(sheet, bench, Watch(), typed_tag=medium.tag)
    assert any("Put back first" in check.sentence for check in guard.inspect(medium, planned, None))
    with medium.open() as blocks:
        layout, stopped = known(medium, blocks, survey(blocks), bench)
    assert stopped.proof is not None
    assert "proof of this card was interrupted" in layout.findings[0].sentence
    assert not bench.crate.lanes()
    assert medium.path.read_bytes() == now
    assert "What stood there before is back." in proof.put_back_on(medium, bench, Watch(), typed_tag=medium.tag)
    assert medium.path.read_bytes() == before
    with medium.open_for_job() as blocks:
        bench.crate.keep(card_of(medium), blocks, Watch())


def test_on_a_bench_that_knows_nothing_of_it_its_marks_are_met(marked, tmp_path):
    medium, _, _ = marked
    other = Bench(Shelf(medium.path.parent), Crate(tmp_path / "other"), tmp_path / "fresh")
    with pytest.raises(InProof):
        card = other.shelf.find("card")
        with card.open_for_job() as blocks:
            other.crate.keep(card_of(card), blocks, Watch(), every_byte=True)
    with pytest.raises((InProof, JobError)):
        proof.put_back_on(other.shelf.find("card"), other, Watch(), typed_tag=medium.tag)


def test_what_somebody_wrote_since_is_left_and_named(marked, bench):
    medium, before, _ = marked
    with open_blocks(medium.path, writable=True) as blocks:
        at = next(k for k in range(2 * MIB, 48 * MIB, BLOCK) if first_mark(blocks.read(k, BLOCK), k))
        blocks.write(at, b"theirs.." * 512)
    said = proof.put_back_on(medium, bench, Watch(), typed_tag=medium.tag)
    assert f"1 block, the first at byte {at:,}, were written by somebody since" in said
    wanted = bytearray(before)
    wanted[at:at + BLOCK] = b"theirs.." * 512
    assert medium.path.read_bytes() == bytes(wanted)


def test_where_no_proof_was_interrupted_nothing_is_said_to_be_back(bench):
    put_card(bench, "card", 48 * MIB, handheld(44 * MIB).data)
    medium = bench.shelf.find("card")
    with pytest.raises(JobError, match="Nothing was put back"):
        proof.put_back_on(medium, bench, Watch(), typed_tag=medium.tag)


def test_a_card_without_a_serial_number_is_known_by_what_stood_there(bench, tmp_path):
    image = tmp_path / "card.img"
    image.write_bytes(bytes(handheld(44 * MIB).data))
    from mosscrate.core.contents.identity import mark_of
    from mosscrate.core.slots.proofs import known_by
    with open_blocks(image) as blocks:
        mark = mark_of(blocks)
    journal = proof.Journal.begin(bench.state, "key", "Card", "ABCD", image.stat().st_size, 0, mark=mark)
    with open_blocks(image, writable=True) as blocks:
        import numpy as np
        blocks.write(MIB, build(np.array([MIB], np.int64), journal.nonce).tobytes())   # over a volume, not over the map
        blocks.refuse_marks()
        with pytest.raises(InProof) as met:
            mark_of(blocks)
    assert known_by(bench.state / "proofs", met.value.nonce) == mark


def test_a_card_whose_contents_were_given_up_can_be_used_again(bench):
    put_card(bench, "card", 48 * MIB, handheld(44 * MIB).data)
    medium = bench.shelf.find("card")
    proof.give_up_and_prove(medium, bench, Watch(), typed_tag=medium.tag)
    medium = bench.shelf.find("card")
    sheet = JobSheet((s.NewMap("mbr"), s.AddPartition("fat16", label="NEW")), None, reference(medium))
    running.run(sheet, bench, Watch(), typed_tag=medium.tag)
    with medium.open_for_job() as blocks:
        bench.crate.keep(card_of(medium), blocks, Watch(), every_byte=True)
