"""A card in a reader as an ordinary user has it: through the disk service, with its refusals, over loop devices."""

from __future__ import annotations

import json
import os
import pwd
import subprocess
import sys
import threading
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager, redirect_stderr, redirect_stdout
from io import StringIO
from pathlib import Path

import pytest

from mosscrate.cli.app import main
from mosscrate.core.contents import survey
from mosscrate.core.errors import InUse, MediumError
from mosscrate.core.slots import Shelf
from mosscrate.core.slots.service import MustAsk, Service
from tests.cards import MIB, handheld
from tests.devices.service import as_user, disk_service, needs_service, open_to_all, settled
from tests.loops import alone, loop

pytestmark = needs_service
MAY, MAY_NOT = pwd.getpwnam("nobody"), pwd.getpwnam("daemon")


@pytest.fixture(scope="module")
def service(tmp_path_factory):
    folder = tmp_path_factory.mktemp("service")
    open_to_all(folder)                                     # users of the bus have to get to its socket
    with alone(), disk_service(folder, allowed=MAY.pw_name):
        yield Service()


@pytest.fixture
def card(service, tmp_path):
    (tmp_path / "card.img").write_bytes(handheld(40 * MIB).data)
    with loop(tmp_path / "card.img") as device:
        device.chmod(0o660)
        settled()
        yield Shelf().find(str(device))


@pytest.fixture
def home(tmp_path):
    """A folder in which the ordinary user may write."""
    open_to_all(tmp_path)
    folder = tmp_path / "home"
    folder.mkdir()
    os.chown(folder, MAY.pw_uid, MAY.pw_gid)
    return folder


def shell(uid: int, home: Path, *arguments: object) -> tuple[int, str]:
    """A command of the shell as another user: its exit status and all that it printed."""
    return as_user(uid, _in_shell, home, arguments)


def _in_shell(home: Path, arguments: tuple[object, ...]) -> tuple[int, str]:
    sys.argv = ["mosscrate", "--crate", str(home / "crate"), "--state", str(home / "state"),
                *map(str, arguments)]
    with redirect_stdout(StringIO()) as said, redirect_stderr(said), pytest.raises(SystemExit) as ended:
        main()
    return ended.value.code, said.getvalue()


def test_a_card_is_found_opened_and_looked_at_by_who_may(card, home):
    code, said = shell(MAY.pw_uid, home, "look", card.path, "--json")
    assert code == 0, said
    assert [p["volume"]["label"] for p in json.loads(said)["partitions"]][-1] == "GAMES"
    assert str(card.path) in shell(MAY.pw_uid, home, "slots")[1]


def test_who_may_not_is_told_why_and_whom_to_ask(card):
    with pytest.raises(MustAsk, match=r"Permission is needed for .*nobody could be asked"):
        as_user(MAY_NOT.pw_uid, _read_first, card.path)


def test_without_the_service_the_sentence_says_what_to_install(card, monkeypatch):
    monkeypatch.setenv("DBUS_SYSTEM_BUS_ADDRESS", "unix:path=/nowhere")
    with pytest.raises(MediumError, match=r"may not be opened by this user.*Install UDisks2"):
        as_user(MAY.pw_uid, _read_first, card.path)


def _read_first(path: Path) -> bytes:
    with Shelf().find(str(path)).open() as blocks:
        return blocks.read(0, 512)


def test_the_whole_move_as_a_user_who_cannot_open_the_device(service, card, home, tmp_path):
    source = home / "old.img"
    source.write_bytes(handheld(40 * MIB, seed=9).data)
    source.chmod(0o644)
    with pytest.raises(PermissionError):
        as_user(MAY.pw_uid, os.open, card.path, os.O_RDONLY)
    tag = as_user(MAY.pw_uid, _tag, card.path)
    sheet = home / "sheet.json"
    code, said = shell(MAY.pw_uid, home, "sheet", "plan", source, card.path, "--out", sheet)
    assert code == 0, said
    code, said = shell(MAY.pw_uid, home, "sheet", "run", sheet, "--tag", tag)
    assert code == 0, said
    assert "take it out now" in said
    with Shelf().find(str(card.path)).open() as blocks:
        assert [p.volume.label for p in survey(blocks).partitions][-1] == "GAMES"


def _tag(path: Path) -> str:
    return Shelf().find(str(path)).tag


