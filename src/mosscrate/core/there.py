"""What is there: only “no such file” means that something is absent. Everything else that goes wrong is an error."""

from __future__ import annotations

import os
from pathlib import Path

ABSENT = (FileNotFoundError, NotADirectoryError)


def entries(folder: Path, ending: str = "") -> list[Path]:
    """What a folder holds, in the order of its names; nothing where there is no such folder. Raises OSError."""
    try:
        with os.scandir(folder) as found:
            return sorted(Path(entry.path) for entry in found if entry.name.endswith(ending))
    except ABSENT:
        return []


def below(folder: Path, ending: str) -> list[Path]:
    """The same of the folders within a folder. Raises OSError."""
    return [path for inner in entries(folder) for path in entries(inner, ending)]


def is_there(path: Path) -> bool:
    """Whether a name leads to something. Raises OSError."""
    try:
        path.stat()
    except ABSENT:
        return False
    return True
