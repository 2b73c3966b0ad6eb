"""What a file is, from its name and place: a ROM, a save, part of a firmware, a setting."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable
from enum import StrEnum

from mosscrate.core.volumes import Entry, Kind


class FileKind(StrEnum):
    """What a restorer calls a file."""

    ROM = "ROM"
    SAVE = "save"
    FIRMWARE = "firmware file"
    SETTING = "setting"
    PICTURE = "picture"
    OTHER = "file"


_ENDINGS = {
    FileKind.SAVE: "sav srm sra eep fla mcr mcd gme dsv state st0 st1 st2 st3 brm nvmem nv hi sts",
    FileKind.ROM: "gb gbc gba nes fds sfc smc md gen smd sms gg pce sgx ngp ngc ws wsc a26 a52 a78 lnx vec col int "
                  "n64 z64 v64 nds cue chd iso pbp cso 32x sg adf hdf tap tzx d64 prg crt rom vb min",
    FileKind.FIRMWARE: "dtb dtbo ko uimage initrd img elf axf upd hex fw sys squashfs",
    FileKind.SETTING: "cfg ini conf toml json xml opt",
    FileKind.PICTURE: "png jpg jpeg bmp gif",
}
_BY_ENDING = {ending: kind for kind, endings in _ENDINGS.items() for ending in endings.split()}
_FIRMWARE_NAMES = {"zimage", "uimage", "vmlinuz", "kernel", "image", "bootlogo.bmp", "extlinux.conf", "boot.scr",
                   "command.com", "io.sys", "msdos.sys", "uenv.txt"}
_SAVE_FOLDERS = {"save", "saves", "savestates", "states", "battery", "sram", "memcards"}
SYSTEM_FOLDERS = frozenset((          # the trade's short codes; trees name them in many ways
    "gb", "gbc", "gba", "nes", "fds", "snes", "sfc", "md", "sms", "gg", "pce", "ngp", "ws", "wsc", "a26", "a78", "lynx",
    "vec", "col", "n64", "nds", "ps", "psx", "32x", "sg", "arcade", "c64", "roms", "games"))


def kind_of(entry: Entry) -> FileKind:
    """What a file is called at the bench."""
    *folders, name = entry.path.lower().split("/")
    ending = name.rpartition(".")[2] if "." in name else ""
    if name in _FIRMWARE_NAMES:
        return FileKind.FIRMWARE
    if SYSTEM_FOLDERS & set(folders) and ending in ("zip", "7z", "bin", "img"):
        return FileKind.ROM
    if ending in _BY_ENDING:
        return _BY_ENDING[ending]
    if _SAVE_FOLDERS & set(folders):
        return FileKind.SAVE
    return FileKind.OTHER


def count_kinds(entries: Iterable[Entry]) -> Counter[FileKind]:
    """How many files of each kind there are."""
    return Counter(kind_of(e) for e in entries if e.kind == Kind.FILE)
