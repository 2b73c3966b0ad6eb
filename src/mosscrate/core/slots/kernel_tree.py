"""The kernel's trees of devices and processes, and how their small files are read."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path


@dataclass(frozen=True)
class Tree:
    """Where the kernel's trees are; tests lay out their own."""

    sys: Path = Path("/sys")
    proc: Path = Path("/proc")
    dev: Path = Path("/dev")


def lines_of(path: Path) -> list[str]:
    """Lines of a file of the kernel's trees; none where it cannot be read."""
    return text_in(path).splitlines()


def text_in(path: Path) -> str:
    """What such a file says; "" where it cannot be read."""
    try:
        return path.read_text(errors="replace").strip()
    except OSError:
        return ""


def number_in(path: Path) -> int:
    """The number in such a file; 0 where there is none."""
    text = text_in(path)
    return int(text) if text.isdigit() else 0
