"""File systems: each is one module or package that reads, checks, makes and changes its kind.

`open_volume` asks them in turn; what none of them knows is named by its signature and stays closed.
"""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import suppress
from typing import Any, Protocol

from mosscrate.core.blocks import Blocks
from mosscrate.core.declared import Declared
from mosscrate.core.errors import FitError, FormatError
from mosscrate.core.findings import Finding, Severity
from mosscrate.core.sizes import MIB
from mosscrate.core.volumes import exfat, ext, fat, ffs, hfs
from mosscrate.core.volumes.base import Editor, Entry, Kind, Making, Resized, Seat, Traits, Tree, Volume
from mosscrate.core.volumes.facts import Facts
from mosscrate.core.volumes.signatures import FIRST_BYTES, WRITTEN, name_by_signature
from mosscrate.core.volumes.soundness import Soundness
from mosscrate.core.watch import Watch


class VolumeFormat(Protocol):
    """What a package for a file system offers."""

    @property
    def FACTS(self) -> tuple[Facts, ...]:
        """Of each kind that it knows, the usual one first."""

    def probe(self, first: bytes) -> bool:
        """Whether the first 68 KiB of a partition carry this file system."""

    def kind_of(self, first: bytes) -> str:
        """Its short name, from the same bytes."""

    def claimed_size(self, first: bytes) -> int:
        """Bytes that a volume says it has, 0 where it does not say. Raises FormatError."""

    def open_volume(self, blocks: Blocks) -> Volume:
        """Open it. Raises FormatError, MediumError."""

    def edit(self, blocks: Blocks) -> Editor:
        """Open it for changes. Raises FormatError, FitError where it must be mended first."""

    def make(self, blocks: Blocks, making: Making) -> None:
        """Make a fresh one over all of `blocks`. Raises FitError before anything is written."""

    def grow(self, blocks: Blocks, size: int, watch: Watch, *, hidden_sectors: int | None = None) -> Resized:
        """Grow the volume at the start of `blocks` towards `size` bytes. Raises FitError, FormatError."""

    def rebase(self, blocks: Blocks, seat: Seat) -> None:
        """Note where the partition lies, for kinds that do; 512-byte or larger sectors of the medium."""

    def shrink(self, blocks: Blocks, size: int, watch: Watch) -> Resized:
        """Shrink it to at most `size` bytes. Raises FitError, FormatError."""

    def largest(self, volume: Any) -> tuple[int, str]:  # noqa: ANN401 - one of its own
        """Bytes that a volume can be grown to, made anew where it must be, and the limit that stands there."""

    def largest_in_place(self, volume: Any) -> tuple[int, str]:  # noqa: ANN401
        """The same without being made anew on the way."""

    def smallest(self, volume: Any) -> tuple[int, str]:  # noqa: ANN401
        """Bytes that it can be shrunk to, and why not further; 0 where it cannot shrink."""

    def soundness(self, volume: Any, tree: Tree) -> Soundness:  # noqa: ANN401
        """Whether its tables and the files of its tree agree, quickly. Raises MediumError."""

    def check(self, volume: Any) -> tuple[Finding, ...]:  # noqa: ANN401
        """Everything wrong with the structure; empty for a sound volume."""

    def declared(self, blocks: Blocks) -> Iterator[Declared]:
        """The structures that a volume stands on, as far as they can be found. Raises FormatError, MediumError."""

    def mend(self, blocks: Blocks) -> str:
        """Make its tables agree with its files; returns a sentence. Raises FitError, FormatError before it writes."""


FORMATS: tuple[VolumeFormat, ...] = (ext, exfat, ffs, hfs, fat)
_SHOWN = (fat, exfat, ext, ffs, hfs)                # in the order in which people look for them
KINDS: tuple[Facts, ...] = tuple(facts for module in _SHOWN for facts in module.FACTS)
FOLDS = ("fat", "exfat")                          # families whose names do not differ by case
_BY_KIND = {facts.kind: facts for facts in KINDS}

__all__ = [
    "FORMATS",
    "KINDS",
    "Editor",
    "Entry",
    "Facts",
    "Kind",
    "Making",
    "Resized",
    "Seat",
    "Traits",
    "Tree",
    "Volume",
    "check",
    "claimed_size",
    "edit",
    "facts_for",
    "facts_of",
    "format_for",
    "format_of",
    "format_with",
    "is_changed_here",
    "is_opened_here",
    "is_resized_anew",
    "kind_for",
    "kind_name",
    "largest",
    "name_by_signature",
    "open_volume",
    "smallest",
    "soundness",
    "volume_kind",
    "why_unsound",
]


def open_volume(blocks: Blocks) -> Volume:
    """The file system on a partition. Raises FormatError where none is known or it is damaged."""
    return format_of(blocks).open_volume(blocks)


