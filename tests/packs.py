"""Archives around a disk, made by libraries, by the system's own tools, and for rar by hand (stored, version 4)."""

from __future__ import annotations

import bz2
import gzip
import io
import lzma
import shutil
import struct
import subprocess
import tarfile
import zipfile
import zlib
from binascii import crc32
from collections.abc import Callable, Mapping
from pathlib import Path

import xz
from backports import zstd
from inflate64 import Deflater

from benches.archives import write_7z

CHECKED = {zstd.CompressionParameter.compression_level: 1, zstd.CompressionParameter.checksum_flag: 1}
Packer = Callable[[Path, bytes], Path]


def _bytes(name: str, pack: Callable[[bytes], bytes]) -> Packer:
    def packed(folder: Path, disk: bytes) -> Path:
        path = folder / name
        path.write_bytes(pack(disk))
        return path
    return packed


def xz_in_blocks(disk: bytes, block: int = 1 << 20) -> bytes:
    """Blocks of their own, and two streams behind one another."""
    into = io.BytesIO()
    with xz.open(into, "wb") as file:
        for at in range(0, len(disk), block):
            if at == len(disk) // 2 // block * block:
                file.change_stream()
            elif at:
                file.change_block()
            file.write(disk[at:at + block])
    return into.getvalue()


def frames(disk: bytes, frame: int = 1 << 20) -> bytes:
    """Zstandard frames, each with its size, and one to be skipped between them."""
    packed = [zstd.compress(disk[at:at + frame], 1) for at in range(0, len(disk), frame)]
    return packed[0] + struct.pack("<II", 0x184D2A53, 5) + b"notes" + b"".join(packed[1:])


def without_size(disk: bytes) -> bytes:
    """Zstandard as a pipe gives it, with a window of 1 GiB."""
    packer = zstd.ZstdCompressor(options={zstd.CompressionParameter.window_log: 30,
                                          zstd.CompressionParameter.enable_long_distance_matching: 1})
    return packer.compress(disk[:1000]) + packer.compress(disk[1000:]) + packer.flush()


def zipped(kind: int, *, name: str = "release/card.img") -> Callable[[bytes], bytes]:
    """A zip with the disk, a note beside it, and droppings of a desktop."""
    def pack(disk: bytes) -> bytes:
        into = io.BytesIO()
        with zipfile.ZipFile(into, "w", kind) as archive:
            archive.writestr("read me.txt", "write it to a card")
            archive.writestr("__MACOSX/._card.img", bytes(9000))
            about = zipfile.ZipInfo(name)
            about.compress_type = kind                   # the archive's own counts for names alone
            with archive.open(about, "w", force_zip64=True) as file:
                file.write(disk)
        return into.getvalue()
    return pack


def deflated_64(disk: bytes) -> bytes:
    """A zip whose only member is packed by method 9, written by hand (APPNOTE 4.3.7 and behind)."""
    packer = Deflater()
    data, name = packer.deflate(disk) + packer.flush(), b"card.img"
    about = struct.pack("<HHHHHIIIHH", 21, 0, 9, 0, 0x5A21, crc32(disk), len(data), len(disk), len(name), 0)
    local = b"PK\x03\x04" + about + name + data
    central = b"PK\x01\x02" + struct.pack("<H", 21) + about + struct.pack("<HHHII", 0, 0, 0, 0, 0) + name
    return local + central + b"PK\x05\x06" + struct.pack("<HHHHIIH", 0, 0, 1, 1, len(central), len(local), 0)


def seven(filter: str = "lzma2", name: str = "card.img") -> Packer:
    """A 7z by the system's library."""
    def packed(folder: Path, disk: bytes) -> Path:
        path = folder / "card.7z"
        write_7z(path, {"read me.txt": b"a note", name: disk}, filter)
        return path
    return packed


