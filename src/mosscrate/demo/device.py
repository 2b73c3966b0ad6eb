"""A stand-in for a running device: a real SFTP server on this computer, with contents that are made up."""

from __future__ import annotations

import asyncio
import os
import random
import tempfile
import threading
from collections.abc import Callable
from contextlib import suppress
from pathlib import Path
from typing import Any

import asyncssh

from mosscrate.core.devices.address import Address

USER, PASSWORD = "player", "moss"
FILES = {"roms/gb/Velvet Weaver.gb": 32_768, "roms/gb/Amber Parade.gb": 65_536,
         "roms/gba/Quill Switchback.gba": 1 << 20,
         "saves/Velvet Weaver.srm": 8_192, "saves/Amber Parade.srm": 8_192, "saves/Quill Switchback.sav": 32_768,
         "config/heron.cfg": 900, "system/boot.bin": 256, "log/today.log": 3_000}


class StandIn:
    """Serves a folder while it is open; `address` says where."""

    def __init__(self, folder: Path, *, port: int = 0, password: str = PASSWORD) -> None:
        self.folder, self.port, self.password = folder, port, password
        self.key = asyncssh.generate_private_key("ssh-ed25519")
        self.fingerprint = self.key.get_fingerprint()
        self.allowed: asyncssh.SSHAuthorizedKeys | None = None
        self._connections: list[asyncssh.SSHServerConnection] = []
        self._loop = asyncio.new_event_loop()
        self._thread = threading.Thread(target=self._loop.run_forever, name="stand-in device", daemon=True)
        self._acceptor: asyncssh.SSHAcceptor | None = None

    @property
    def address(self) -> Address:
        """Where it is reached."""
        return Address(USER, "127.0.0.1", self.port)

    def __enter__(self) -> StandIn:
        self._thread.start()
        self._do(self._listen())
        return self

    def __exit__(self, *exc: object) -> None:
        self.stop_listening()
        self._loop.call_soon_threadsafe(self._loop.stop)
        self._thread.join()
        self._loop.close()

    def cut(self) -> None:
        """Break every connection in the middle of whatever is under way."""
        for connection in self._connections:
            self._loop.call_soon_threadsafe(connection.abort)

    def stop_listening(self) -> None:
        """As a device that is switched off."""
        self.cut()
        self._do(self._end())

    def exchange_key(self) -> None:
        """Come back with another host key, as a device that was set up anew."""
        self.stop_listening()
        self.key = asyncssh.generate_private_key("ssh-ed25519")
        self.fingerprint = self.key.get_fingerprint()
        self._do(self._listen())

    def _do(self, work: Any) -> None:  # noqa: ANN401 - any coroutine
        asyncio.run_coroutine_threadsafe(work, self._loop).result(30)

    async def _listen(self) -> None:
        stand_in, root = self, os.fsencode(self.folder.resolve())

        class Server(asyncssh.SSHServer):
            def connection_made(self, conn: asyncssh.SSHServerConnection) -> None:
                stand_in._connections.append(conn)
                self.connection = conn

            def begin_auth(self, username: str) -> bool:
                if stand_in.allowed is not None:
                    self.connection.set_authorized_keys(stand_in.allowed)
                return True

            def password_auth_supported(self) -> bool:
                return True

            def validate_password(self, username: str, password: str) -> bool:
                return username == USER and password == stand_in.password

        class Files(asyncssh.SFTPServer):
            def __init__(self, chan: asyncssh.SSHServerChannel[Any]) -> None:
                super().__init__(chan, chroot=root)

            def readlink(self, path: bytes) -> bytes:                # as it is, also where it leads nowhere
                return os.readlink(self.map_path(path))

            def symlink(self, oldpath: bytes, newpath: bytes) -> None:
                os.symlink(oldpath, self.map_path(newpath))

        self._acceptor = await asyncssh.listen("127.0.0.1", self.port, server_host_keys=[self.key],
                                               server_factory=Server, sftp_factory=Files)
        self.port = self._acceptor.get_port()

    async def _end(self) -> None:
        if self._acceptor is not None:
            self._acceptor.close()
            await self._acceptor.wait_closed()
        under_way = asyncio.all_tasks() - {asyncio.current_task()}
        for task in under_way:
            task.cancel()
        if under_way:
            await asyncio.wait(under_way, timeout=2)             # one may wait for a connection that is gone


def fill(folder: Path) -> None:
    """Made-up games, saves and settings."""
    rnd = random.Random(7)
    for name, size in FILES.items():
        path = folder / name
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_bytes(rnd.randbytes(size))
        os.utime(path, (1_790_000_000, 1_790_000_000))


def serve(folder: Path | None, say: Callable[[str], object]) -> None:
    """Be a device until somebody stops it; what it shows is said first."""
    with tempfile.TemporaryDirectory(prefix="mosscrate-device-") as own:
        place = folder or Path(own)
        fill(place)
        with StandIn(place) as running:
            say(f"{running.address}, password “{PASSWORD}”, key {running.fingerprint}. Ctrl+C ends it.")
            with suppress(KeyboardInterrupt):
                threading.Event().wait()