def format_of(blocks: Blocks) -> VolumeFormat:
    """The module that knows the file system on a partition. Raises FormatError where none does."""
    first = blocks.read(0, min(blocks.size, FIRST_BYTES))
    for module in FORMATS:
        if module.probe(first):
            return module
    name = name_by_signature(first)
    raise FormatError(name or "volume", "signature", 0, name or "nothing known", "a file system opened here")


def claimed_size(blocks: Blocks) -> int:
    """Bytes that the volume at the start of `blocks` says it has; 0 where there is none, or it does not say."""
    first = blocks.read(0, min(blocks.size, FIRST_BYTES))
    for module in FORMATS:
        if module.probe(first):
            with suppress(FormatError):
                return module.claimed_size(first)
            return 0
    return 0


def format_with(volume: Volume) -> VolumeFormat:
    """The module that has opened a volume."""
    family = _BY_KIND[volume.variant].family
    return next(module for module in FORMATS if module.FACTS[0].family == family)


def largest(volume: Volume) -> tuple[int, str]:
    """Bytes that a volume can be grown to, made anew where it must be, and the limit that stands there."""
    return format_with(volume).largest(volume)


def smallest(volume: Volume) -> tuple[int, str]:
    """Bytes that it can be shrunk to, and why not further; 0 where it cannot shrink."""
    return format_with(volume).smallest(volume)


def soundness(volume: Volume, tree: Tree) -> Soundness:
    """Whether its tables and the files of its tree agree, quickly. Raises MediumError."""
    return format_with(volume).soundness(volume, tree)


def check(volume: Volume) -> tuple[Finding, ...]:
    """Everything wrong with the structure of a volume; empty for a sound one."""
    return (*format_with(volume).check(volume), *_alike(volume))


def _alike(volume: Volume) -> Iterator[Finding]:
    """Names in one folder that the machines of a volume take for the same, as other systems make them."""
    if _BY_KIND[volume.variant].family not in FOLDS:
        return
    groups: dict[str, list[str]] = {}
    for entry in volume.tree().entries:
        groups.setdefault(entry.path.lower(), []).append(entry.path)
    for paths in (paths for paths in groups.values() if len(paths) > 1):
        yield Finding(Severity.WARNING, f"{', '.join(f'“{path}”' for path in paths)} are one name for machines that do "
                      "not tell capitals from small letters: they show one of them, or the first one twice.",
                      remedy="Rename one of them on the system that made it.")


def format_for(kind: str) -> VolumeFormat:
    """The module that makes a kind of file system. Raises FitError."""
    for module in FORMATS:
        if any(facts.kind == kind and facts.is_written for facts in module.FACTS):
            return module
    known = ", ".join(facts.kind for facts in KINDS if facts.is_written)
    raise FitError(f"“{kind}” is not a file system that can be made here; these are: {known}.")


def facts_of(kind: str) -> Facts | None:
    """What is true of a kind; None where no module knows it."""
    return _BY_KIND.get(kind)


def facts_for(kind: str) -> Facts:
    """The same of a kind that can be made here. Raises FitError."""
    format_for(kind)
    return _BY_KIND[kind]


def kind_for(wish: str, size: int) -> str:
    """The kind that a wish means: "fat" picks the type by size, everything else is itself."""
    if wish != "fat":
        return wish
    return "fat12" if size < 16 * MIB else "fat16" if size < 512 * MIB else "fat32"


def kind_name(kind: str) -> str:
    """As people write it: exFAT, FAT32, ext4, FFS international; "" stays ""."""
    facts = facts_of(kind)
    return facts.name if facts else WRITTEN.get(kind, kind.upper())


def is_changed_here(kind: str) -> bool:
    """Whether files on a volume of this kind can be put, renamed and removed."""
    facts = facts_of(kind)
    return facts is not None and facts.is_written


def is_resized_anew(kind: str) -> bool:
    """Whether another size means that a volume of this kind is made anew with its files."""
    facts = facts_of(kind)
    return facts is not None and facts.is_resized_anew


def edit(blocks: Blocks) -> Editor:
    """An editor for the file system on a partition. Raises FormatError, FitError."""
    return format_of(blocks).edit(blocks)


def why_unsound(blocks: Blocks) -> str:
    """How tables and files of a volume contradict one another, so that no free room is safe; "" where they do not.

    Raises FormatError, MediumError.
    """
    volume = open_volume(blocks)
    return soundness(volume, volume.tree()).because


def is_opened_here(blocks: Blocks) -> bool:
    """Whether one of the modules knows the file system on a partition. Raises MediumError."""
    first = blocks.read(0, min(blocks.size, FIRST_BYTES))
    return any(module.probe(first) for module in FORMATS)


def volume_kind(blocks: Blocks) -> str:
    """A short name such as "fat32" or "ext4"; "" where nothing is recognised. Raises MediumError."""
    first = blocks.read(0, min(blocks.size, FIRST_BYTES))
    for module in FORMATS:
        if module.probe(first):
            return module.kind_of(first)
    return name_by_signature(first)