def seven_coded(coder: bytes, properties: bytes, data: bytes, size: int) -> bytes:
    """A 7z of one member behind a coder of one's choice, by the format's own description (7zFormat.txt)."""
    def number(n: int) -> bytes:
        return bytes([n]) if n < 0x80 else b"\xff" + struct.pack("<Q", n)
    name = b"\0" + "card.img\0".encode("utf-16-le")
    own = bytes([len(coder) | (0x20 if properties else 0)]) + coder + (
        number(len(properties)) + properties if properties else b"")
    head = (b"\x01\x04" + b"\x06" + number(0) + number(1) + b"\x09" + number(len(data)) + b"\0"
            + b"\x07\x0b" + number(1) + b"\0" + number(1) + own + b"\x0c" + number(size) + b"\0"
            + b"\x08\x0a\x01" + struct.pack("<I", zlib.crc32(data)) + b"\0\0"
            + b"\x05" + number(1) + b"\x11" + number(len(name)) + name + b"\0\0")
    start = struct.pack("<QQI", len(data), len(head), zlib.crc32(head))
    return b"7z\xbc\xaf\x27\x1c\0\x04" + struct.pack("<I", zlib.crc32(start)) + start + data + head


def tarred(mode: str, suffix: str) -> Packer:
    """A tar with a note in front of the disk."""
    def packed(folder: Path, disk: bytes) -> Path:
        path = folder / f"card.tar{suffix}"
        with tarfile.open(path, mode) as archive:
            for name, data in (("read me.txt", b"a note"), ("release/card.img", disk)):
                info = tarfile.TarInfo(name)
                info.size = len(data)
                archive.addfile(info, io.BytesIO(data))
        return path
    return packed


def sparse_tar(folder: Path, disk: bytes) -> Path:
    """By the system's tar, which leaves the holes out."""
    image = folder / "card.img"
    with image.open("wb") as file:
        file.truncate(len(disk))
        for at in range(0, len(disk), 4096):
            if any(disk[at:at + 4096]):
                file.seek(at)
                file.write(disk[at:at + 4096])
    subprocess.run(["tar", "-C", folder, "-cSf", folder / "card.tar", "card.img"], check=True)
    image.unlink()
    return folder / "card.tar"


