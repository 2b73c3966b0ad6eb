"""The system's own disk service, device manager and policy on a private bus, from unpacked packages; root only.

`./moss test` unpacks them beside the virtual environment. Nothing of the machine's own bus is touched; a rule for
the device manager, one for the policy and the service's list of actions are put down and taken away again.
"""

from __future__ import annotations

import codecs
import encodings
import multiprocessing
import os
import pkgutil
import shutil
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable, Iterator
from contextlib import ExitStack, contextmanager, suppress
from multiprocessing.connection import Connection
from pathlib import Path
from typing import Any

import pytest

from mosscrate import cli, core
from mosscrate.core.slots.service import Service

PACKAGES = Path(sys.prefix) / "service"
POLKIT = Path("/usr/lib/polkit-1/polkitd")
RULE = Path("/etc/polkit-1/rules.d/10-mosscrate-tests.rules")
ACTIONS = Path("/usr/share/polkit-1/actions/org.freedesktop.UDisks2.policy")
DEVICE_RULE = 'SUBSYSTEM=="block", KERNEL=="loop*", IMPORT{builtin}="blkid", ENV{CI_LOOP}="1"\n'
BUS = """<!DOCTYPE busconfig PUBLIC "-//freedesktop//DTD D-BUS Bus Configuration 1.0//EN"
 "http://www.freedesktop.org/standards/dbus/1.0/busconfig.dtd">
<busconfig><type>system</type><listen>unix:path={path}</listen><auth>EXTERNAL</auth><policy context="default">
<allow user="*"/><allow own="*"/><allow send_destination="*"/><allow receive_type="method_call"/>
<allow receive_type="method_return"/><allow receive_type="error"/><allow receive_type="signal"/>
<allow send_type="method_call"/><allow send_type="signal"/></policy></busconfig>
"""
PATIENCE = 20.0


def _why_not() -> str:
    if os.geteuid() != 0:
        return "needs root to start the disk service on a private bus"
    if not (PACKAGES / "usr/libexec/udisks2/udisksd").exists():
        return "the disk service was not unpacked by ./moss test: no packages could be had here"
    if shutil.which("dbus-daemon") is None or not POLKIT.exists():
        return "needs dbus-daemon and polkitd"
    if Path("/run/udev/control").exists():
        return "a device manager runs here already; this is for machines without one"
    return ""


needs_bus = pytest.mark.skipif(shutil.which("dbus-daemon") is None, reason="needs dbus-daemon")
needs_service = pytest.mark.skipif(bool(_why_not()), reason=_why_not() or "-")


@contextmanager
def private_bus(folder: Path) -> Iterator[str]:
    """The address of a system bus of its own, on which everybody may everything."""
    with ExitStack() as stack:
        (folder / "bus.conf").write_text(BUS.format(path=folder / "bus"))
        os.environ["DBUS_SYSTEM_BUS_ADDRESS"] = f"unix:path={folder / 'bus'}"
        stack.callback(os.environ.pop, "DBUS_SYSTEM_BUS_ADDRESS", None)
        _run(stack, folder, "bus", "dbus-daemon", f"--config-file={folder / 'bus.conf'}", "--nofork")
        _until(lambda: (folder / "bus").exists(), "the bus")
        yield os.environ["DBUS_SYSTEM_BUS_ADDRESS"]


@contextmanager
def disk_service(folder: Path, allowed: str) -> Iterator[str]:
    """The address of a bus on which the service answers; `allowed` may what it asks the policy for, nobody else."""
    with ExitStack() as stack:
        address = stack.enter_context(private_bus(folder))
        _put(stack, Path("/run/udev/rules.d/10-mosscrate-tests.rules"), DEVICE_RULE)
        stack.callback(shutil.rmtree, "/run/udev", ignore_errors=True)
        manager = PACKAGES / "bin/udevadm"
        _run(stack, folder, "udev", manager, name="systemd-udevd")
        _until(lambda: subprocess.run([manager, "control", "--ping"], check=False, capture_output=True).returncode == 0,
               "the device manager")
        if not ACTIONS.exists():
            _put(stack, ACTIONS, (PACKAGES / str(ACTIONS)[1:]).read_text())
        _put(stack, RULE, "polkit.addRule(function(a, s) { if (a.id.indexOf('org.freedesktop.udisks2.') == 0 && "
                          f"s.user == '{allowed}') return polkit.Result.YES; }});\n")
        RULE.parent.chmod(0o755)
        _run(stack, folder, "polkit", POLKIT, "--no-debug")
        subprocess.run([manager, "trigger", "--action=add", "--subsystem-match=block", "--sysname-match=loop[0-9]*"],
                       check=True, capture_output=True)
        settled()
        _run(stack, folder, "service", PACKAGES / "usr/libexec/udisks2/udisksd", "--disable-modules",
             libraries=PACKAGES / f"usr/lib/{os.uname().machine}-linux-gnu")
        _until(lambda: Service().is_there, "the disk service")
        yield address


