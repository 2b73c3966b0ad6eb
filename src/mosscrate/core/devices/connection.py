"""The connection to a device: one thread that speaks SFTP, for callers that wait.

A server is only spoken to once its key is trusted. A connection that breaks is made again, a few times, and what was
asked for is asked again.
"""

from __future__ import annotations

import asyncio
import posixpath
import threading
from collections.abc import Callable, Coroutine, Iterator
from concurrent.futures import CancelledError, Future
from contextlib import suppress
from dataclasses import dataclass
from functools import partial
from stat import S_ISDIR, S_ISLNK, S_ISREG
from typing import TYPE_CHECKING, Any, TypeVar

from mosscrate.core.devices.address import Address
from mosscrate.core.devices.known import KnownDevices
from mosscrate.core.errors import MediumError, MossError
from mosscrate.core.findings import Finding, Severity
from mosscrate.core.volumes import Entry, Kind, Tree

if TYPE_CHECKING:
    import asyncssh

T = TypeVar("T")
ANSWER_S = 30.0                          # for a connection, and for each answer
HUNG_UP_S = 2.0                          # for the connection to be closed
TO_END_S, TIMES_TOLD = 0.1, 20           # for what is under way to end, each time that it is told to
LOOK_S = 1.0                             # between looks whether the thread that speaks is still there
WAITS_S = (0.3, 1.0, 2.0, 4.0)           # before a connection is made again
QUICKEST_FIRST = "^aes128-gcm@openssh.com"    # with the cipher that takes one step for each packet, where both know it
AT_ONCE = 16                             # questions that are under way
PASSED_OVER = {"/proc", "/sys", "/dev", "/run"}        # of a whole system: nothing that could be kept
MOST_ENTRIES = 1_000_000
DEEPEST = 64


class UnknownHost(MediumError):
    """A server that was never spoken to; `key` is to be trusted if its `fingerprint` is right."""

    def __init__(self, address: Address, key: str, fingerprint: str) -> None:
        super().__init__(f"{address.host} is not known here. Its key is {fingerprint}. Compare it with what the device "
                         "shows, then trust it; nothing was read.")
        self.key, self.fingerprint = key, fingerprint


class ChangedHost(MediumError):
    """A server whose key is another than it was."""


class NeedsPassword(MediumError):
    """No key of this person opens the device."""


class Gone(MossError):
    """The device does not answer any more, however often it is asked; it is no matter of a single file."""