def cut_up(path: Path, form: str, count: int) -> Path:
    """A file in parts; the whole one is gone."""
    data = path.read_bytes()
    size = -(-len(data) // count)
    for k in range(count):
        (path.parent / form.format(path.name, k + 1)).write_bytes(data[k * size:(k + 1) * size])
    path.unlink()
    return path.parent / form.format(path.name, 1)


def split_zip(folder: Path, disk: bytes) -> Path:
    """In parts, by the system's zip."""
    (folder / "card.img").write_bytes(disk)
    subprocess.run(["zip", "-q", "-0", "-s", "10m", "card.zip", "card.img"], cwd=folder, check=True)
    (folder / "card.img").unlink()
    return folder / "card.zip"


def has_zip() -> bool:
    """Whether the system's zip is there."""
    return shutil.which("zip") is not None


def _rar_block(kind: int, flags: int, body: bytes) -> bytes:
    head = struct.pack("<BHH", kind, flags, 7 + len(body)) + body
    return struct.pack("<H", zlib.crc32(head) & 0xFFFF) + head


def _rar_file(name: bytes, piece: bytes, size: int, crc: int, flags: int = 0) -> bytes:
    about = struct.pack("<IIBIIBBHI", len(piece), size, 3, crc, 0x5A21_0000, 20, 0x30, len(name), 0o100644)
    return _rar_block(0x74, 0x8000 | flags, about + name) + piece


def _rar(content: bytes, volume: int = 0, is_followed: int = 0) -> bytes:
    end = _rar_block(0x7B, 0x4000 | is_followed, b"")
    return b"Rar!\x1a\x07\x00" + _rar_block(0x73, volume, bytes(6)) + content + end


def rar(folder: Path, disk: bytes, count: int = 1) -> Path:
    """Stored, in one or several volumes: marker, archive head, file head, data, end."""
    size = -(-len(disk) // count)
    for k in range(count):
        piece, goes_on = disk[k * size:(k + 1) * size], k + 1 < count
        data = _rar_file(b"card.img", piece, len(disk), crc32(piece if goes_on else disk), (k > 0) | goes_on << 1)
        (folder / (f"card.part{k + 1}.rar" if count > 1 else "card.rar")).write_bytes(
            _rar(data, 0x11 | (k == 0) << 8 if count > 1 else 0, goes_on))
    return folder / ("card.part1.rar" if count > 1 else "card.rar")


def write_rar(path: Path, members: Mapping[str, bytes]) -> None:
    """Files that are stored in one rar, a folder in front of them."""
    folder = _rar_block(0x74, 0xE0, struct.pack("<IIBIIBBHI", 0, 0, 3, 0, 0x5A21_0000, 20, 0x30, 1, 0o40755) + b"d")
    path.write_bytes(_rar(folder + b"".join(_rar_file(name.encode(), data, len(data), crc32(data))
                                            for name, data in members.items())))


PACKERS: dict[str, Packer] = {
    "gz": _bytes("card.img.gz", lambda d: gzip.compress(d, 1)),
    "gz of two members": _bytes("card.img.gz", lambda d: gzip.compress(d[:777], 1) + gzip.compress(d[777:], 1)),
    "xz": _bytes("card.img.xz", lambda d: lzma.compress(d, preset=0)),
    "xz in blocks": _bytes("card.img.xz", xz_in_blocks),
    "bz2": _bytes("card.img.bz2", lambda d: bz2.compress(d, 1)),
    "zst": _bytes("card.img.zst", lambda d: zstd.compress(d, options=CHECKED)),
    "zst in frames": _bytes("card.img.zst", frames),
    "zst of a pipe": _bytes("card.img.zst", without_size),
    "zip": _bytes("card.zip", zipped(zipfile.ZIP_DEFLATED)),
    "zip, stored": _bytes("card.zip", zipped(zipfile.ZIP_STORED)),
    "zip, bzip2": _bytes("card.zip", zipped(zipfile.ZIP_BZIP2)),
    "zip, lzma": _bytes("card.zip", zipped(zipfile.ZIP_LZMA)),
    "zip, Deflate64": _bytes("card.zip", deflated_64),
    "7z": seven(), "7z, deflate": seven("deflate"),
    "tar": tarred("w", ""), "tar.xz": tarred("w:xz", ".xz"), "tar.gz": tarred("w:gz", ".gz"),
    "sparse tar": sparse_tar,
    "rar": rar, "rar in volumes": lambda folder, disk: rar(folder, disk, 3),
    "raw in parts": lambda folder, disk: cut_up(_bytes("card.img", bytes)(folder, disk), "{}.{:03}", 3),
    "7z in parts": lambda folder, disk: cut_up(seven()(folder, disk), "{}.{:03}", 3),
    "gz in parts": lambda folder, disk: cut_up(PACKERS["gz"](folder, disk), "{}.{:03}", 4),
    "xz in a zip": _bytes("card.zip", lambda d: zipped(zipfile.ZIP_STORED, name="card.img.xz")(
        lzma.compress(d, preset=0))),
    "zip in a 7z": lambda folder, disk: seven(name="card.zip")(folder, zipped(zipfile.ZIP_DEFLATED)(disk)),
    "xz in a gz": _bytes("card.img.xz.gz", lambda d: gzip.compress(lzma.compress(d, preset=0), 1)),
    "zst in a bz2": _bytes("card.img.zst.bz2", lambda d: bz2.compress(zstd.compress(d, 1), 1)),
    "zip in a gz": _bytes("card.zip.gz", lambda d: gzip.compress(zipped(zipfile.ZIP_DEFLATED)(d), 1)),
}
if has_zip():
    PACKERS["zip in parts"] = split_zip
