"""Pictures: scaled as a plan wants them, one for each game, fetched politely, never twice."""

from __future__ import annotations

import io
import random
import struct
import zlib
from pathlib import Path, PurePosixPath

import pytest
from hypothesis import given
from hypothesis import strategies as st
from PIL import Image

from mosscrate.core.errors import MediumError, Stopped
from mosscrate.core.fill.bringing import Brought, Role
from mosscrate.core.fill.origins import LocalFile
from mosscrate.core.fill.pictures.gallery import Gallery
from mosscrate.core.fill.pictures.gathering import fetch, fetched_before
from mosscrate.core.fill.pictures.protocol import Offered
from mosscrate.core.fill.pictures.scaling import Fit, scaled
from mosscrate.core.fill.pictures.server import PictureServer
from mosscrate.core.fill.placed import Act, Bare
from mosscrate.core.fill.plans import shipped
from mosscrate.core.sheet.planning.filling import Sources, fill, lay_over
from mosscrate.core.sheet.planning.picturing import fetch_missing, scale_waiting
from mosscrate.core.sheet.running.run import run
from mosscrate.core.watch import Watch
from mosscrate.demo.pictures import PictureStand
from tests.cards import MIB, handheld, put_card
from tests.fill.samples import gb
from tests.fill.test_filling import fresh, on
from tests.fill.test_sources import make

PLAN = shipped()["long-names-saves-apart"]


def picture(width: int, height: int, *, kind: str = "PNG", mode: str = "RGB", **how: object) -> bytes:
    into = io.BytesIO()
    Image.new(mode, (width, height), 0).save(into, kind, **how)
    return into.getvalue()


def opened(data: bytes) -> Image.Image:
    return Image.open(io.BytesIO(data))


@given(st.integers(1, 900), st.integers(1, 900), st.sampled_from([0, 40, 320]), st.sampled_from([0, 50, 240]),
       st.sampled_from(["RGB", "RGBA", "L", "P", "LA"]), st.sampled_from(["png", "jpg", "bmp"]))
def test_ratio_is_kept_nothing_is_enlarged_and_a_second_time_nothing_changes(width, height, most, tall, mode, kind):
    fit = Fit(most, tall, kind)
    made = scaled(picture(width, height, mode=mode), fit, "x")
    own = opened(made)
    assert own.width <= min(width, most or width)
    assert own.height <= min(height, tall or height)
    assert own.format == {"png": "PNG", "jpg": "JPEG", "bmp": "BMP"}[kind]
    share = min(1.0, most / width if most else 1.0, tall / height if tall else 1.0)
    assert own.size == (max(1, round(width * share)), max(1, round(height * share)))
    assert opened(scaled(made, fit, "x")).size == own.size


def test_turned_and_clear_pictures_and_those_that_are_none():
    exif = Image.Exif()
    exif[0x0112] = 6                                          # turned by a quarter
    assert opened(scaled(picture(400, 200, kind="JPEG", exif=exif), Fit(100, 0, "png"), "x")).size == (100, 200)
    clear = opened(scaled(picture(10, 10, mode="RGBA"), Fit(0, 0, "jpg"), "x"))
    assert (clear.mode, clear.getpixel((5, 5))) == ("RGB", (0, 0, 0))
    bomb = b"\x89PNG\r\n\x1a\n"
    for name, data in ((b"IHDR", struct.pack(">IIBBBBB", 30_000, 30_000, 8, 2, 0, 0, 0)), (b"IEND", b"")):
        bomb += struct.pack(">I", len(data)) + name + data + struct.pack(">I", zlib.crc32(name + data))
    good = picture(300, 300)
    for data in (bomb, b"", b"<svg/>", good[:60], good[:-40], random.Random(1).randbytes(5000)):
        with pytest.raises(MediumError, match="strange"):
            scaled(data, Fit(100, 100, "png"), "strange.png")


@pytest.fixture
def library(tmp_path):
    rnd = random.Random(1)
    return make(tmp_path / "mine", {
        "GB/Hill Run (World).gb": gb(rnd), "GB/Weaver.gb": gb(rnd), "GB/Tide no picture.gb": gb(rnd),
        "boxart/Hill Run.jpg": picture(900, 600, kind="JPEG"), "boxart/nobody.png": picture(9, 9),
        "boxart/Weaver.png": b"no picture at all"})


