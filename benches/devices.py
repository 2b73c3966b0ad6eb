"""Keeping 2,000 files of a device against one transfer of the same bytes over the same connection."""

from __future__ import annotations

import os
import shutil
import subprocess
import sys
from collections.abc import Iterator
from pathlib import Path

from benches.figure import Figure, paired
from mosscrate.core.crate import Crate
from mosscrate.core.crate.parts import Choice
from mosscrate.core.devices import Address, Device, KnownDevices, UnknownHost
from mosscrate.core.devices.keeping import keep_device
from mosscrate.core.watch import Watch
from mosscrate.demo.device import PASSWORD

FILES, EACH = 2_000, 64 << 10
AT_ONCE = 8 << 20
_SERVE = """
import sys
from pathlib import Path
from mosscrate.demo.device import StandIn
with StandIn(Path(sys.argv[1])) as running:
    print(running.address, flush=True)
    sys.stdin.read()
"""


def figures(folder: Path) -> Iterator[Figure]:
    many, one = folder / "device" / "many", folder / "device" / "one"
    many.mkdir(parents=True)
    one.mkdir()
    for number in range(FILES):
        (many / f"{number:04}.bin").write_bytes(os.urandom(EACH))
    (one / "all.bin").write_bytes(os.urandom(FILES * EACH))
    known = KnownDevices(folder / "devices.json")
    with subprocess.Popen([sys.executable, "-c", _SERVE, str(folder / "device")], stdin=subprocess.PIPE,
                          stdout=subprocess.PIPE, text=True) as server:
        assert server.stdout is not None
        assert server.stdin is not None
        address = Address.parse(server.stdout.readline())
        with _connected(Address(address.user, address.host, address.port, "/many"), known) as device:
            def keep() -> None:
                crate = folder / "crate"
                keep_device(Crate(crate), device, Choice(), Watch())
                shutil.rmtree(crate)

            def transfer() -> None:
                pieces = [device.fetch("/one/all.bin", at, AT_ONCE) for at in range(0, FILES * EACH, AT_ONCE)]
                assert sum(len(piece.result()) for piece in pieces) == FILES * EACH

            ratio, detail = paired(keep, transfer, rounds=3)
        server.stdin.close()
    yield Figure("2,000 files of a device kept, against one transfer", ratio, 1.5, "×", detail)


def _connected(address: Address, known: KnownDevices) -> Device:
    try:
        with Device(address, known, password=PASSWORD, keys=[]) as device:
            device.connect()
    except UnknownHost as unknown:
        known.trust(address.server, unknown.key)
    device = Device(address, known, password=PASSWORD, keys=[])
    device.connect()
    return device