def test_nothing_can_mount_a_card_while_a_job_of_an_ordinary_user_holds_it(service, home, tmp_path):
    with volume(tmp_path) as device:
        place = _not_mounted_during(_hold, MAY.pw_uid, device, home)
        subprocess.run(["mount", device, place], check=True)
        with pytest.raises(InUse, match="in use by the system"):
            as_user(MAY.pw_uid, _hold, device, home)
        subprocess.run(["umount", place], check=True)


@pytest.mark.parametrize("user", [os.getuid(), MAY.pw_uid])
def test_nothing_can_mount_a_card_while_all_of_it_is_read(service, home, tmp_path, user):
    with volume(tmp_path) as device:
        place = _not_mounted_during(_read_all_of, user, device, home)
        subprocess.run(["mount", device, place], check=True)
        try:
            as_user(user, _read_all_of, device, home)       # what is mounted can be read all the same
        finally:
            subprocess.run(["umount", place], check=True)


def _not_mounted_during(work: Callable[[Path, Path], None], user: int, device: Path, home: Path) -> Path:
    """A place at which a device cannot be mounted while a user is at work on it."""
    device.chmod(0o660)
    place = _place(home.parent)
    worker = threading.Thread(target=as_user, args=(user, work, device, home))
    worker.start()
    _wait_for(home / "held")
    tried = subprocess.run(["mount", device, place], capture_output=True, text=True, check=False)
    (home / "tried").touch()
    worker.join()
    assert "already mounted or" in tried.stderr, tried
    return place


def _read_all_of(device: Path, home: Path) -> None:
    with Shelf().find(str(device)).open_for_job() as card:
        (home / "held").touch()
        _wait_for(home / "tried")
        assert len(card.read(0, card.size)) == card.size


def _hold(device: Path, home: Path) -> None:
    """Hold a device open until somebody has tried to mount it; meanwhile nobody else can open it so."""
    fd = Service().open(device, "The card", writable=True, exclusive=True, may_ask=True)
    with pytest.raises(InUse, match="in use by the system"):
        Service().open(device, "The card", writable=True, exclusive=True, may_ask=True)
    (home / "held").touch()
    _wait_for(home / "tried")
    os.close(fd)


def _wait_for(path: Path) -> None:
    for _ in range(200):
        if path.exists():
            return
        time.sleep(0.05)
    pytest.fail(f"{path.name} did not happen")


@contextmanager
def volume(folder: Path) -> Iterator[Path]:
    """A loop device over a volume of the system's own making."""
    with (folder / "fs.img").open("wb") as file:
        file.truncate(8 * MIB)
    subprocess.run(["mkfs.ext4", "-q", folder / "fs.img"], check=True)
    with loop(folder / "fs.img") as device:
        settled()
        yield device


def test_what_is_mounted_is_unmounted_on_request_and_who_holds_it_is_named(service, tmp_path):
    with volume(tmp_path) as device:
        place = _place(tmp_path)
        subprocess.run(["mount", device, place], check=True)
        medium = Shelf().find(str(device))
        assert medium.in_use == f"mounted at {place}"
        with subprocess.Popen(["sleep", "60"], cwd=place) as busy:
            try:
                with pytest.raises(InUse, match=rf"place cannot be unmounted.*sleep \({busy.pid}\) has something open"):
                    Shelf().unmount(medium)
            finally:
                busy.terminate()
        assert "take it out now" in Shelf().eject(medium)
        assert Shelf().find(str(device)).in_use == ""


def _place(folder: Path) -> Path:
    (folder / "place").mkdir()
    return folder / "place"


def told_until(told, ready) -> bool:
    """Whether a word came behind which it is so; a busy machine may take its time."""
    end = time.monotonic() + 60
    while time.monotonic() < end:
        if told.wait(1) and ready():
            return True
        told.clear()
    return False


def test_what_comes_and_goes_is_told(service, tmp_path):
    (tmp_path / "card.img").write_bytes(handheld(40 * MIB).data)
    told = threading.Event()
    shelf = Shelf()
    watcher = shelf.watch(told.set)
    try:
        told.wait(0.7)
        told.clear()
        with loop(tmp_path / "card.img") as device:
            assert told_until(told, lambda: device in [m.path for m in shelf.media()]), "nothing was told"
            told.clear()
        assert told_until(told, lambda: device not in [m.path for m in shelf.media()]), "that it went was not told"
    finally:
        watcher.stop()