class Device:
    """A device. Everything raises MediumError where it does not answer, and what is named here besides.

    Args:
        address: where.
        known: which host keys are trusted.
        password: asked for by the caller; it is never kept.
        keys: files of private keys; None takes the person's own, and those that an agent holds.
    """

    def __init__(self, address: Address, known: KnownDevices, *, password: str = "",
                 keys: list[str] | None = None) -> None:
        self.address, self.known = address, known
        self._password, self._keys = password, keys
        self._loop = asyncio.new_event_loop()
        self._thread = threading.Thread(target=self._loop.run_forever, name="device", daemon=True)
        self._thread.start()
        self._connection: asyncssh.SSHClientConnection | None = None
        self._sftp: asyncssh.SFTPClient | None = None
        self._making = asyncio.Lock()
        self._at_once = asyncio.Semaphore(AT_ONCE)
        self._was_there = self._is_closed = False
        self._asking = threading.Lock()

    def connect(self) -> None:
        """Speak to it for the first time. Raises UnknownHost, ChangedHost, NeedsPassword."""
        self._wait(self._again(self._there))

    def tree(self, folder: str) -> Tree:
        """Everything below a folder."""
        return self._wait(self._tree(folder))

    def fetch(self, path: str, at: int, count: int) -> Future[bytes]:
        """Begin to read a piece of a file, fewer bytes at its end; see `answer_to`."""
        return self._ask(self._again(lambda: self._read(path, at, count)))

    def answer_to(self, asked: Future[T]) -> T:
        """Wait for what was asked. Raises MediumError, Gone.

        What one thread waits for while another one hangs up ends in a sentence, too, and is not waited for for ever.
        """
        while True:
            is_over = not self._thread.is_alive()
            try:
                return asked.result(0 if is_over else LOOK_S)
            except CancelledError as error:
                raise MediumError(f"{self.address.host} was hung up.") from error
            except TimeoutError as error:
                if asked.done():                             # its own, not that of this wait
                    raise
                if is_over:
                    raise MediumError(f"{self.address.host} was hung up.") from error

    def read(self, path: str, at: int, count: int) -> bytes:
        """A piece of a file; fewer bytes at its end."""
        return self._wait(self._again(lambda: self._read(path, at, count)))

    def status(self, path: str) -> Entry | None:
        """What is at a path; None for nothing."""
        return self._wait(self._again(lambda: self._status(path)))

    def put(self, path: str, pieces: Iterator[bytes], modified: int | None) -> None:
        """Write a file, over what is there; folders above it are made."""
        self._wait(self._put(path, pieces, modified))

    def permit(self, path: str, mode: int) -> None:
        """Give a file its permissions."""
        self._wait(self._again(lambda: self._permit(path, mode)))

    def link_at(self, path: str) -> str | None:
        """What a link at a path points to; None where there is none."""
        return self._wait(self._again(lambda: self._link_at(path)))

    def link(self, path: str, target: str) -> None:
        """Make a link where nothing is; folders above it are made."""
        self._wait(self._again(lambda: self._make_folders(posixpath.dirname(path))))
        self._wait(self._again(lambda: self._link(path, target)))

    def rename(self, path: str, new: str) -> None:
        """Give a file another name."""
        self._wait(self._again(lambda: self._rename(path, new)))

    def remove(self, path: str) -> None:
        """Take a file away; none there is fine."""
        self._wait(self._again(lambda: self._remove(path)))

    def free(self, folder: str) -> int | None:
        """Bytes that are free where a folder is; None where the device does not say."""
        return self._wait(self._again(lambda: self._free(folder)))

    def make_folders(self, path: str) -> None:
        """Make a folder, and those above it where they are missing."""
        self._wait(self._again(lambda: self._make_folders(path)))

    def close(self) -> None:
        """Hang up."""
        with self._asking:
            was_closed, self._is_closed = self._is_closed, True
        if not was_closed:
            with suppress(MediumError):
                self.answer_to(asyncio.run_coroutine_threadsafe(self._hang_up(), self._loop))
            self._loop.call_soon_threadsafe(self._loop.stop)
            self._thread.join()
            self._loop.close()

    def __enter__(self) -> Device:
        return self

    def __exit__(self, *exc: object) -> None:
        self.close()

    def _wait(self, work: Coroutine[Any, Any, T]) -> T:
        try:
            return self.answer_to(self._ask(work))
        except Gone as error:
            raise MediumError(str(error)) from error

    def _ask(self, work: Coroutine[Any, Any, T]) -> Future[T]:
        with self._asking:                                   # what is asked before hanging up ends with that
            if not self._is_closed:
                return asyncio.run_coroutine_threadsafe(work, self._loop)
        work.close()
        raise MediumError(f"{self.address.host} was hung up.")

    async def _again(self, work: Callable[[], Coroutine[Any, Any, T]]) -> T:
        """Do something, on a new connection where the one there was broke."""
        import asyncssh
        for wait in (*WAITS_S, None):
            if self._is_closed:
                raise MediumError(f"{self.address.host} was hung up.")
            used = self._sftp
            try:
                async with self._at_once:
                    return await asyncio.wait_for(work(), ANSWER_S)
            except (asyncssh.SFTPConnectionLost, asyncssh.SFTPNoConnection, asyncssh.ConnectionLost, BrokenPipeError,
                    ConnectionError, TimeoutError) as error:
                if not self._was_there:
                    raise self._sentence(error) from error
                if wait is None:
                    said = str(error) or type(error).__name__
                    raise Gone(f"{self.address.host} does not answer any more: {said}") from error
                if self._sftp is used:
                    self._drop()
                await asyncio.sleep(wait)
            except (asyncssh.Error, OSError, ValueError) as error:
                raise self._sentence(error) from error
        raise AssertionError("the last try returns or raises")

    def _sentence(self, error: Exception) -> MediumError:
        said = str(error) or type(error).__name__
        return error if isinstance(error, MediumError) else MediumError(f"{self.address.host} does not answer: {said}")

    def _drop(self) -> None:
        if self._connection is not None:
            self._connection.abort()
        self._connection, self._sftp = None, None

    async def _there(self) -> asyncssh.SFTPClient:
        """The connection, made where there is none."""
        async with self._making:
            if self._sftp is None:
                self._connection = await self._connected()
                self._sftp = await self._connection.start_sftp_client()
                self._was_there = True
            return self._sftp

    async def _connected(self) -> asyncssh.SSHClientConnection:
        import asyncssh
        wanted, shown = self.known.key_of(self.address.server), _Shown()
        options: dict[str, Any] = {} if self._keys is None else {"client_keys": self._keys, "agent_path": None}
        if self.address.user:
            options["username"] = self.address.user
        try:
            return await asyncio.wait_for(asyncssh.connect(
                self.address.host, self.address.port, known_hosts=([], [], []), password=self._password or None,
                client_factory=_judge(wanted, shown), config=None, encryption_algs=QUICKEST_FIRST, preferred_auth=(
                    "publickey", "password", "keyboard-interactive"), **options), ANSWER_S)
        except asyncssh.HostKeyNotVerifiable:
            if wanted:
                raise ChangedHost(f"{self.address.host} shows another key than it did, {shown.fingerprint}. It is not "
                                  "spoken to: somebody may stand in between. If the device was set up anew, forget it "
                                  "and trust it again.") from None
            raise UnknownHost(self.address, shown.key, shown.fingerprint) from None
        except asyncssh.PermissionDenied:
            who = self.address.user or "this user"
            raise NeedsPassword(f"{self.address.host} does not let {who} in with "
                                f"{'that password' if self._password else 'the keys at hand'}.") from None

    async def _tree(self, top: str) -> Tree:
        found, unread, level = list[Entry](), list[Finding](), [""]
        for _ in range(DEEPEST):
            listed = await asyncio.gather(*(self._again(partial(self._list, top, below)) for below in level))
            level = []
            for tree in listed:
                found += tree.entries
                unread += tree.findings
                level += [entry.path for entry in tree.entries if entry.kind == Kind.FOLDER]
            if not level:
                break
            if len(found) > MOST_ENTRIES:
                raise MediumError(f"There are more than {MOST_ENTRIES:,} files in {top or 'that folder'}; choose one "
                                  "further down.")
        return Tree(tuple(sorted(found, key=lambda entry: entry.path.split("/"))), tuple(unread))

    async def _list(self, top: str, below: str) -> Tree:
        """One folder."""
        import asyncssh
        sftp, found, unread = await self._there(), list[Entry](), tuple[Finding, ...]()
        folder = posixpath.join(top or ".", below)
        try:
            async for name in sftp.scandir(_bytes(folder)):
                own = _text(name.filename)
                if own in ("", ".", "..") or "/" in own or posixpath.join("/", top, below, own) in PASSED_OVER:
                    continue
                entry = _entry_of(posixpath.join(below, own), name.attrs)
                if entry is not None and entry.kind == Kind.LINK:
                    entry = await self._followed(sftp, posixpath.join(folder, own), entry)
                if entry is not None:
                    found.append(entry)
        except (asyncssh.SFTPPermissionDenied, asyncssh.SFTPNoSuchFile) as error:
            if not below:
                raise
            unread = (Finding(Severity.PROBLEM, f"The folder “{below}” may not be read: {error}", below),)
        return Tree(tuple(found), unread)

    async def _followed(self, sftp: asyncssh.SFTPClient, path: str, entry: Entry) -> Entry | None:
        """A link with its target."""
        import asyncssh
        try:
            target = _text(await sftp.readlink(_bytes(path)))
        except asyncssh.SFTPError:
            return None
        return Entry(entry.path, Kind.LINK, 0, entry.modified, 0, target=target)

    async def _read(self, path: str, at: int, count: int) -> bytes:
        sftp = await self._there()
        async with sftp.open(_bytes(path), "rb") as file:
            data = await file.read(count, at)
            assert isinstance(data, bytes), "opened for bytes"
            return data

    async def _status(self, path: str) -> Entry | None:
        import asyncssh
        try:
            return _entry_of(path, await (await self._there()).stat(_bytes(path)))
        except asyncssh.SFTPNoSuchFile:
            return None

    async def _put(self, path: str, pieces: Iterator[bytes], modified: int | None) -> None:
        await self._again(lambda: self._make_folders(posixpath.dirname(path)))
        await self._again(lambda: self._begin(path))
        at = 0
        for piece in pieces:
            await self._again(partial(self._write, path, at, piece))
            at += len(piece)
        if modified is not None:
            await self._again(lambda: self._date(path, modified))

    async def _make_folders(self, folder: str) -> None:
        if folder not in ("", "/", "."):
            await (await self._there()).makedirs(_bytes(folder), exist_ok=True)

    async def _begin(self, path: str) -> None:
        async with (await self._there()).open(_bytes(path), "wb"):
            pass

    async def _write(self, path: str, at: int, data: bytes) -> None:
        async with (await self._there()).open(_bytes(path), "r+b") as file:
            await file.write(data, at)

    async def _date(self, path: str, modified: int) -> None:
        await (await self._there()).utime(_bytes(path), (modified, modified))

    async def _permit(self, path: str, mode: int) -> None:
        await (await self._there()).chmod(_bytes(path), mode)

    async def _link_at(self, path: str) -> str | None:
        import asyncssh
        try:
            return _text(await (await self._there()).readlink(_bytes(path)))
        except asyncssh.SFTPError:                            # servers say in many ways that it is none
            return None

    async def _link(self, path: str, target: str) -> None:
        await (await self._there()).symlink(_bytes(target), _bytes(path))

    async def _rename(self, path: str, new: str) -> None:
        await (await self._there()).rename(_bytes(path), _bytes(new))

    async def _remove(self, path: str) -> None:
        import asyncssh
        with suppress(asyncssh.SFTPNoSuchFile):
            await (await self._there()).remove(_bytes(path))

    async def _free(self, folder: str) -> int | None:
        import asyncssh
        try:
            about = await (await self._there()).statvfs(_bytes(folder or "."))
        except (asyncssh.SFTPOpUnsupported, asyncssh.SFTPFailure):
            return None
        return int(about.bavail * about.frsize)

    async def _hang_up(self) -> None:
        """Whoever is told to end may wait for an answer first, to close a file: the connection goes before that."""
        connection = self._connection
        await self._end_all()
        if connection is not None:
            connection.close()
            with suppress(TimeoutError):
                await asyncio.wait_for(connection.wait_closed(), HUNG_UP_S)
            connection.abort()
        for _ in range(TIMES_TOLD):
            if not await self._end_all():
                break

    async def _end_all(self) -> int:
        """Tell everything under way to end; how much of it has not after a moment."""
        under_way = asyncio.all_tasks() - {asyncio.current_task()}
        for task in under_way:
            task.cancel()
        return len((await asyncio.wait(under_way, timeout=TO_END_S))[1]) if under_way else 0


