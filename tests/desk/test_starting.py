"""How the window is started and ended from outside: without a display, by a signal."""

from __future__ import annotations

import os
import signal
import subprocess
import sys
import time

import pytest

from mosscrate.desk.arguments import DISPLAYS


def started(*words, **environment):
    plain = {name: value for name, value in os.environ.items() if name not in DISPLAYS}
    return subprocess.Popen([sys.executable, "-m", "mosscrate.desk", *words], env=plain | environment, text=True,
                            stdout=subprocess.PIPE, stderr=subprocess.PIPE)


def test_without_a_display_help_is_given_and_the_rest_is_said_in_a_line():
    out, _ = (helped := started("--help")).communicate(timeout=120)
    assert (helped.returncode, out.startswith("usage: mosscrate-desk")) == (0, True)
    _, err = (ended := started()).communicate(timeout=120)
    assert (ended.returncode, err.count("\n")) == (1, 1), err
    assert "no display" in err
    assert "--headless" in err


@pytest.mark.parametrize("number", [signal.SIGINT, signal.SIGTERM])
def test_a_signal_closes_the_window(number, tmp_path):
    with started("--demo", "--folder", str(tmp_path / "demo"), QT_QPA_PLATFORM="offscreen",
                 XDG_CONFIG_HOME=str(tmp_path)) as window:
        state = tmp_path / "demo"
        for _ in range(1200):
            if list(state.rglob("mosscrate.log")):           # the bench is open: the window stands
                break
            time.sleep(0.1)
        time.sleep(0.5)
        window.send_signal(number)
        _, err = window.communicate(timeout=120)
        assert window.returncode == 128 + number, err
        assert "Traceback" not in err
