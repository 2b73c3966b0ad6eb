"""Whoever has gone to do something else is told by the desktop that long work has ended."""

from __future__ import annotations

import os
import queue
import shutil
import subprocess
import threading
import time

import pytest
from jeepney import HeaderFields, message_bus, new_method_return
from jeepney.io.blocking import open_dbus_connection

from mosscrate.core.errors import JobError

pytestmark = pytest.mark.skipif(shutil.which("dbus-daemon") is None, reason="needs dbus-daemon")


@pytest.fixture
def shown(monkeypatch):
    """What a desktop on a bus of its own was asked to show: (title, sentence)."""
    found: queue.Queue[tuple[str, str]] = queue.Queue()
    with subprocess.Popen(["dbus-daemon", "--session", "--nofork", "--print-address"], stdout=subprocess.PIPE,
                          text=True) as daemon:
        monkeypatch.setitem(os.environ, "DBUS_SESSION_BUS_ADDRESS", daemon.stdout.readline().strip())
        desktop = open_dbus_connection(bus="SESSION")
        desktop.send_and_get_reply(message_bus.RequestName("org.freedesktop.Notifications"))

        def answer() -> None:
            while True:
                try:
                    asked = desktop.receive()
                except (OSError, EOFError):
                    return
                if asked.header.fields.get(HeaderFields.member) == "Notify":
                    found.put((asked.body[3], asked.body[4]))
                    desktop.send(new_method_return(asked, "u", (1,)))

        threading.Thread(target=answer, daemon=True).start()
        yield found
        daemon.terminate()
        desktop.close()


def test_the_end_of_long_work_is_told_with_its_sentence(person, shown, monkeypatch):
    model = person.window.model
    monkeypatch.setattr(person.window.notices, "is_looked_at", lambda: False)
    person.window.notices.long = 0.2

    def work(watch):
        time.sleep(0.3)
        return "Kept. 3 < 4 & all is well."

    job = model.run("Keep Worn card", work, set())
    job.done.connect(model.said.emit)
    person.wait(lambda: not model.jobs)
    assert shown.get(timeout=20) == ("Keep Worn card", "Kept. 3 &lt; 4 &amp; all is well.")

    def fails(watch):
        time.sleep(0.3)
        raise JobError("New card does not read back.")

    model.run("Write New card", fails, set())
    person.wait(lambda: not model.jobs)
    assert shown.get(timeout=20) == ("Write New card", "New card does not read back.")

    monkeypatch.setattr(person.window.notices, "is_looked_at", lambda: True)
    model.run("Write New card", fails, set())
    person.wait(lambda: not model.jobs)
    with pytest.raises(queue.Empty):
        shown.get(timeout=0.5)


def test_a_desktop_that_shows_nothing_is_no_fault(person, monkeypatch):
    monkeypatch.setattr(person.window.notices, "is_looked_at", lambda: False)
    monkeypatch.setitem(os.environ, "DBUS_SESSION_BUS_ADDRESS", "unix:path=/nowhere")
    person.window.notices.long = 0.0
    person.window.model.run("Keep Worn card", lambda watch: None, set())
    person.wait(lambda: not person.window.model.jobs)
    assert person.window.isVisible()
