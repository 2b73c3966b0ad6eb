"""Changing what is on an OFS or FFS volume; and the writing that a fresh one shares.

Data blocks go to free room at once; headers, extension blocks, the root and the bitmap are held in
memory and written by `commit`, the root last.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from mosscrate.core.blocks import Blocks
from mosscrate.core.errors import FitError
from mosscrate.core.volumes.base import PLAIN, Data, Retraits, Traits
from mosscrate.core.volumes.ffs import structures as s
from mosscrate.core.volumes.ffs.allocation import FreeBlocks
from mosscrate.core.volumes.ffs.caching import Caches, record_of
from mosscrate.core.volumes.ffs.facts import LARGEST_FILE, label_of
from mosscrate.core.volumes.ffs.fields import COMMENT_BLOCK, comment_block
from mosscrate.core.volumes.ffs.structures import Longs
from mosscrate.core.volumes.ffs.volume import FfsVolume, extents_of_blocks
from mosscrate.core.volumes.ffs.writing import bitmap_blocks, write_ofs, write_tables
from mosscrate.core.volumes.filling import fill, pieces_of
from mosscrate.core.volumes.patched import Patched

VALID = 0xFFFFFFFF


class FfsEditor:
    """Changes one volume; see `Editor`."""

    def __init__(self, blocks: Blocks) -> None:
        self._pending: dict[int, bytes] = {}
        inner = FfsVolume(blocks)
        self._blocks = Patched(blocks, inner.block, self._pending)
        self.volume = FfsVolume(self._blocks)
        v = self.volume
        used = v.used.copy() if v.is_clean else must_be_followed(v) > 0     # never what a lost file has for free
        self._room = FreeBlocks(used, v.block)
        self._bitmap: NDArray[np.bool_] | None = v.used if v.is_clean else None      # as it stands on the volume
        blocks.forgo(self._room.extents())
        self._headers: dict[int, Longs] = {}
        self._folders: dict[int, dict[str, int]] = {}
        self._dated: set[int] = set()          # folders that came with a date, which filling them leaves alone
        self._caches = Caches(v, self._room.take_one, self._give_back)

    def has(self, path: str) -> bool:
        """See Editor."""
        try:
            self._find(path)
        except FitError:
            return False
        return True

    def add_folder(self, path: str, traits: Traits = PLAIN) -> None:
        """See Editor."""
        v = self.volume
        parent, name = self._place(path)
        present = self._names(parent).get(self._folded(name))
        if present is not None and self._kind(present) == s.ST_FOLDER:
            return
        self._must_be_new(parent, path, name)
        self._make_room_in_cache(parent, name, traits)
        number, *more = self._room.take(1 + v.is_cached + self._spills(name, traits)).tolist()
        header = self._fresh(number, name, s.ST_FOLDER, traits, more[v.is_cached:])
        if v.is_cached:
            header[s.EXTENSION] = more[0]
            self._caches.begin(number, more[0])
        self._enter(parent, name, number, header)
        self._folders[number] = {}
        if traits.modified is not None:
            self._dated.add(number)

    def add_file(self, path: str, data: Data, traits: Traits = PLAIN, *, size: int | None = None) -> None:
        """See Editor."""
        v = self.volume
        pieces, size = pieces_of(data, size)
        if size > LARGEST_FILE:
            raise FitError(f"“{path}” is larger than the 2 GiB that its machines can hold in one file.")
        parent, name = self._place(path)
        self._must_be_new(parent, path, name)
        count = -(-size // v.data_bytes)
        extensions, spills = max(0, -(-count // v.slots) - 1), self._spills(name, traits)
        self._make_room_in_cache(parent, name, traits)
        numbers = self._room.take(1 + extensions + spills + count)
        heads, blocks = numbers[:1 + extensions], numbers[1 + extensions + spills:]
        more = numbers[1 + extensions:1 + extensions + spills].tolist()
        if v.is_ffs:
            fill(self._blocks, extents_of_blocks(blocks, v.block), pieces, size, v.block)
        else:
            write_ofs(self._blocks, v, int(heads[0]), blocks, pieces, size)
        header = self._fresh(int(heads[0]), name, s.ST_FILE, traits, more)
        header[s.BYTE_SIZE] = size
        header[s.FIRST_DATA] = int(blocks[0]) if count else 0
        self._pending.update(write_tables(v, header, heads, blocks))
        self._enter(parent, name, int(heads[0]), header)

    def add_link(self, path: str, target: str, traits: Traits = PLAIN) -> None:
        """See Editor."""
        parent, name = self._place(path)
        self._must_be_new(parent, path, name)
        raw = target.encode("latin-1", "replace")
        if len(raw) >= 4 * self.volume.slots:
            raise FitError(f"The target of the link “{path}” is too long.")
        self._make_room_in_cache(parent, name, traits)
        number, *more = self._room.take(1 + self._spills(name, traits)).tolist()
        header = self._fresh(number, name, s.ST_SOFT_LINK, traits, more)
        header.view(np.uint8)[4 * s.TABLE:4 * s.TABLE + len(raw)] = np.frombuffer(raw, np.uint8)
        self._enter(parent, name, number, header)

    def remove(self, path: str) -> None:
        """See Editor."""
        parent, name = self._place(path)
        number = self._find(path)
        kind = self._kind(number)
        if kind in (s.ST_FILE, s.ST_FOLDER) and self._header(number)[s.NEXT_LINK]:
            self._hand_over(number, parent, name)
            return
        if kind in (s.ST_FILE_LINK, s.ST_FOLDER_LINK):
            self._unlink(number)
        elif kind == s.ST_FOLDER:
            while names := self._names(number):
                inner = self._header(next(iter(names.values())))
                self.remove(f"{path.strip('/')}/{self.volume.fields.name(inner)}")
            self._folders.pop(number, None)
            self._caches.drop(number, self._header(number))
        elif kind == s.ST_FILE:
            data, extensions = self.volume.data_blocks(number)
            for block in (*data.tolist(), *extensions):
                self._give_back(block)
        self._leave(parent, name, number)
        self._drop_header(number)

    def rename(self, path: str, new: str) -> None:
        """See Editor."""
        old_parent, name = self._place(path)
        parent, new_name = self._place(new)
        number = self._find(path)
        old_key, new_key = self._folded(path.strip("/")), self._folded(new.strip("/"))
        if self._kind(number) == s.ST_FOLDER and new_key.startswith(old_key + "/"):
            raise FitError(f"“{path}” cannot be moved into itself.")
        if parent != old_parent or self._folded(name) != self._folded(new_name):
            self._must_be_new(parent, new, new_name)
        self._must_be_possible(new_name)
        comment = self.volume.comment_of(self._header(number))
        self._make_room_in_cache(parent, new_name, Traits(comment=comment))
        block = self._comment_block_for(number, new_name, comment)
        self._leave(old_parent, name, number)
        header = self._header(number)
        self.volume.fields.put(header, new_name, comment, block)
        self._enter(parent, new_name, number, header)

    def retrait(self, path: str, traits: Retraits) -> None:
        """Set date, comment or protection bits of something. Raises FitError."""
        number, fields = self._find(path), self.volume.fields
        if number == self.volume.root:
            raise FitError("The volume itself has a label, but no comment and no protection.")
        if self._kind(number) in (s.ST_FILE_LINK, s.ST_FOLDER_LINK):
            number = int(self._header(number)[s.REAL_ENTRY])
        header = self._header(number)
        parent, name = int(header[s.PARENT]), fields.name(header)
        comment = self.volume.comment_of(header) if traits.comment is None else traits.comment
        if len(comment) > s.MAX_COMMENT:
            raise FitError(f"A comment has {s.MAX_COMMENT} characters at most, not {len(comment)}.")
        self._make_room_in_cache(parent, name, Traits(comment=comment))
        old = fields.comment_block(header)
        if old and not fields.needs_block(name, comment):
            self._give_back(old)
            header[COMMENT_BLOCK] = 0
        block = self._comment_block_for(number, name, comment)
        fields.put(header, name, comment, block)
        if traits.modified is not None:
            header[fields.stamp:fields.stamp + 3] = s.stamp_of(traits.modified)
        if traits.protection is not None:
            header[s.PROTECT] = traits.protection
        self._put(number, header)
        self._caches.touch(parent)

    def relabel(self, label: str) -> None:
        """See Editor."""
        root = self._header(self.volume.root)
        label_of(label)
        s.put_text(root, s.NAME, label, 32)
        self._put(self.volume.root, root)

    def rebuild_bitmap(self) -> None:
        """Work out from the files which blocks are in use. Raises FitError where some cannot be followed."""
        self._room, self._bitmap = FreeBlocks(must_be_followed(self.volume) > 0, self.volume.block), None

    def commit(self) -> None:
        """Write everything that is held, the root last. Raises MediumError."""
        v, root = self.volume, self._header(self.volume.root)
        for at in (s.DAYS, s.ROOT_ALTERED):
            root[at:at + 3] = s.stamp_of(None)
        self._write_caches()
        self._pending.update(bitmap_blocks(v, self._room.used, self._bitmap))
        root[s.BM_FLAG] = VALID
        self._put(v.root, root)
        writes = sorted(self._pending.items(), key=lambda item: (item[0] == v.root, item[0]))
        inner = self._blocks.inner
        for number, data in writes:
            inner.write(number * v.block, data)
        inner.flush()
        self._pending.clear()
        self._bitmap = self._room.used.copy()
        v.__dict__.pop("root_longs", None)
        v.__dict__.pop("used", None)

    # --- hard links: a chain of headers from the real one on -----------------------------------------

    def _hand_over(self, number: int, parent: int, name: str) -> None:
        """What is removed has other names: it takes the place of the first link, whose header goes."""
        header = self._header(number)
        link = int(header[s.NEXT_LINK])
        at, new_name = self._header(link), self.volume.fields.name(self._header(link))
        new_parent, comment = int(at[s.PARENT]), self.volume.comment_of(header)
        block = self._comment_block_for(number, new_name, comment)
        header[s.NEXT_LINK] = at[s.NEXT_LINK]
        self._leave(parent, name, number)
        self._leave(new_parent, new_name, link)
        self._drop_header(link)
        self.volume.fields.put(header, new_name, comment, block)
        self._enter(new_parent, new_name, number, header)

    def _unlink(self, number: int) -> None:
        """Take a link out of the chain that begins at what it stands for."""
        at, seen = int(self._header(number)[s.REAL_ENTRY]), set[int]()
        while at not in seen:
            seen.add(at)
            header = self._header(at)
            if int(header[s.NEXT_LINK]) == number:
                header[s.NEXT_LINK] = self._header(number)[s.NEXT_LINK]
                self._put(at, header)
                return
            at = int(header[s.NEXT_LINK])
            if not at:
                return

    def _drop_header(self, number: int) -> None:
        """Give back a header and the block of its comment."""
        if comment := self.volume.fields.comment_block(self._header(number)):
            self._give_back(comment)
        self._give_back(number)

    # --- headers and folders ---------------------------------------------------------------------

    def _header(self, number: int) -> Longs:
        if number not in self._headers:
            self._headers[number] = self.volume.header(number)
        return self._headers[number]

    def _put(self, number: int, longs: Longs) -> None:
        self._headers[number] = longs
        self._pending[number] = s.seal(longs)

    def _kind(self, number: int) -> int:
        return s.signed(int(self._header(number)[s.SEC_TYPE]))

    def _folded(self, name: str) -> str:
        return s.upper(name, international=self.volume.is_international)

    def _names(self, folder: int) -> dict[str, int]:
        """{folded name: header block} of a folder."""
        if folder not in self._folders:
            self._folders[folder] = {
                self._folded(self.volume.fields.name(longs)): number
                for number, longs in self.volume.members(self._header(folder))}
        return self._folders[folder]

    def _place(self, path: str) -> tuple[int, str]:
        """The folder's block and the name in it. Raises FitError."""
        parent, _, name = path.strip("/").rpartition("/")
        number = self._find(parent)
        if number != self.volume.root and self._kind(number) != s.ST_FOLDER:
            raise FitError(f"“{parent}” is a file, not a folder.")
        return number, name

    def _find(self, path: str) -> int:
        number = self.volume.root
        for part in path.strip("/").split("/") if path.strip("/") else ():
            if number != self.volume.root and self._kind(number) != s.ST_FOLDER:
                raise FitError(f"There is no “{path}” on this volume.")
            found = self._names(number).get(self._folded(part))
            if found is None:
                raise FitError(f"There is no “{path}” on this volume.")
            number = found
        return number

    def _must_be_possible(self, name: str, most: int = 0) -> None:
        problem = s.why_not(name, most or self.volume.fields.most)
        if problem:
            raise FitError(f"“{name}” cannot stand on an OFS or FFS volume: {problem}.")

    def _must_be_new(self, parent: int, path: str, name: str) -> None:
        self._must_be_possible(name)
        if self._folded(name) in self._names(parent):
            raise FitError(f"“{path}” is there already.")

    def _make_room_in_cache(self, parent: int, name: str, traits: Traits) -> None:
        self._caches.make_room(parent, self._header(parent), name, traits.comment)

    def _spills(self, name: str, traits: Traits) -> int:
        """Blocks that a comment needs for itself: 1 or 0."""
        return int(self.volume.fields.needs_block(name, traits.comment[:s.MAX_COMMENT]))

    def _comment_block_for(self, number: int, name: str, comment: str) -> int:
        """The block for the comment of a header, written; 0 where it stands beside the name. Raises FitError."""
        fields = self.volume.fields
        if not fields.needs_block(name, comment):
            block = fields.comment_block(self._header(number))
            return block if block and comment else 0
        block = fields.comment_block(self._header(number)) or self._room.take_one()
        self._pending[block] = comment_block(block, number, comment, self.volume.block)
        return block

    def _fresh(self, number: int, name: str, kind: int, traits: Traits, comment_blocks: list[int]) -> Longs:
        """A header; `comment_blocks` has a block for a comment that needs one, else nothing."""
        v, comment = self.volume, traits.comment[:s.MAX_COMMENT]
        longs = np.zeros(self.volume.block // 4, ">u4")
        longs[s.TYPE], longs[s.OWN_KEY], longs[s.SEC_TYPE] = s.T_HEADER, number, kind & 0xFFFFFFFF
        longs[v.fields.stamp:v.fields.stamp + 3] = s.stamp_of(traits.modified)
        longs[s.PROTECT] = traits.protection or 0
        for block in comment_blocks:
            self._pending[block] = comment_block(block, number, comment, v.block)
        v.fields.put(longs, name, comment, *comment_blocks)
        return longs

    def _enter(self, parent: int, name: str, number: int, header: Longs) -> None:
        """Put a header at the end of the hash chain of its name."""
        header[s.PARENT], header[s.HASH_CHAIN] = parent, 0
        self._put(number, header)
        folder = self._header(parent)
        slot = s.TABLE + s.hash_of(name, self.volume.slots, international=self.volume.is_international)
        at = int(folder[slot])
        if at == 0:
            folder[slot] = number
        else:
            while (following := int(self._header(at)[s.HASH_CHAIN])) != 0:
                at = following
            last = self._header(at)
            last[s.HASH_CHAIN] = number
            self._put(at, last)
        self._names(parent)[self._folded(name)] = number
        self._touch(parent)

    def _leave(self, parent: int, name: str, number: int) -> None:
        """Take a header out of its hash chain."""
        names, folder = self._names(parent), self._header(parent)          # names are read before the chain changes
        following = int(self._header(number)[s.HASH_CHAIN])
        slot = s.TABLE + s.hash_of(name, self.volume.slots, international=self.volume.is_international)
        at = int(folder[slot])
        if at == number:
            folder[slot] = following
        while at and at != number:
            longs = self._header(at)
            if int(longs[s.HASH_CHAIN]) == number:
                longs[s.HASH_CHAIN] = following
                self._put(at, longs)
                break
            at = int(longs[s.HASH_CHAIN])
        del names[self._folded(name)]
        self._touch(parent)

    def _touch(self, folder: int) -> None:
        longs, at = self._header(folder), self.volume.fields.stamp if folder != self.volume.root else s.DAYS
        if folder not in self._dated:
            longs[at:at + 3] = s.stamp_of(None)
        self._put(folder, longs)
        self._caches.touch(folder)
        if folder != self.volume.root:
            self._caches.touch(int(longs[s.PARENT]))

    # --- blocks ----------------------------------------------------------------------------------

    def _give_back(self, number: int) -> None:
        self._room.give_back(number)
        self._pending.pop(number, None)
        self._headers.pop(number, None)

    def _write_caches(self) -> None:
        """The caches of every folder that has changed, from its headers."""
        for folder in sorted(self._caches.stale):
            header = self._header(folder)
            records = [record_of(self.volume, n, self._header(n)) for n in self._names(folder).values()]
            self._pending.update(self._caches.written(folder, header, records))
            self._put(folder, header)
        self._caches.stale.clear()


def must_be_followed(volume: FfsVolume) -> NDArray[np.int32]:
    """How often each block is claimed. Raises FitError where a file or folder cannot be followed to its end."""
    from mosscrate.core.volumes.ffs.claiming import claimed_blocks
    claims, faults = claimed_blocks(volume)
    if faults:
        raise FitError("Which blocks of the volume are in use cannot be told, so it is left as it is: "
                       f"{faults[0].sentence} Its files can be read and copied to another one.")
    return claims
