"""A running device: kept over a real SFTP connection on this computer, and given its files back."""

from __future__ import annotations

import os
import threading
from concurrent.futures import Future
from datetime import datetime
from pathlib import Path

import asyncssh
import pytest

from mosscrate.core.contents.files import FileKind
from mosscrate.core.crate import Crate
from mosscrate.core.crate.library import files_in
from mosscrate.core.crate.parts import Choice
from mosscrate.core.devices import Address, ChangedHost, Device, KnownDevices, NeedsPassword, UnknownHost
from mosscrate.core.devices.giving_back import give_back
from mosscrate.core.devices.keeping import keep_device
from mosscrate.core.errors import CrateError, MediumError
from mosscrate.core.watch import Watch
from mosscrate.demo.device import FILES, PASSWORD, StandIn, fill
from tests.core.test_store import files_of

OLD = 1_790_000_000


@pytest.fixture
def stand_in(tmp_path):
    fill(tmp_path / "device")
    with StandIn(tmp_path / "device") as running:
        yield running


@pytest.fixture
def known(tmp_path, stand_in) -> KnownDevices:
    """The stand-in is trusted."""
    known = KnownDevices(tmp_path / "state" / "devices.json")
    known.trust(stand_in.address.server, " ".join(stand_in.key.export_public_key().decode().split()[:2]))
    return known


@pytest.fixture
def device(stand_in, known):
    with Device(stand_in.address, known, password=PASSWORD, keys=[]) as device:
        device.connect()
        yield device


@pytest.fixture
def crate(tmp_path) -> Crate:
    return Crate(tmp_path / "crate")


def on_device(folder: Path) -> dict[str, bytes]:
    return {str(p.relative_to(folder)): p.read_bytes() for p in sorted(folder.rglob("*")) if p.is_file()}


def kept_in(backup) -> dict[str, bytes]:
    with backup.open() as disk:
        return files_of(disk)


def test_an_unknown_server_is_shown_first_and_a_changed_one_refused(stand_in, tmp_path):
    known = KnownDevices(tmp_path / "state" / "devices.json")
    with Device(stand_in.address, known, password=PASSWORD, keys=[]) as device:
        with pytest.raises(UnknownHost, match=stand_in.fingerprint.replace("+", "[+]")) as told:
            device.connect()
        known.trust(stand_in.address.server, told.value.key)
        device.connect()
    stand_in.exchange_key()
    with Device(stand_in.address, known, password=PASSWORD, keys=[]) as device, pytest.raises(ChangedHost):
        device.connect()
    assert PASSWORD not in known.path.read_text()
    known.forget(stand_in.address.server, str(stand_in.address))
    with Device(stand_in.address, known, password=PASSWORD, keys=[]) as device, pytest.raises(UnknownHost):
        device.connect()


def test_a_person_is_let_in_by_key_or_password_only(stand_in, known, tmp_path):
    for password, said in (("", "with the keys at hand"), ("wrong", "with that password")):
        with Device(stand_in.address, known, password=password, keys=[]) as device, \
                pytest.raises(NeedsPassword, match=said):
            device.connect()
    key = asyncssh.generate_private_key("ssh-ed25519")
    key.write_private_key(tmp_path / "key")
    stand_in.allowed = asyncssh.import_authorized_keys(key.export_public_key().decode())
    with Device(stand_in.address, known, keys=[str(tmp_path / "key")]) as device:
        device.connect()
        assert device.status("config/heron.cfg").size == FILES["config/heron.cfg"]
    with Device(Address("player", "127.0.0.1", 1), known, keys=[]) as device, \
            pytest.raises(MediumError, match="does not answer"):
        device.connect()


def test_a_device_is_kept_as_a_lane_and_only_what_changed_is_fetched_again(device, crate, stand_in):
    first = keep_device(crate, device, Choice(), Watch())
    assert kept_in(first.backup) == on_device(stand_in.folder)
    assert first.fetched == sum(FILES.values())
    assert {f.path: f.modified for f in files_in(first.backup)} == dict.fromkeys(FILES, OLD)
    (stand_in.folder / "saves" / "Velvet Weaver.srm").write_bytes(b"further on" * 300)
    (stand_in.folder / "roms" / "gb" / "Amber Parade.gb").unlink()
    second = keep_device(crate, device, Choice(), Watch())
    assert kept_in(second.backup) == on_device(stand_in.folder)
    assert second.fetched == 3000
    assert keep_device(crate, device, Choice(), Watch(), anew=True).fetched == sum(
        len(data) for data in on_device(stand_in.folder).values())
    assert [len(lane.backups) for lane in crate.lanes()] == [3]
    assert crate.check_all(Watch()) == []


