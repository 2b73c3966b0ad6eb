"""What goes by age, and what a person calls and notes."""

from __future__ import annotations

import random
from datetime import UTC, datetime, timedelta
from pathlib import Path

import pytest

from mosscrate.core.crate import Backup, BackupRecord, CardRecord, Crate
from mosscrate.core.crate.ageing import Ages, too_many
from mosscrate.core.crate.notes import notes_in, put_note
from mosscrate.core.errors import CrateError
from mosscrate.core.watch import Watch
from tests.core.test_store import card_with, record

NOW = datetime(2026, 11, 20, 12, tzinfo=UTC)


def backup(days: float, note: str = "") -> Backup:
    when = (NOW - timedelta(days=days)).isoformat()
    card = CardRecord("Pipkin", "key", "ABCD", 1 << 20)
    record = BackupRecord(card, when, f"{days}.kept", 1 << 20, 0, "", 0.0, verified=True)
    return Backup(record, Path(record.image), note)


@pytest.mark.parametrize("seed", range(60))
def test_something_of_every_month_and_year_stays(seed: int) -> None:
    """Whenever it was kept: all of the last days, one of each month, one of each year, the first and the last."""
    rnd = random.Random(seed)
    ages = Ages(rnd.randrange(60), rnd.randrange(24))
    backups = sorted((backup(rnd.random() ** 2 * 2500) for _ in range(rnd.randrange(60))), key=lambda b: b.kept_at)
    gone = too_many(backups, ages, NOW)
    left = [b for b in backups if b not in gone]
    assert left[:1] + left[-1:] == backups[:1] + backups[-1:]
    assert all(b.kept_at < NOW - timedelta(days=ages.all_days) for b in gone)
    assert {b.kept_at.year for b in left} == {b.kept_at.year for b in backups}
    since = NOW - timedelta(days=ages.all_days + 30.5 * ages.months)
    months = [{(b.kept_at.year, b.kept_at.month) for b in some if b.kept_at >= since} for some in (left, backups)]
    assert months[0] == months[1]
    assert too_many(left, ages, NOW) == []
    older = [b for b in left[1:-1] if b.kept_at < NOW - timedelta(days=ages.all_days)]
    assert len(older) <= ages.months + 3 + 8


def test_a_backup_with_a_note_stays() -> None:
    """It was worth a word."""
    days = [900, 500, 499, 498, 2, 1]
    assert len(too_many([backup(d) for d in days], Ages(), NOW)) == 2
    assert len(too_many([backup(d, "the good one") for d in days], Ages(), NOW)) == 0


def test_a_whole_backup_stays_rather_than_one_with_gaps_and_the_last_whole_one_in_any_case() -> None:
    """What could not be read in March does not displace what could."""
    whole, gaps = backup(480), backup(470)
    first, last = backup(900), backup(1)
    for partial in (gaps, first, last):
        partial.record.unreadable.append((0, 512))
    assert too_many([first, whole, gaps, last], Ages(), NOW) == [gaps]
    later = [backup(469 - n) for n in range(3)]
    for partial in later:
        partial.record.unreadable.append((0, 512))
    assert whole not in too_many([first, whole, gaps, *later, last], Ages(), NOW)


def test_names_and_notes_stay_with_card_and_backup(tmp_path: Path) -> None:
    """The newest counts; what is damaged or too long does no harm."""
    crate, card = Crate(tmp_path), card_with("fat16", 3, acts=20)
    kept = crate.keep(record(card), card, Watch())
    put_note(tmp_path, "key", name="  Blue   one ", text="bought in spring")
    put_note(tmp_path, "key", name="Green one", text="bought in spring")
    put_note(tmp_path, kept.id, text="before the new shell\n")
    (tmp_path / "names" / "noise.note").write_bytes(b"\xff\x00")
    (tmp_path / "names" / "large.note").write_bytes(b'{"about": "key", "at": "9", "name": "' + b"x" * 100_000 + b'"}')
    lane, = crate.lanes()
    assert (lane.card.name, lane.note) == ("Green one", "bought in spring")
    assert lane.backups[0].note == "before the new shell"
    assert crate.find("green one").path == crate.find(lane.backups[0].id).path == kept.path
    assert crate.keep(record(card), card, Watch()).record.card.name == "Pipkin"
    with pytest.raises(CrateError, match="80 letters"):
        put_note(tmp_path, "key", name="x" * 81)
    put_note(tmp_path, "key")
    assert crate.lanes()[0].card.name == "Pipkin"
    assert set(notes_in(tmp_path)) == {"key", kept.id}
    assert crate.check_all(Watch()) == []
