"""What all tests share: one Hypothesis profile, an offscreen window, small benches."""

from __future__ import annotations

import os
from datetime import UTC, datetime, timedelta
from pathlib import Path

import pytest
from hypothesis import HealthCheck, settings

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
for name in ("MOSSCRATE_SLOTS", "MOSSCRATE_CRATE", "MOSSCRATE_STATE", "MOSSCRATE_MACHINES"):
    os.environ.pop(name, None)

settings.register_profile("ours", deadline=None, max_examples=60, suppress_health_check=list(HealthCheck))
settings.load_profile("ours")

from mosscrate.core.crate import Crate
from mosscrate.core.machines import Machines
from mosscrate.core.sheet.bench import Bench
from mosscrate.core.slots import Shelf


class Clock:
    """A clock that goes on a minute at each look."""

    def __init__(self):
        self.at = datetime(2026, 11, 20, 8, 0, tzinfo=UTC)

    def __call__(self):
        self.at += timedelta(minutes=1)
        return self.at


@pytest.fixture
def bench(tmp_path: Path) -> Bench:
    """An empty bench in a folder of its own."""
    slots = tmp_path / "slots"
    slots.mkdir()
    return Bench(Shelf(slots, backups=tmp_path / "crate"), Crate(tmp_path / "crate", Clock()), tmp_path / "state",
                 Machines(tmp_path / "machines"))
