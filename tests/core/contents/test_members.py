"""Files in archives: what is unpacked is what was packed, or a sentence says that it is damaged."""

from __future__ import annotations

import io
import random
import struct
import tarfile
import zipfile
import zlib
from contextlib import suppress

import pytest

from benches.archives import write_7z
from mosscrate.core.blocks import open_blocks
from mosscrate.core.contents.members import members
from mosscrate.core.errors import MediumError, NotReadYet
from mosscrate.core.images import Reach
from mosscrate.core.images.packing import Remembered, unpacked
from mosscrate.core.images.packing.tar import Tar
from mosscrate.core.slots import Shelf
from tests.packs import write_rar

FILES = {f"d/game {number}.bin": random.Random(number).randbytes(3000) + b"moss" * 900 for number in range(5)}


def write_zip(path, files, how=zipfile.ZIP_DEFLATED):
    with zipfile.ZipFile(path, "w", how) as archive:
        for name, data in files.items():
            archive.writestr(name, data)


WRITERS = {"deflated.zip": write_zip, "stored.zip": lambda path, files: write_zip(path, files, zipfile.ZIP_STORED),
           "set.7z": write_7z, "set.rar": write_rar}


@pytest.mark.parametrize("name", WRITERS)
def test_a_file_of_a_damaged_archive_is_whole_or_told(name, tmp_path):
    path, rnd = tmp_path / name, random.Random(name)
    WRITERS[name](path, FILES)
    assert {each.name: b"".join(each.read()) for each in members(path)} == FILES
    whole, told = path.read_bytes(), 0
    for number in range(60):
        at = rnd.randrange(len(whole))
        damaged = tmp_path / f"{number}{path.suffix}"
        damaged.write_bytes(whole[:at] + bytes([whole[at] ^ 1 << rnd.randrange(8)]) + whole[at + 1:])
        try:
            for each in members(damaged):
                try:
                    data = b"".join(each.read())
                except MediumError:
                    told += 1
                else:
                    assert data == FILES.get(each.name, data)
        except MediumError:
            told += 1
    assert told > 10


def zip_of(entries: list[tuple[bytes, bytes, int, bytes]]) -> bytes:
    """A zip of stored members by hand: name as it stands, bytes, flags, extra field (APPNOTE 6.3.10)."""
    out, directory = bytearray(), bytearray()
    for name, data, flags, extra in entries:
        common = struct.pack("<HHHHHIIIHH", 20, flags, 0, 0, 0x21, zlib.crc32(data), len(data), len(data), len(name),
                             len(extra))
        directory += b"PK\x01\x02" + struct.pack("<H", 20) + common + struct.pack("<HHHII", 0, 0, 0, 0, len(out))
        directory += name + extra
        out += b"PK\x03\x04" + common + name + extra + data
    count = len(entries)
    return bytes(out + directory + struct.pack("<4sHHHHIIH", b"PK\x05\x06", 0, 0, count, count, len(directory),
                                               len(out), 0))


def test_names_in_a_zip_are_read_as_whoever_packed_it_meant_them(tmp_path):
    """With the bit for UTF-8, without it but in UTF-8, beside a Unicode path, and of the old code page."""
    bear, path = b"bear\x99.gb", tmp_path / "names.zip"
    told = b"\x01" + struct.pack("<I", zlib.crc32(bear)) + "クマ.gb".encode()
    path.write_bytes(zip_of([
        ("mit é.txt".encode(), b"1", 0x800, b""), ("läufer.cfg".encode(), b"2", 0, b""),
        ("Größe.sav".encode("cp437"), b"3", 0, b""), (b"plain.txt", b"4", 0, b""),
        (bear, b"5", 0, struct.pack("<HH", 0x7075, len(told)) + told)]))
    found = {member.name: b"".join(member.read()) for member in members(path)}
    assert found == {"mit é.txt": b"1", "läufer.cfg": b"2", "Größe.sav": b"3", "plain.txt": b"4", "クマ.gb": b"5"}


def test_of_two_members_of_one_name_in_a_tar_the_last_is_meant(tmp_path):
    path = tmp_path / "twice.tar"
    with tarfile.open(path, "w") as archive:
        for data in (b"first", b"and second"):
            info = tarfile.TarInfo("same.txt")
            info.size = len(data)
            archive.addfile(info, io.BytesIO(data))
    assert [b"".join(member.read()) for member in members(path)] == [b"and second"]


def test_an_archive_in_which_no_disk_is_is_listed_once(tmp_path, monkeypatch):
    path = tmp_path / "many.tar"
    with tarfile.open(path, "w") as archive:
        for number in range(3):
            archive.addfile(tarfile.TarInfo(f"{number}.txt"))
    listed: list[str] = []
    monkeypatch.setattr(Tar, "members", lambda self, file, own=Tar.members: listed.append("") or own(self, file))
    medium = Shelf().medium_at(path)
    with pytest.raises(MediumError, match="holds no disk image that is known here"):
        medium.open_to_look()
    assert len(listed) == 1


def test_a_glance_that_sees_no_disk_yet_does_not_stand_for_the_whole_archive(tmp_path):
    path, remembered = tmp_path / "late.tar.gz", Remembered()
    with tarfile.open(path, "w:gz", compresslevel=1) as archive:
        for name, data in (("read me.txt", b"first"), ("long.txt", random.Random(1).randbytes(16 << 20)),
                           ("card.img", b"disk" * 1024)):
            info = tarfile.TarInfo(name)
            info.size = len(data)
            archive.addfile(info, io.BytesIO(data))
    with suppress(MediumError, NotReadYet):
        unpacked(open_blocks(path), remembered=remembered, reach=Reach(most=5 << 20))
    with unpacked(open_blocks(path), remembered=remembered) as disk:
        assert disk.read(0, 4096) == b"disk" * 1024


@pytest.mark.parametrize("form", [tarfile.USTAR_FORMAT, tarfile.GNU_FORMAT, tarfile.PAX_FORMAT])
def test_headers_of_tars_are_read_as_the_standard_library_reads_them(form, tmp_path):
    path, rng = tmp_path / "odd.tar", random.Random(form)
    with tarfile.open(path, "w", format=form) as archive:
        for number in range(300):
            info = tarfile.TarInfo(f"{rng.choice(('', 'ü', 'd/' * 20, 'x' * 40, 'p/' * 33 + 'x' * 60))}{number}")
            info.type = rng.choice((*[tarfile.REGTYPE] * 5, tarfile.AREGTYPE, tarfile.DIRTYPE, tarfile.SYMTYPE))
            info.size = rng.choice((0, 1, 511, 512, 513)) if info.isreg() else 0
            archive.addfile(info, io.BytesIO(bytes(info.size)))
    with tarfile.open(path) as archive, open_blocks(path) as file:
        wanted = [(info.name, info.size) for info in archive if info.isfile()]
        assert [(m.name, m.size) for m in Tar().members(file)] == wanted
        assert len(wanted) > 200
