"""Loop devices and mounts of this machine, for tests that run as root where these can be had."""

from __future__ import annotations

import os
import shutil
import subprocess
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

import pytest


def _works() -> bool:
    return os.geteuid() == 0 and shutil.which("losetup") is not None and Path("/dev/loop-control").exists()


needs_root = pytest.mark.skipif(not _works(), reason="needs root for loop devices and mounts")


@contextmanager
def loop(image: Path, *options: str) -> Iterator[Path]:
    """A loop device over an image."""
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