def open_to_all(folder: Path) -> None:
    """Let other users get to a folder of a test; skips where the machine does not let them into its folder for such."""
    base = Path(tempfile.gettempdir()).resolve()
    if any(not above.stat().st_mode & 0o001 for above in (base, *base.parents)):
        pytest.skip(f"other users may not look into {base}")
    for above in (folder, *folder.parents):
        if base in above.parents:
            above.chmod(0o755)


def settled() -> None:
    """The device manager has seen everything that happened."""
    subprocess.run([PACKAGES / "bin/udevadm", "settle", "-t", "20"], check=True, capture_output=True)


def as_user(uid: int, work: Callable[..., Any], *arguments: object) -> Any:
    """What some work returns, or raises, in a process of another user that has no further groups.

    The process comes from a server that has no other threads and has loaded the program: the user may not be able to
    read its files. `work` is a function of a module.
    """
    here, there = _SERVER.Pipe(duplex=False)
    process = _SERVER.Process(target=_work_as, args=(there, uid, dict(os.environ), work, arguments))
    process.start()
    there.close()
    try:
        if not here.poll(PATIENCE):
            pytest.fail("the process of another user does not answer")
        result, error = here.recv()
    finally:
        process.kill()
        process.join()
    if error is not None:
        raise error
    return result


def _work_as(answer: Connection, uid: int, environment: dict[str, str], work: Callable[..., Any],
             arguments: tuple[object, ...]) -> None:
    os.environ.clear()
    os.environ.update(environment)
    for module in pkgutil.iter_modules(encodings.__path__):
        with suppress(LookupError):
            codecs.lookup(module.name)                     # loaded when they are asked for, and not by this user
    os.setgroups([])
    os.setresgid(uid, uid, uid)
    os.setresuid(uid, uid, uid)
    try:
        said = work(*arguments), None
    except Exception as error:
        said = None, error
    answer.send(said)


def _program() -> list[str]:
    """Every module of the program that a shell may load."""
    return [module.name for package in (core, cli)
            for module in pkgutil.walk_packages(package.__path__, f"{package.__name__}.")
            if not module.name.endswith("__main__")]


_SERVER = multiprocessing.get_context("forkserver")
_SERVER.set_forkserver_preload([*_program(), "tests.devices.service", "tests.devices.test_service"])


def _run(stack: ExitStack, folder: Path, log: str, *command: Path | str, name: str = "",
         libraries: Path | None = None) -> None:
    environment = os.environ | ({"LD_LIBRARY_PATH": str(libraries)} if libraries else {})
    out = stack.enter_context((folder / f"{log}.log").open("w"))
    process = subprocess.Popen([name or str(command[0]), *map(str, command[1:])], env=environment, stdout=out,
                               executable=command[0] if name else None, stderr=subprocess.STDOUT)
    stack.callback(process.wait)
    stack.callback(process.terminate)


def _put(stack: ExitStack, path: Path, text: str) -> None:
    path.parent.mkdir(parents=True, exist_ok=True)
    path.write_text(text)
    path.chmod(0o644)
    stack.callback(path.unlink, missing_ok=True)


def _until(is_so: Callable[[], bool], what: str) -> None:
    until = time.monotonic() + PATIENCE
    while not is_so():
        if time.monotonic() > until:
            pytest.fail(f"{what} does not answer")
        time.sleep(0.05)
