"""An opened OFS or FFS volume: everything that is read from it."""

from __future__ import annotations

from collections.abc import Iterator
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from mosscrate.core.blocks import Blocks, Extent
from mosscrate.core.blocks.runs import runs_of
from mosscrate.core.errors import FormatError, MediumError
from mosscrate.core.findings import Finding, Severity
from mosscrate.core.maps.dostypes import DOS_TYPES
from mosscrate.core.volumes.base import Entry, Kind, Tree
from mosscrate.core.volumes.ffs import structures as s
from mosscrate.core.volumes.ffs.claiming import claimed_blocks
from mosscrate.core.volumes.ffs.fields import fields_of
from mosscrate.core.volumes.ffs.structures import Longs
from mosscrate.core.volumes.pieces import Pieces, following, pieces, within

PIECE_BLOCKS = 4096
_KINDS = {s.ST_FOLDER: Kind.FOLDER, s.ST_FOLDER_LINK: Kind.FOLDER, s.ST_FILE: Kind.FILE, s.ST_FILE_LINK: Kind.FILE,
          s.ST_SOFT_LINK: Kind.LINK}


class FfsVolume:
    """Reads one volume. `node` of an entry is its header block."""

    def __init__(self, blocks: Blocks) -> None:
        self.blocks = blocks
        head = blocks.read(0, 4)
        if head[:3] != b"DOS" or head[3] > s.LAST_TYPE:
            raise FormatError("OFS/FFS boot block", "DosType", 0, head, "DOS and a number up to 7")
        self.dos_type = head[3]
        self.fields = fields_of(self.dos_type)
        found = s.find_geometry(blocks.read, blocks.size)
        self.block, self.total, self.root = found.block, found.total, found.root

    @property
    def is_ffs(self) -> bool:
        """Whether data blocks are data only."""
        return bool(self.dos_type & 1)

    @property
    def is_international(self) -> bool:
        """Whether accented letters are folded too."""
        return self.dos_type >= s.INTERNATIONAL_FROM

    @property
    def is_cached(self) -> bool:
        """Whether folders keep a cache beside their hash table."""
        return self.dos_type in s.CACHED

    @property
    def slots(self) -> int:
        """Entries in the table of a header: hash slots of a folder, data blocks of a file."""
        return self.block // 4 - s.TABLE - s.TABLE_TAIL

    @property
    def data_bytes(self) -> int:
        """Bytes of a file in one block."""
        return self.block if self.is_ffs else self.block - s.OFS_HEADER

    @property
    def kind(self) -> str:
        """ofs or ffs; the variant is in the DosType."""
        return "ffs" if self.is_ffs else "ofs"

    @property
    def variant(self) -> str:
        """Its DosType: ofs-intl, ffs-cache and so on."""
        return next(kind for kind, number in DOS_TYPES.items() if number == self.dos_type)

    @property
    def label(self) -> str:
        """The volume's name."""
        return s.text_at(self.root_longs.tobytes(), s.NAME, s.MAX_NAME)

    @property
    def id(self) -> str:
        """These volumes have none; the moment of their creation tells them apart."""
        return s.id_of(int(v) for v in self.root_longs[s.ROOT_CREATED:s.ROOT_CREATED + 3])

    @property
    def size(self) -> int:
        """Bytes of the file system."""
        return self.total * self.block

    @property
    def free(self) -> int:
        """Bytes in free blocks, by the bitmap, or by what the tree leaves where that is not valid."""
        return int((~self.used).sum()) * self.block

    @property
    def is_clean(self) -> bool:
        """Whether the bitmap was put away as valid."""
        return bool(self.root_longs[s.BM_FLAG])

    @cached_property
    def root_longs(self) -> Longs:
        """The root block."""
        return self.longs(self.root)

    @cached_property
    def used(self) -> NDArray[np.bool_]:
        """Used blocks, shape (total,); the first two always are."""
        if not self.is_clean:
            return claimed_blocks(self)[0] > 0
        bits = np.ones(self.total, bool)
        free = np.concatenate([_bits(self.longs(page)[1:]) for page in self.bitmap_pages()] or [np.zeros(0, bool)])
        count = min(len(free), self.total - s.RESERVED)
        bits[s.RESERVED:s.RESERVED + count] = ~free[:count]
        return bits

    def longs(self, number: int) -> Longs:
        """A block as longs. Raises FormatError for one outside of the volume."""
        if not 0 < number < self.total:
            raise FormatError("OFS/FFS", "block", 0, number, f"one of the {self.total} blocks of the volume")
        return s.longs_of(self.blocks.read(number * self.block, self.block))

    def header(self, number: int) -> Longs:
        """A header block, its type, own key and checksum verified. Raises FormatError."""
        longs = self.longs(number)
        if longs[s.TYPE] != s.T_HEADER or (number != self.root and longs[s.OWN_KEY] != number):
            raise FormatError("OFS/FFS header", "type", number * self.block, int(longs[s.TYPE]), "a header of its own")
        if s.sum_of(longs):
            raise FormatError("OFS/FFS header", "checksum", number * self.block, s.sum_of(longs), "longs that sum to 0")
        return longs

    def comment_of(self, header: Longs) -> str:
        """The comment of an entry, from its header or from a block of its own. Raises FormatError."""
        number = self.fields.comment_block(header)
        if not number:
            return self.fields.comment(header)
        longs = self.longs(number)
        if longs[s.TYPE] != s.T_COMMENT or s.sum_of(longs):
            raise FormatError("OFS/FFS comment", "type", number * self.block, int(longs[s.TYPE]), "a sound comment")
        return s.text_at(longs.tobytes(), s.TABLE - len(longs), s.MAX_COMMENT)

    def bitmap_pages(self) -> list[int]:
        """The blocks of the bitmap in their order. Raises FormatError."""
        root = self.root_longs
        pages = [int(p) for p in root[s.BM_PAGES:s.BM_PAGES + s.BM_PAGES_IN_ROOT] if p]
        following, seen = int(root[s.BM_EXT]), set[int]()
        while following and following not in seen:
            seen.add(following)
            longs = self.longs(following)
            pages += [int(p) for p in longs[:-1] if p]
            following = int(longs[-1])
        return pages[:-(-self.total // (32 * (self.block // 4 - 1)))]

    def bitmap_extensions(self) -> list[int]:
        """The blocks that list further bitmap blocks."""
        following, seen = int(self.root_longs[s.BM_EXT]), list[int]()
        while following and following not in seen:
            seen.append(following)
            following = int(self.longs(following)[-1])
        return seen

    def members(self, folder: Longs) -> Iterator[tuple[int, Longs]]:
        """(block, header) of everything in a folder. Raises FormatError at the first that cannot be followed."""
        seen: set[int] = set()
        for number in folder[s.TABLE:s.TABLE + self.slots].tolist():
            while number:
                if number in seen:
                    raise FormatError("OFS/FFS folder", "hash chain", number * self.block, number, "a chain that ends")
                seen.add(number)
                longs = self.header(number)
                yield number, longs
                number = int(longs[s.HASH_CHAIN])

    def tree(self) -> Tree:
        """Every file, folder and link, breadth first; folders that cannot be read become findings."""
        found: list[Entry] = []
        findings: list[Finding] = []
        seen, queue = {self.root}, [("", self.root)]
        for path, number in queue:
            try:
                for member, longs in self.members(self.header(number)):
                    entry = self._entry(path, member, longs)
                    found.append(entry)
                    if s.signed(int(longs[s.SEC_TYPE])) != s.ST_FOLDER:
                        continue
                    if member in seen:
                        findings.append(Finding(Severity.PROBLEM, f"The folder “{entry.path}” leads to a folder that "
                                                "was there before.", entry.path))
                    else:
                        seen.add(member)
                        queue.append((entry.path, member))
            except (FormatError, MediumError) as error:
                findings.append(Finding(Severity.PROBLEM, f"The folder “{path or '/'}” cannot be read further: {error}",
                                        path, remedy="What was read before that place is shown and intact."))
        return Tree(tuple(found), tuple(findings))

    def data_blocks(self, number: int) -> tuple[NDArray[np.int64], list[int]]:
        """The data blocks of a file in their order, and its extension blocks. Raises FormatError."""
        pieces, extensions = [], list[int]()
        longs = self.header(number)
        while True:
            count = min(int(longs[s.HIGH_SEQ]), self.slots)
            table = longs[s.TABLE:s.TABLE + self.slots].astype(np.int64)
            pieces.append(table[::-1][:count])
            following = int(longs[s.EXTENSION])
            if not following:
                break
            if following in extensions or len(extensions) > self.total:
                raise FormatError("OFS/FFS file", "extension", following * self.block, following, "a chain that ends")
            extensions.append(following)
            longs = self.longs(following)
            if longs[s.TYPE] != s.T_LIST or s.sum_of(longs):
                raise FormatError("OFS/FFS extension", "type", following * self.block, int(longs[s.TYPE]),
                                  "a sound extension block")
        blocks = np.concatenate(pieces)
        if len(blocks) and not ((blocks > 0) & (blocks < self.total)).all():
            raise FormatError("OFS/FFS file", "data block", number * self.block, int(blocks.max()),
                              "blocks of the volume")
        return blocks, extensions

    def read_file(self, entry: Entry) -> Iterator[bytes]:
        """The bytes of a file in pieces. Raises FormatError, MediumError."""
        blocks, left = self._data_of(entry), entry.size
        for first in range(0, len(blocks), PIECE_BLOCKS):
            part = self._data_in(blocks[first:first + PIECE_BLOCKS], entry)[:left]
            left -= len(part)
            yield part

    def read_at(self, entry: Entry, at: int, count: int) -> bytes:
        """`count` bytes of a file from byte `at` on, fewer at its end. Raises FormatError, MediumError."""
        end = min(entry.size, at + count)
        if at >= end:
            return b""
        first = at // self.data_bytes
        data = self._data_in(self._data_of(entry)[first:-(-end // self.data_bytes)], entry)
        return data[at - first * self.data_bytes:end - first * self.data_bytes]

    def pieces_of(self, entry: Entry) -> Pieces:
        """Its blocks, neighbours together where they hold nothing but data. Raises FormatError, MediumError."""
        if self.is_ffs:
            return within(following(self.extents_of(entry)), 0, entry.size)
        blocks = self._data_of(entry)
        return within(pieces(np.arange(len(blocks)) * self.data_bytes, blocks * self.block + s.OFS_HEADER,
                             np.full(len(blocks), self.data_bytes)), 0, entry.size)

    def extents_of(self, entry: Entry) -> tuple[Extent, ...]:
        """Where the blocks of a file lie; those of OFS hold headers too. A folder is its header block."""
        if entry.kind != Kind.FILE:
            return (Extent(entry.node * self.block, self.block),)
        return tuple(extents_of_blocks(self._data_of(entry), self.block))

    def used_extents(self) -> tuple[Extent, ...]:
        """Every run of used blocks."""
        edges = runs_of(self.used).tolist()
        return tuple(Extent(first * self.block, (last - first) * self.block) for first, last in edges)

    def why_not(self, name: str) -> str:
        """Why a name cannot stand here; "" when it can."""
        return s.why_not(name, self.fields.most)

    def _data_in(self, blocks: NDArray[np.int64], entry: Entry) -> bytes:
        """What data blocks of a file hold, headers taken off."""
        raw = b"".join(self.blocks.read(e.start, e.length) for e in extents_of_blocks(blocks, self.block))
        if self.is_ffs:
            return raw
        rows = np.frombuffer(raw, np.uint8).reshape(-1, self.block)
        if (rows[:, :4] != (0, 0, 0, s.T_DATA)).any():
            raise FormatError("OFS data block", "type", 0, entry.path, "blocks of data")
        return rows[:, s.OFS_HEADER:].tobytes()

    def _data_of(self, entry: Entry) -> NDArray[np.int64]:
        longs = self.header(entry.node)
        number = int(longs[s.REAL_ENTRY]) if s.signed(int(longs[s.SEC_TYPE])) == s.ST_FILE_LINK else entry.node
        blocks, _ = self.data_blocks(number)
        if len(blocks) < -(-entry.size // self.data_bytes):
            raise FormatError("OFS/FFS file", f"size of “{entry.path}”", number * self.block, entry.size,
                              f"at most {len(blocks) * self.data_bytes} bytes")
        return blocks[:-(-entry.size // self.data_bytes)]

    def _entry(self, folder: str, number: int, longs: Longs) -> Entry:
        raw = longs.tobytes()
        name = self.fields.name(longs).replace("/", "_") or "_"
        path = f"{folder}/{name}" if folder else name
        type = s.signed(int(longs[s.SEC_TYPE]))
        kind, size, target = _KINDS.get(type, Kind.FILE), 0, None
        if type in (s.ST_FILE_LINK, s.ST_FOLDER_LINK):      # all but the name is that of what it stands for
            longs = self.header(int(longs[s.REAL_ENTRY]))
        if kind == Kind.FILE:
            size = int(longs[s.BYTE_SIZE])
        elif kind == Kind.LINK:
            target = raw[4 * s.TABLE:4 * (s.TABLE + self.slots)].partition(b"\0")[0].decode("latin-1")
        at = self.fields.stamp
        when = s.seconds_of(*(int(v) for v in longs[at:at + 3]))
        return Entry(path, kind, size, when, number, target, protection=int(longs[s.PROTECT]),
                     comment=self.comment_of(longs))


def open_ffs(blocks: Blocks) -> FfsVolume:
    """Open an OFS or FFS volume. Raises FormatError, MediumError."""
    return FfsVolume(blocks)


def _bits(longs: Longs) -> NDArray[np.bool_]:
    """Bits of a bitmap block, lowest first within each long; set means free."""
    return np.unpackbits(longs.astype("<u4").view(np.uint8), bitorder="little").astype(bool)


def extents_of_blocks(blocks: NDArray[np.int64], unit: int) -> Iterator[Extent]:
    """Blocks in their order as stretches, neighbours together."""
    if len(blocks) == 0:
        return
    cuts = np.flatnonzero(np.diff(blocks) != 1) + 1
    starts, ends = np.append(0, cuts), np.append(cuts, len(blocks))
    for first, count in zip(blocks[starts].tolist(), (ends - starts).tolist(), strict=True):
        yield Extent(first * unit, count * unit)
