"""Sets in parts: files that belong behind one another, found by their names."""

from __future__ import annotations

import re
from bisect import bisect_right
from collections.abc import Sequence
from itertools import accumulate
from pathlib import Path

from mosscrate.core.blocks import Blocks, FileBlocks, open_blocks
from mosscrate.core.errors import MediumError

NUMBERED = re.compile(r"(?P<stem>.+)\.(?P<number>\d{3,4})$")                            # name.7z.001
PART = re.compile(r"(?P<stem>.+)\.part(?P<number>\d{1,4})\.rar$", re.IGNORECASE)        # name.part1.rar
SPLIT_ZIP = re.compile(r"(?P<stem>.+)\.(?:z(?P<number>\d{2,3})|zip)$", re.IGNORECASE)   # name.z01 ... name.zip
A_GAME = 64                              # name.z64 is a cartridge, unless it comes behind name.z63
OLD_RAR = re.compile(r"(?P<stem>.+)\.(?:r(?P<number>\d{2})|rar)$", re.IGNORECASE)       # name.rar, name.r00 ...


class Joined(Blocks):
    """Blocks behind one another.

    Attributes:
        parts: in their order.
        starts: byte at which each begins.
        paths: of the files that they are; none where they are no files.
    """

    def __init__(self, parts: Sequence[Blocks], name: str, paths: tuple[Path, ...] = ()) -> None:
        ends = list(accumulate(part.size for part in parts))
        super().__init__(ends[-1], name=name)
        self.parts, self.paths = tuple(parts), paths
        self.starts = (0, *ends[:-1])

    def drop_cache(self) -> None:
        """See Blocks."""
        for part in self.parts:
            part.drop_cache()

    def will_need(self, offset: int, length: int) -> None:
        """See Blocks."""
        number = bisect_right(self.starts, offset) - 1
        self.parts[number].will_need(offset - self.starts[number], length)

    @property
    def changed_at(self) -> int:
        """See Blocks."""
        return max(part.changed_at for part in self.parts)

    def close(self) -> None:
        """See Blocks."""
        for part in self.parts:
            part.close()

    def _read_into(self, offset: int, buffer: memoryview) -> None:
        done = 0
        while done < len(buffer):
            number = bisect_right(self.starts, offset + done) - 1
            part, at = self.parts[number], offset + done - self.starts[number]
            count = min(len(buffer) - done, part.size - at)
            part.read_into(at, buffer[done:done + count])
            done += count


class Metered(Blocks):
    """Counts what is read of a file, or of a set."""

    def __init__(self, inner: Blocks) -> None:
        super().__init__(inner.size, name=inner.name)
        self.inner, self.count = inner, 0

    def drop_cache(self) -> None:
        """See Blocks."""
        self.inner.drop_cache()

    def close(self) -> None:
        """See Blocks."""
        self.inner.close()

    def _read_into(self, offset: int, buffer: memoryview) -> None:
        self.count += len(buffer)
        self.inner.read_into(offset, buffer)


def set_of(blocks: Blocks) -> Joined | None:
    """The set in parts that blocks are; None for a single file."""
    inner = blocks.inner if isinstance(blocks, Metered) else blocks
    return inner if isinstance(inner, Joined) else None


def parts_of(path: Path) -> tuple[Path, ...]:
    """The files of the set that a file belongs to, in order; it alone where it belongs to none.

    Raises MediumError where one is missing between others.
    """
    for form, last in ((NUMBERED, ""), (PART, ""), (SPLIT_ZIP, ".zip"), (OLD_RAR, ".rar")):
        match = form.match(path.name)
        if match is None:
            continue
        found = _numbered(path, form, match["stem"])
        if form is SPLIT_ZIP and A_GAME - 1 not in found and found.pop(A_GAME, None) == path:
            return (path,)
        if not found or (form is NUMBERED and len(found) == 1 and not path.name.endswith(".001")):
            return (path,)
        first = 0 if form is OLD_RAR or (form is NUMBERED and 0 in found) else 1
        _must_follow(found, first, path)
        numbered = tuple(found[number] for number in sorted(found))
        if not last:
            return numbered
        whole = path if match["number"] is None else _whole(path, match["stem"], last)
        return (whole, *numbered) if form is OLD_RAR else (*numbered, whole)
    return (path,)


def head_of(path: Path) -> Path:
    """The file of an archive in parts by which the whole of it goes; it alone where it is whole.

    Looks beside it only where the name may be that of a part. Raises MediumError where one is missing between others.
    """
    if not may_be_part(path):
        return path
    parts = parts_of(path)
    return next((part for part in parts if part.suffix.casefold() == ".zip"), parts[0])


def may_be_part(path: Path) -> bool:
    """Whether a file is one part of several by its name, and by what must lie beside it."""
    if NUMBERED.match(path.name) or PART.match(path.name):
        return True
    split, old = SPLIT_ZIP.match(path.name), OLD_RAR.match(path.name)
    if split is None and old is None:
        return False
    wholes, firsts = ((".zip", ".ZIP"), (".z01", ".Z01")) if split else ((".rar", ".RAR"), (".r00", ".R00"))
    return all(any(path.with_suffix(ending).exists() for ending in each) for each in (wholes, firsts))


def join_with(file: Blocks) -> Blocks:
    """The set that an open file belongs to, closed with it; the file itself where it belongs to none.

    Raises MediumError.
    """
    if not isinstance(file, FileBlocks) or file.is_device:
        return file
    paths = parts_of(file.path)
    if len(paths) == 1:
        return file
    opened: list[Blocks] = []
    try:
        for path in paths:
            opened.append(file if path.name == file.path.name else open_blocks(path))
    except MediumError:
        for blocks in opened:
            if blocks is not file:
                blocks.close()
        raise
    return Joined(opened, file.name, paths)


def _numbered(path: Path, form: re.Pattern[str], stem: str) -> dict[int, Path]:
    found = {}
    for beside in path.parent.iterdir():
        match = form.match(beside.name)
        if match is not None and match["stem"] == stem and match["number"] is not None:
            found[int(match["number"])] = beside
    return found


def _must_follow(found: dict[int, Path], first: int, path: Path) -> None:
    missing = [number for number in range(first, max(found)) if number not in found]
    if missing:
        names = ", ".join(_like(path, found, number) for number in missing[:3])
        raise MediumError(f"{path.name} is one part of a set; missing beside it: {names}. Nothing was changed.")


def _like(path: Path, found: dict[int, Path], number: int) -> str:
    """The name that a missing part would have."""
    known, sample = next(iter(found.items()))
    digits = re.findall(r"\d+", sample.name.removeprefix(path.name.split(".")[0]))
    width = next((len(d) for d in reversed(digits) if int(d) == known), 1)
    head, _, tail = sample.name.rpartition(f"{known:0{width}}")
    return f"{head}{number:0{width}}{tail}"


def _whole(path: Path, stem: str, last: str) -> Path:
    for beside in path.parent.iterdir():
        if beside.name.casefold() == f"{stem}{last}".casefold():
            return beside
    raise MediumError(f"{path.name} is one part of a set; missing beside it: {stem}{last}. Nothing was changed.")