def test_only_saves_or_folders_are_kept_where_that_is_chosen(device, crate):
    saves = keep_device(crate, device, Choice((FileKind.SAVE,), ("config",)), Watch())
    assert set(kept_in(saves.backup)) == {p for p in FILES if p.startswith(("saves/", "config/"))}
    with pytest.raises(CrateError, match="There are no “nowhere” in this user’s folder"):
        keep_device(crate, device, Choice(folders=("nowhere",)), Watch())


def test_odd_names_links_and_empty_files_are_kept(device, crate, stand_in):
    names = [b"caf\xe9.sav", "Größe 大.sav".encode(), b" lead.sav", b"x" * 250 + b".sav", b"CASE.sav", b"case.sav"]
    for name in names:
        (stand_in.folder / "saves" / os.fsdecode(name)).write_bytes(name)
    (stand_in.folder / "empty").mkdir()
    (stand_in.folder / "nothing.cfg").touch()
    (stand_in.folder / "latest").symlink_to("saves")
    (stand_in.folder / "broken").symlink_to("nowhere")
    kept = keep_device(crate, device, Choice(), Watch())
    assert kept_in(kept.backup) == {k: v for k, v in on_device(stand_in.folder).items() if k != "broken"}


def test_a_connection_that_breaks_is_made_again(device, crate, stand_in):
    """While it is read, over and over: what is kept is what is there."""
    for number in range(60):
        (stand_in.folder / f"more {number}.bin").write_bytes(os.urandom(40_000))
    stop = threading.Event()

    def cut() -> None:
        for _ in range(4):
            if not stop.wait(0.05):
                stand_in.cut()

    cutter = threading.Thread(target=cut)
    cutter.start()
    try:
        kept = keep_device(crate, device, Choice(), Watch())
    finally:
        stop.set()
        cutter.join()
    assert kept_in(kept.backup) == on_device(stand_in.folder)


def test_a_device_that_goes_away_leaves_no_backup(known, crate, tmp_path, monkeypatch):
    monkeypatch.setattr("mosscrate.core.devices.connection.WAITS_S", (0.05, 0.05))
    fill(tmp_path / "other")
    for number in range(200):
        (tmp_path / "other" / f"more {number}.bin").write_bytes(os.urandom(40_000))
    with StandIn(tmp_path / "other") as running:
        known.trust(running.address.server, " ".join(running.key.export_public_key().decode().split()[:2]))
        device = Device(running.address, known, password=PASSWORD, keys=[])
        device.connect()

        class Leaves(Watch):
            def progress(self, phase: str, done: int, total: int | None) -> None:
                if phase == "Keeping the card" and done:
                    running.cut()
                    running.stop_listening()

        with device, pytest.raises(MediumError, match="does not answer"):
            keep_device(crate, device, Choice(), Leaves())
    assert crate.lanes() == []


def test_who_waits_while_another_hangs_up_is_told(stand_in, known):
    path = next(iter(FILES))
    for number in range(12):
        device, told = Device(stand_in.address, known, password=PASSWORD, keys=[]), []
        device.connect()

        def read(device=device, told=told):
            try:
                while True:
                    device.read(path, 0, 100)
            except MediumError as error:
                told.append(str(error))
        reading = [threading.Thread(target=read, daemon=True) for _ in range(3)]
        for each in reading:
            each.start()
        threading.Event().wait(number / 400)
        device.close()
        for each in reading:
            each.join(20)
        assert (len(told), any(each.is_alive() for each in reading)) == (3, False)


def test_a_file_that_is_written_meanwhile_is_named(device, crate, stand_in):
    class Writes(Watch):
        def progress(self, phase: str, done: int, total: int | None) -> None:
            if phase == "Keeping the card":
                with (stand_in.folder / "log" / "today.log").open("ab") as log:
                    log.write(b"one line more\n")

    kept = keep_device(crate, device, Choice(), Writes())
    assert kept.changed == ("log/today.log",)
    assert "1 file changed meanwhile: log/today.log" in kept.sentence


def test_a_file_that_goes_meanwhile_is_named_and_the_backup_is_incomplete(device, crate, stand_in):
    class Removes(Watch):
        def progress(self, phase: str, done: int, total: int | None) -> None:
            if phase.startswith("Looking"):
                return
            (stand_in.folder / "log" / "today.log").unlink(missing_ok=True)
            (stand_in.folder / "roms" / "gba" / "Quill Switchback.gba").write_bytes(b"shorter")

    kept = keep_device(crate, device, Choice(), Removes())
    assert kept.changed == ("log/today.log", "roms/gba/Quill Switchback.gba")
    assert not kept.backup.record.is_complete
    assert kept_in(kept.backup)["config/heron.cfg"] == (stand_in.folder / "config" / "heron.cfg").read_bytes()


