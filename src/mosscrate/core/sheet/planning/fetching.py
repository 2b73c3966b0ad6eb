"""Files of other media for a sheet that cannot have these at hand: they are laid into the state folder when it is
planned, and a sheet that is saved finds them there.
"""

from __future__ import annotations

import os
import time
from collections.abc import Iterable
from contextlib import suppress
from pathlib import Path

from blake3 import blake3

from mosscrate.core.durable import settle, under_way

FOLDER = "fetched"
STAYS = 30 * 24 * 3600                   # seconds after which one that was not fetched again is removed


def fetch(pieces: Iterable[bytes], modified: int, state: Path) -> Path:
    """Lay a file down under the digest of its contents and its date. Raises OSError, and what `pieces` raise.

    Args:
        pieces: its bytes.
        modified: seconds since 1970; the file has it, too.
        state: the state folder.
    """
    folder = state / FOLDER
    folder.mkdir(parents=True, exist_ok=True)
    hash_ = blake3()
    with under_way(folder / "coming") as (fd, part):
        with open(fd, "wb", closefd=False) as file:
            for piece in pieces:
                hash_.update(piece)
                file.write(piece)
        settle(fd)
        os.utime(part, (modified, modified))
        path = folder / f"{hash_.hexdigest()}-{modified}"
        part.replace(path)
    return path


def sweep(state: Path) -> None:
    """Remove what no sheet has asked for lately."""
    oldest = time.time() - STAYS
    with suppress(OSError):
        for each in os.scandir(state / FOLDER):
            with suppress(OSError):
                if each.stat(follow_symlinks=False).st_ctime < oldest:       # the moment at which it was fetched
                    os.unlink(each.path)
