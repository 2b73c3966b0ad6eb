"""Loop devices and mounts of this machine, for tests that run as root where these can be had."""

from __future__ import annotations

import os
import shutil
import subprocess
import tempfile
from collections.abc import Iterator
from contextlib import contextmanager
from fcntl import LOCK_EX, flock
from pathlib import Path

import pytest

_held = 0                              # loops of this process


def _works() -> bool:
    return os.geteuid() == 0 and shutil.which("losetup") is not None and Path("/dev/loop-control").exists()


needs_root = pytest.mark.skipif(not _works(), reason="needs root for loop devices and mounts")


@contextmanager
def alone() -> Iterator[None]:
    """One test at a time has loop devices: their numbers are given out again at once, and services look at them."""
    global _held
    with (Path(tempfile.gettempdir()) / "mosscrate-tests-loops.lock").open("w") as file:
        if not _held:
            flock(file, LOCK_EX)
        _held += 1
        try:
            yield
        finally:
            _held -= 1


@contextmanager
def loop(image: Path, *options: str) -> Iterator[Path]:
    """A loop device over an image."""
    with alone(), _loop(image, *options) as device:
        yield device


@contextmanager
def _loop(image: Path, *options: str) -> Iterator[Path]:
    made = subprocess.run(["losetup", "-f", "--show", *options, image], capture_output=True, text=True, check=False)
    if made.returncode:
        pytest.skip(f"no loop device here: {made.stderr}")
    device = Path(made.stdout.strip())
    try:
        yield device
    finally:
        subprocess.run(["losetup", "-d", device], check=False, capture_output=True)


@contextmanager
def mounted(what: Path | str, place: Path, *options: str) -> Iterator[Path]:
    """Something mounted for a while; skips where the kernel refuses to."""
    place.mkdir(parents=True, exist_ok=True)
    made = subprocess.run(["mount", *options, what, place], capture_output=True, text=True, check=False)
    if made.returncode:
        pytest.skip(f"cannot be mounted here: {made.stderr}")
    try:
        yield place
    finally:
        subprocess.run(["umount", place], check=True)


@contextmanager
def full_disk(place: Path, size: int) -> Iterator[Path]:
    """A disk of so many bytes."""
    with mounted("tmpfs", place, "-t", "tmpfs", "-o", f"size={size}"):
        yield place