@dataclass
class _Shown:
    """The key that a server showed, as OpenSSH writes it."""

    key: str = ""
    fingerprint: str = ""


def _judge(wanted: str, shown: _Shown) -> Callable[[], asyncssh.SSHClient]:
    """What judges the key of a server, and notes it."""
    import asyncssh

    class Judge(asyncssh.SSHClient):
        def validate_host_public_key(self, host: str, addr: str, port: int, key: asyncssh.SSHKey) -> bool:
            shown.key = " ".join(key.export_public_key().decode().split()[:2])
            shown.fingerprint = key.get_fingerprint()
            return bool(wanted) and shown.key == wanted

    return Judge


def _entry_of(path: str, attrs: asyncssh.SFTPAttrs) -> Entry | None:
    mode = attrs.permissions or 0
    kind = Kind.FOLDER if S_ISDIR(mode) else Kind.LINK if S_ISLNK(mode) else Kind.FILE if S_ISREG(mode) else None
    if kind is None:
        return None
    owner = (attrs.uid, attrs.gid) if attrs.uid is not None and attrs.gid is not None else None
    size = (attrs.size or 0) if kind == Kind.FILE else 0
    return Entry(path, kind, size, attrs.mtime, 0, mode=mode & 0o7777, owner=owner)


def _text(name: bytes | str) -> str:
    return name if isinstance(name, str) else name.decode("utf-8", "surrogateescape")


def _bytes(path: str) -> bytes:
    """Names of devices need not be text."""
    return path.encode("utf-8", "surrogateescape")
