"""Files that a person asks for: whole or not at all, never over another, and what a killed run leaves is known."""

from __future__ import annotations

import fcntl
import os
import signal
import subprocess
import sys

import pytest

from mosscrate.core import new_file as door
from mosscrate.core.durable import PART, begun, write_whole
from mosscrate.core.errors import MediumError
from mosscrate.core.new_file import new_file

MAKE_AND_WAIT = """
import sys, time
from pathlib import Path
from mosscrate.core.new_file import new_file
with new_file(Path(sys.argv[1])) as part:
    part.write_bytes(b"half")
    print("begun", flush=True)
    time.sleep(600)
"""


@pytest.fixture
def maker(tmp_path):
    """Another process that has begun to make x.img."""
    process = subprocess.Popen([sys.executable, "-c", MAKE_AND_WAIT, tmp_path / "x.img"], stdout=subprocess.PIPE)
    assert process.stdout.readline() == b"begun\n"
    yield process
    process.kill()
    process.wait()
    process.stdout.close()


def names(folder) -> list[str]:
    return sorted(p.name for p in folder.iterdir())


def test_a_file_is_there_when_it_is_whole_and_not_before(tmp_path):
    path = tmp_path / "x.img"
    with new_file(path) as part:
        part.write_bytes(b"whole")
        assert not path.exists()
    assert (path.read_bytes(), names(tmp_path)) == (b"whole", ["x.img"])


@pytest.mark.parametrize("error", [ValueError, KeyboardInterrupt])
def test_half_a_file_is_none(tmp_path, error):
    with pytest.raises(error), new_file(tmp_path / "x.img") as part:
        part.write_bytes(b"half")
        raise error
    assert names(tmp_path) == []


def test_what_has_the_name_stays_also_a_link_that_leads_nowhere(tmp_path):
    (tmp_path / "x.img").write_bytes(b"other")
    (tmp_path / "y.img").symlink_to(tmp_path / "nowhere")
    for name in ("x.img", "y.img"):
        with pytest.raises(MediumError, match="is there already"), new_file(tmp_path / name):
            pass
    assert ((tmp_path / "x.img").read_bytes(), names(tmp_path)) == (b"other", ["x.img", "y.img"])


@pytest.mark.parametrize("is_promised", [True, False])
def test_what_comes_meanwhile_stays(tmp_path, monkeypatch, is_promised):
    if not is_promised:                                  # by the file system: it knows no rename that replaces nothing
        monkeypatch.setattr(door, "NOT_OVER_ANOTHER", 1 << 30)
    with pytest.raises(MediumError, match="is there already"), new_file(tmp_path / "x.img") as part:
        part.write_bytes(b"mine")
        (tmp_path / "x.img").write_bytes(b"other")
    assert ((tmp_path / "x.img").read_bytes(), names(tmp_path)) == (b"other", ["x.img"])
    with new_file(tmp_path / "y.img") as part:
        part.write_bytes(b"mine")
    assert (tmp_path / "y.img").read_bytes() == b"mine"


def test_what_a_killed_run_left_is_taken_away_and_what_one_makes_now_is_not(tmp_path, maker):
    with pytest.raises(MediumError, match="at this moment by another run"), new_file(tmp_path / "x.img"):
        pass
    maker.send_signal(signal.SIGKILL)
    maker.wait()
    assert names(tmp_path) == [f"x.img{PART}"]
    with new_file(tmp_path / "x.img") as part:
        part.write_bytes(b"whole")
    assert names(tmp_path) == ["x.img"]


def test_a_file_that_only_has_such_a_name_belongs_to_somebody_else(tmp_path):
    for name in (f"x.img{PART}", "x.img.part", f"note{PART}", "note.part"):
        (tmp_path / name).write_bytes(b"other")
    (tmp_path / f"x.img{PART}-1").symlink_to(tmp_path / "nowhere")
    with new_file(tmp_path / "x.img") as part:
        part.write_bytes(b"whole")
    write_whole(tmp_path / "note", b"whole")
    write_whole(tmp_path / "note", b"anew")
    assert (tmp_path / "note").read_bytes() == b"anew"
    assert names(tmp_path) == ["note", f"note{PART}", "note.part", "x.img", f"x.img{PART}", f"x.img{PART}-1",
                               "x.img.part"]
    assert {(tmp_path / name).read_bytes() for name in (f"x.img{PART}", "x.img.part", f"note{PART}")} == {b"other"}


def test_a_name_as_long_as_names_may_be(tmp_path):
    with new_file(tmp_path / ("ß" * 126 + "abc")) as part:
        part.write_bytes(b"whole")
    assert len(names(tmp_path)) == 1


def test_two_who_write_the_same_small_file_do_not_meet(tmp_path):
    fd, part = begun(tmp_path / "note")
    write_whole(tmp_path / "note", b"whole")
    assert names(tmp_path) == ["note", part.name]
    fcntl.flock(fd, fcntl.LOCK_UN)                       # as if its process were gone
    write_whole(tmp_path / "note", b"anew")
    os.close(fd)
    assert names(tmp_path) == ["note"]


def test_a_folder_where_nothing_may_be_made_is_a_sentence(tmp_path):
    with pytest.raises(MediumError, match="cannot be made: No such file"), new_file(tmp_path / "no" / "x.img"):
        pass
