"""The bench: what is at hand, what is kept, and where the log of jobs lies."""

from __future__ import annotations

import os
from contextlib import suppress
from dataclasses import dataclass, field
from pathlib import Path

import platformdirs
from blake3 import blake3

from mosscrate.core.crate import CardRecord, Crate
from mosscrate.core.crate.catalogue import Catalogue
from mosscrate.core.durable import write_whole
from mosscrate.core.errors import CrateError
from mosscrate.core.machines import Machines
from mosscrate.core.slots import Medium, Shelf
from mosscrate.core.slots.files import Memory
from mosscrate.core.slots.readers import Readers

APP = "mosscrate"


@dataclass
class Bench:
    """Where one person works."""

    shelf: Shelf
    crate: Crate
    state: Path
    machines: Machines = field(default_factory=Machines)

    def __post_init__(self) -> None:
        self.shelf.note_proofs(self.state / "proofs")

    def crate_with(self, backup: str) -> Crate:
        """The crate that holds a backup, by its id; others that were used here are asked too. Raises CrateError."""
        crates = (self.crate, *(Crate(root) for root in self.shelf.crates))
        found = next((crate for crate in crates if crate.has(backup)), None)
        if found is None:
            raise CrateError(f"The backup “{backup}” is in no crate that was used here. Nothing was changed.")
        return found


def standard_bench(*, slots: Path | None = None, crate: Path | None = None, state: Path | None = None) -> Bench:
    """The bench of this user.

    Args:
        slots: folder of simulated cards, which are the only ones shown then; $MOSSCRATE_SLOTS, else none.
        crate: root of the backups; $MOSSCRATE_CRATE, else below the user's data folder.
        state: journals and history; $MOSSCRATE_STATE, else the user's state folder.

    A person's own machines lie in $MOSSCRATE_MACHINES, else in "machines" below their configuration folder.
    """
    slots = slots or _from_environment("MOSSCRATE_SLOTS")
    crate = crate or _from_environment("MOSSCRATE_CRATE") or Path(platformdirs.user_data_dir(APP)) / "crate"
    state = state or _from_environment("MOSSCRATE_STATE") or Path(platformdirs.user_state_dir(APP))
    machines = _from_environment("MOSSCRATE_MACHINES") or Path(platformdirs.user_config_dir(APP)) / "machines"
    usual = Path(platformdirs.user_data_dir(APP)) / "crate"
    own = blake3(os.fsencode(crate.resolve())).hexdigest(8)
    return Bench(Shelf(slots, backups=crate, crates=(usual, *_known_crates(state, crate)),
                       memory=Memory(state / "unpacked"), readers=Readers(are_shown=slots is None)),
                 Crate(crate, catalogue=Catalogue(state / "catalogues" / f"{own}.sqlite3")), state, Machines(machines))


def _known_crates(state: Path, crate: Path) -> tuple[Path, ...]:
    """Crates that were used here before, this one noted too: what is kept in any of them is never written over.

    A list that cannot be read is never replaced: the promise about what is kept rests on it. Raises CrateError then.
    """
    path, here = state / "crates", str(crate.resolve())
    try:
        known = path.read_bytes().decode("utf-8", "surrogateescape").splitlines()
    except FileNotFoundError:
        known = []
    except OSError as error:
        raise CrateError(f"The list of crates that were used here cannot be read ({path}: {error.strerror}), so it is "
                         "not known what must not be written over. Make it readable; nothing was changed.") from error
    if here not in known:
        lines = "".join(f"{line}\n" for line in [*known, here])
        with suppress(OSError):
            state.mkdir(parents=True, exist_ok=True)
            write_whole(path, lines.encode("utf-8", "surrogateescape"))
    return tuple(Path(line) for line in known)


def card_of(medium: Medium) -> CardRecord:
    """What the crate notes of a medium."""
    return CardRecord(medium.name, medium.key, medium.tag, medium.size, medium.model, medium.serial)


def _from_environment(name: str) -> Path | None:
    value = os.environ.get(name)
    return Path(value) if value else None
