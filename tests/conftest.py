"""What all tests share: one Hypothesis profile, an offscreen window, small benches."""

from __future__ import annotations

import os
from datetime import UTC, datetime, timedelta
from pathlib import Path

import numpy as np
import pytest
from hypothesis import HealthCheck, settings

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
for name in ("MOSSCRATE_SLOTS", "MOSSCRATE_CRATE", "MOSSCRATE_STATE", "MOSSCRATE_MACHINES"):
    os.environ.pop(name, None)

settings.register_profile("ours", deadline=None, max_examples=60, suppress_health_check=list(HealthCheck))
settings.load_profile("ours")

from mosscrate.core.crate import Crate
from mosscrate.core.images.packing import stream
from mosscrate.core.machines import Machines
from mosscrate.core.sheet.bench import Bench
from mosscrate.core.slots import Shelf

stream.GLANCE_S = 60.0                   # how far a busy machine gets in a moment is no matter of a test
LONG = 1024                              # bytes that may be printed whole


def pytest_assertrepr_compare(op, left, right):
    """Long contents that differ are told by their lengths and the first place, not printed by the million."""
    kinds = (bytes, bytearray, memoryview)
    if op != "==" or not (isinstance(left, kinds) and isinstance(right, kinds)) or max(len(left), len(right)) <= LONG:
        return None
    a, b = (np.frombuffer(x, np.uint8)[:min(len(left), len(right))] for x in (left, right))
    places = np.flatnonzero(a != b)
    at = int(places[0]) if len(places) else len(a)
    return [f"{len(left):,} bytes == {len(right):,} bytes", f"{len(places):,} bytes differ, the first at {at:#x}",
            f"  {bytes(left[at:at + 32]).hex(' ')}", f"  {bytes(right[at:at + 32]).hex(' ')}"]


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