def test_pictures_of_a_folder_are_scaled_beside_and_come_under_the_games_name(library, bench, tmp_path):
    card, gallery = fresh(bench), Gallery(tmp_path / "gallery")
    first = fill(card, Sources([library]), PLAN, Watch(), partition=2, gallery=gallery)
    assert len(first.sorted.waiting) == 2
    assert "2 pictures are not as large as this card wants them" in " ".join(q.sentence for q in first.questions)
    assert scale_waiting(PLAN, first.sorted, gallery, Watch()) == "1 picture scaled. 1 cannot be read and stay out."
    found = fill(card, Sources([library]), PLAN, Watch(), partition=2, gallery=gallery)
    assert not found.sorted.waiting
    run(found.sheet, bench, Watch(), typed_tag=card.tag)
    there = on(card)
    assert [path for path in there if path.startswith("pictures/")] == ["pictures/gameboy/Hill Run (World).png"]
    assert opened(there["pictures/gameboy/Hill Run (World).png"]).size == (400, 267)
    assert fill(card, Sources([library]), PLAN, Watch(), partition=2, gallery=gallery).sheet is None
    (library / "boxart" / "Hill Run.jpg").write_bytes(picture(500, 500, kind="JPEG"))
    other = fill(card, Sources([library]), PLAN, Watch(), partition=2, gallery=gallery)
    scale_waiting(PLAN, other.sorted, gallery, Watch())
    kept = fill(card, Sources([library]), PLAN, Watch(), partition=2, gallery=gallery)
    assert kept.sheet is None
    assert "The card has pictures of 1 game for which others are brought in" in " ".join(
        q.sentence for q in kept.questions)
    chosen = fill(card, Sources([library]), PLAN, Watch(), partition=2, gallery=gallery,
                  answers={"pictures there": "use the ones brought in"})
    assert [p.act for p in chosen.sorted.coming] == [Act.KEEP_BOTH]


def test_what_is_missing_is_fetched_once_and_for_names_only_where_there_is_nothing_better(library, bench, tmp_path):
    card, gallery = fresh(bench), Gallery(tmp_path / "gallery")
    with PictureStand() as stand:
        sources = Sources([library], None, stand.address)
        found = fill(card, sources, PLAN, Watch(), partition=2, gallery=gallery)
        scale_waiting(PLAN, found.sorted, gallery, Watch())
        found = fill(card, sources, PLAN, Watch(), partition=2, gallery=gallery)
        assert {game.name for game in found.sorted.bare} == {"Weaver.gb", "Tide no picture.gb"}
        assert fetch_missing(PLAN, found.sorted, stand.address, gallery, Watch()) == \
            "Pictures of 1 games; of 1 the server has none."
        asked = len(stand.asked)
        found = fill(card, sources, PLAN, Watch(), partition=2, gallery=gallery)
        scale_waiting(PLAN, found.sorted, gallery, Watch())
        fetch_missing(PLAN, found.sorted, stand.address, gallery, Watch())
        assert len(stand.asked) == asked
    found = fill(card, sources, PLAN, Watch(), partition=2, gallery=gallery)
    run(found.sheet, bench, Watch(), typed_tag=card.tag)
    assert opened(on(card)["pictures/gameboy/Weaver.png"]).size == (400, 559)


def games(count: int) -> list[Bare]:
    return [Bare("gb", f"Game {number}.gb") for number in range(count)]


def test_a_fetch_that_is_stopped_goes_on_where_it_was(tmp_path):
    gallery, left = Gallery(tmp_path / "gallery"), [7]

    def is_over() -> bool:
        left[0] -= 1
        return left[0] < 0

    with PictureStand() as stand:
        with pytest.raises(Stopped):
            fetch(stand.address, games(30), gallery, Watch(should_stop=is_over))
        first = [path for path in stand.asked if path.startswith("/1/picture/")]
        assert 0 < len(first) < 30
        assert fetch(stand.address, games(30), gallery, Watch()).found == 30
        pictures = [path for path in stand.asked if path.startswith("/1/picture/")]
        assert len(pictures) <= 31                            # the one that was under way may come twice
        assert len(fetched_before(stand.address, games(30), gallery)) == 30