def test_files_are_given_back_and_what_was_there_stays_beside_them(device, crate, stand_in):
    kept = keep_device(crate, device, Choice((FileKind.SAVE,)), Watch())
    path = stand_in.folder / "saves" / "Velvet Weaver.srm"
    was, other = path.read_bytes(), stand_in.folder / "saves" / "Amber Parade.srm"
    path.write_bytes(b"further on")
    gone = other.read_bytes()
    other.unlink()
    given = give_back(files_in(kept.backup), device, Watch())
    assert (given.written, given.equal, given.beside) == (2, 1, 1)
    assert (path.read_bytes(), other.read_bytes(), int(path.stat().st_mtime)) == (was, gone, OLD)
    dated = stand_in.folder / "saves" / f"Velvet Weaver {datetime.now():%Y-%m-%d}.srm"
    assert dated.read_bytes() == b"further on"
    assert give_back(files_in(kept.backup), device, Watch()).equal == 3
    assert not list(stand_in.folder.rglob("*.part"))


def test_permissions_and_links_come_back(device, crate, stand_in):
    saves, start = stand_in.folder / "saves", stand_in.folder / "config" / "start.sh"
    start.write_bytes(b"#!/bin/sh\n")
    start.chmod(0o755)
    (saves / "Velvet Weaver.srm").chmod(0o600)
    (saves / "latest").symlink_to("Velvet Weaver.srm")
    (saves / "odd").symlink_to("../nowhere")
    kept = keep_device(crate, device, Choice(), Watch())
    was = on_device(stand_in.folder)
    for path in (start, saves / "Velvet Weaver.srm", saves / "latest", saves / "odd"):
        path.unlink()
    (saves / "latest").write_bytes(b"something else")
    (saves / "odd").symlink_to("elsewhere")
    (saves / "Velvet Weaver.srm.part").write_bytes(b"a person's own")
    give_back(files_in(kept.backup), device, Watch())
    assert (start.stat().st_mode & 0o7777, (saves / "Velvet Weaver.srm").stat().st_mode & 0o7777) == (0o755, 0o600)
    assert [os.readlink(saves / name) for name in ("latest", "odd")] == ["Velvet Weaver.srm", "../nowhere"]
    now, today = on_device(stand_in.folder), f"{datetime.now():%Y-%m-%d}"
    assert was.items() <= now.items()
    assert now.keys() - was.keys() == {f"saves/latest {today}", "saves/Velvet Weaver.srm.part"}
    assert os.readlink(saves / f"odd {today}") == "elsewhere"
    (saves / "latest").unlink()
    only = [file for file in files_in(kept.backup) if file.path.startswith("config/")]
    give_back(only, device, Watch())
    assert not (saves / "latest").is_symlink()


@pytest.mark.parametrize(("text", "means"), [
    ("sftp://root@10.0.0.7:2022/mnt/sd card/", Address("root", "10.0.0.7", 2022, "/mnt/sd card")),
    ("pocket.local", Address("", "pocket.local")), ("a@[fe80::1]:22/", Address("a", "fe80::1", 22, "/")),
])
def test_addresses_are_understood_and_written_again(text, means):
    assert Address.parse(text) == means
    assert Address.parse(str(means)) == means


@pytest.mark.parametrize("text", ["", "sftp://", "a@b@c", "host:0", "host:99999", "-oProxy=x", "http://host/", "a b"])
def test_what_is_no_address_is_refused(text):
    with pytest.raises(MediumError, match="is no address of a device"):
        Address.parse(text)


def test_what_could_not_be_read_is_said_so_and_never_taken_over_from_its_zeros(device, crate, stand_in, monkeypatch):
    real, path = Device.fetch, next(iter(sorted(on_device(stand_in.folder))))

    def fetch(self, asked: str, at: int, count: int):
        if asked.endswith(path):
            failed = Future()
            failed.set_exception(MediumError("no right to read it"))
            return failed
        return real(self, asked, at, count)
    with monkeypatch.context() as patched:
        patched.setattr(Device, "fetch", fetch)
        first = keep_device(crate, device, Choice(), Watch())
    assert "1 file could not be read" in first.sentence
    assert (first.unread, first.changed, first.backup.record.is_complete) == ((path,), (), False)
    second = keep_device(crate, device, Choice(), Watch())
    assert (second.unread, second.backup.record.is_complete) == ((), True)
    assert kept_in(second.backup) == on_device(stand_in.folder)


def test_two_users_of_one_device_have_lanes_of_their_own_and_older_backups_are_still_found():
    one, two = (Address.parse(f"sftp://{user}@pocket.local/saves") for user in ("ann", "bea"))
    assert one.card.key != two.card.key
    assert one.keys[1] == two.keys[1]
    assert one.card.key == Address.parse("sftp://ann@POCKET.local/saves").card.key
