"""A medium of any size in memory, of which only the pages that hold something take room."""

from __future__ import annotations

from collections.abc import Iterator

from mosscrate.core.blocks.base import SECTOR, Blocks, Buffer, Extent
from mosscrate.core.blocks.runs import with_holes

PAGE = 4096
_EMPTY = memoryview(bytes(PAGE))


class Sparse(Blocks):
    """Blocks whose empty pages are holes: for the tables of a volume, not for what it holds."""

    def __init__(self, size: int, *, sector: int = SECTOR, name: str = "memory") -> None:
        super().__init__(size, sector=sector, writable=True, name=name)
        self._pages: dict[int, bytearray] = {}

    def zero(self, offset: int, length: int) -> None:
        """Pages that are not there are zeros already."""
        self._within(offset, length)
        for page in self._there(offset, length):
            first, last = max(offset, page * PAGE), min(offset + length, (page + 1) * PAGE)
            if last - first == PAGE:
                del self._pages[page]
            else:
                self._pages[page][first - page * PAGE:last - page * PAGE] = bytes(last - first)

    def extents(self) -> Iterator[Extent]:
        """Pages that are there, and holes."""
        pages = ((page * PAGE, min(self.size, (page + 1) * PAGE)) for page in sorted(self._pages))
        return with_holes(pages, self.size)

    def _read_into(self, offset: int, buffer: memoryview) -> None:
        buffer[:] = bytes(len(buffer))
        for page in self._there(offset, len(buffer)):
            first, last = max(offset, page * PAGE), min(offset + len(buffer), (page + 1) * PAGE)
            buffer[first - offset:last - offset] = memoryview(self._pages[page])[first - page * PAGE:last - page * PAGE]

    def _write(self, offset: int, data: Buffer) -> None:
        view, at = memoryview(data), offset
        while len(view):
            page, within = divmod(at, PAGE)
            part = view[:PAGE - within]
            if page in self._pages or part != _EMPTY[:len(part)]:
                self._pages.setdefault(page, bytearray(PAGE))[within:within + len(part)] = part
            view, at = view[len(part):], at + len(part)

    def _there(self, offset: int, length: int) -> list[int]:
        """Pages of a range that hold something."""
        wanted = range(offset // PAGE, -(-(offset + length) // PAGE))
        if len(wanted) > len(self._pages):
            return [page for page in self._pages if page in wanted]
        return [page for page in wanted if page in self._pages]