def test_a_server_that_is_busy_is_waited_for_and_one_that_lies_is_not_believed(tmp_path):
    waited, gallery = list[float](), Gallery(tmp_path / "gallery")
    with PictureStand() as stand:
        stand.refuse = [(503, "3"), (429, "100000")]
        assert fetch(stand.address, games(2), gallery, Watch(), sleep=waited.append).found == 2
        assert 92 < sum(waited) < 95                          # 3 as asked, and no more than 90
        stand.refuse = [(302, "")]
        with pytest.raises(MediumError, match="Too many questions"):
            fetch(stand.address, games(3), gallery, Watch(), sleep=waited.append)
        with PictureServer(stand.address, Watch()) as server:
            for path in ("http://else/1/picture/ab", "/1/picture/../../etc", "/2/picture/ab", "/1/picture/"):
                with pytest.raises(MediumError, match="no place for one"):
                    server.picture(Offered("box", path), 0)
            digest = next(iter(stand.pictures))
            stand.pictures[digest] = b"something else"
            with pytest.raises(MediumError, match="has not the digest"):
                server.picture(Offered("box", f"/1/picture/{digest}"), 0)
            stand.pictures[digest] = bytes(9 << 20)
            with pytest.raises(MediumError, match="more than 8 MiB"):
                server.picture(Offered("box", f"/1/picture/{digest}"), 400)
        address = stand.address
    with pytest.raises(MediumError, match="gives no answer"):
        fetch(address, games(4), gallery, Watch(), sleep=waited.append)
    for wrong in ("ftp://x", "http://", "http://x/y", "http://x:99999999"):
        with pytest.raises(MediumError, match="no address"):
            Sources(pictures_from=wrong)
        with pytest.raises(MediumError, match="no address"):
            PictureServer(wrong, Watch())


def test_an_answer_that_ends_early_is_asked_again_and_a_dead_server_stops_no_game(library, bench, tmp_path):
    gallery, waited = Gallery(tmp_path / "gallery"), list[float]()
    with PictureStand() as stand:
        fetch(stand.address, games(1), gallery, Watch())      # so that there are pictures
        digest = next(iter(stand.pictures))
        stand.cut = [100, 50]
        with PictureServer(stand.address, Watch(), waited.append) as server:
            whole = server.picture(Offered("box", f"/1/picture/{digest}"), 0)
        assert whole == stand.pictures[digest]
        assert round(sum(waited), 1) == 0.6                   # before the second and the third try
        address = stand.address
    found = fill(fresh(bench), Sources([library], None, address), PLAN, Watch(), partition=2, gallery=gallery)
    said = fetch_missing(PLAN, found.sorted, address, gallery, Watch())
    assert said.endswith("Games come without the pictures that are missing.")
    assert found.sheet is not None


def test_one_broken_picture_of_many_games_stays_out_alone(tmp_path):
    (tmp_path / "broken.png").write_bytes(b"no picture")
    Image.new("RGB", (900, 900)).save(tmp_path / "good.png")
    broken, good = (brought_picture(tmp_path / name) for name in ("broken.png", "good.png"))
    gallery = Gallery(tmp_path / "gallery")
    assert gallery.make([broken, good] * 20, Fit(100, 100, "png"), Watch()) == 20
    assert "no picture that can be read" in gallery.why_not(broken, Fit(100, 100, "png"))


def brought_picture(path: Path) -> Brought:
    return Brought(PurePosixPath(path.name), LocalFile(path), "", path.stat().st_size, 0, Role.PICTURE)


def test_pictures_of_another_card_are_scaled_once_it_is_opened_again(library, bench, tmp_path):
    first = fresh(bench)
    run(lay_over(first, Sources([library]), Watch(), partition=2).sheet, bench, Watch(), typed_tag=first.tag)
    put_card(bench, "two", 100 * MIB, handheld(100 * MIB, seed=5).data, name="Quillon")
    card, gallery, sources = bench.shelf.find("Quillon"), Gallery(tmp_path / "gallery"), Sources(card=first)
    found = fill(card, sources, PLAN, Watch(), partition=2, gallery=gallery)
    said = scale_waiting(PLAN, found.sorted, gallery, Watch(), first)
    assert said == "1 picture scaled. 1 cannot be read and stay out."
    found = fill(card, sources, PLAN, Watch(), partition=2, gallery=gallery)
    run(found.sheet, bench, Watch(), typed_tag=card.tag)
    assert opened(on(card)["pictures/gameboy/Hill Run (World).png"]).size == (400, 267)
