"""Damaged chunks of a backup fetched again: from the card that still holds them, each proven by its name."""

from __future__ import annotations

from dataclasses import dataclass, replace
from pathlib import Path

import numpy as np
from blake3 import blake3

from mosscrate.core.blocks import Blocks
from mosscrate.core.crate.checking import damaged_in, manifest_at
from mosscrate.core.crate.forgetting import put_away
from mosscrate.core.crate.leases import lease
from mosscrate.core.crate.packing import PackWriter, Squeezer
from mosscrate.core.crate.trust import Trust
from mosscrate.core.errors import CrateError, InUse, MediumError
from mosscrate.core.images.kept import Manifest, packs_of
from mosscrate.core.images.kept.proving import prove_pack
from mosscrate.core.sizes import counted
from mosscrate.core.watch import Watch


@dataclass(frozen=True)
class Mended:
    """What came of it: chunks that were damaged, those that are still, and whether damaged packs are left."""

    damaged: int
    left: int
    has_damaged_packs: bool = False

    def sentence(self, name: str) -> str:
        """In words; `name` is the card's."""
        later = " A damaged pack is left in the crate; it goes once nobody is at work there: mend again then." \
            if self.has_damaged_packs and not self.left else ""
        if not self.damaged:
            return f"Nothing of it is damaged.{later}"
        if not self.left:
            return f"{counted(self.damaged, 'damaged part')} of it came back from {name}; it is whole again.{later}"
        back = self.damaged - self.left
        return (f"{counted(back, 'damaged part')} of {self.damaged} came back from {name}; {name} holds something else "
                "now where the others were.")


def mend(manifest_path: Path, card: Blocks, watch: Watch) -> Mended:
    """Fetch what is damaged of a backup, and put damaged packs away. The card is only read.

    Raises:
        CrateError: the list of chunks itself is damaged, or the crate cannot be written.
        Stopped: what was fetched so far stays.
    """
    crate = manifest_path.resolve().parents[2]
    manifest = manifest_at(manifest_path)
    with lease(crate, "a backup is being mended"):
        damaged = _damaged_packs(crate, manifest, watch)
        mended = _mend(crate, manifest, card, watch)
    if not damaged:
        return mended
    try:
        return replace(mended, has_damaged_packs=not put_away(crate, damaged, watch))
    except (InUse, CrateError):
        return replace(mended, has_damaged_packs=True)


def _damaged_packs(crate: Path, manifest: Manifest, watch: Watch) -> list[Path]:
    """Of the packs that hold something of a backup, those that are not as they were written."""
    packs, trust, found = packs_of(crate), Trust(crate), list[Path]()
    packs.refresh()
    holders = {each.pack for name in manifest.names for each in packs.all_of(name.tobytes())}
    for number, path in enumerate(sorted(holders)):
        watch.progress("Looking for damage", number, len(holders))
        try:
            trust.proved(path, prove_pack(path))
            if not trust.of(path).is_whole:
                found.append(path)
        except OSError:
            continue                                          # its chunks are fetched again; it stays where it is
    trust.save()
    return found


def _mend(crate: Path, manifest: Manifest, card: Blocks, watch: Watch) -> Mended:
    packs = packs_of(crate)
    packs.refresh()
    bad = damaged_in(manifest, packs, watch, phase="Looking for damage")
    writer, squeezer, left = PackWriter(crate, verify=True), Squeezer(), 0
    try:
        for done, number in enumerate(bad):
            watch.progress("Fetching what is damaged", done, len(bad))
            data, name = _from_card(manifest, number, card), manifest.names[number].tobytes()
            if data is None or blake3(data).digest() != name:
                left += 1
            elif writer.claim(name):
                codec, stored = squeezer.squeeze(data)
                writer.add(name, codec, stored, len(data))
    finally:
        writer.finish()
    packs.refresh()
    return Mended(len(bad), left)


def _from_card(manifest: Manifest, number: int, card: Blocks) -> bytes | None:
    """The bytes of the card from which a chunk was made; None where they cannot be read."""
    start, end = int(manifest.tape[number]), int(manifest.tape[number + 1])
    runs = manifest.runs
    here = runs[(runs["tape"] < end) & (runs["tape"] + runs["length"] > start) & (runs["tape"] >= 0)]
    data = bytearray(end - start)
    for run in here[np.argsort(here["tape"])]:
        first, last = max(start, int(run["tape"])), min(end, int(run["tape"] + run["length"]))
        try:
            data[first - start:last - start] = card.read(int(run["card"]) + first - int(run["tape"]), last - first)
        except MediumError:
            return None
    return bytes(data)
