"""Real readers and drives, from the kernel's own tree of block devices and what the disk service knows of them.

Source: the kernel's Documentation/ABI/stable/sysfs-block. The computer's own disks are left out: those on which its
system lives (`uses`), and fixed disks that are neither on USB nor in a card slot.
"""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

from mosscrate.core.slots.kernel_tree import number_in, text_in
from mosscrate.core.slots.medium import Medium, Source
from mosscrate.core.slots.service import Drive
from mosscrate.core.slots.uses import System

_SKIPPED = ("ram", "zram", "dm-", "md", "sr", "fd", "nbd", "zd", "bcache")


@dataclass(frozen=True)
class EmptySlot:
    """A slot of a reader in which nothing is."""

    reader: str


def media(system: System) -> list[Medium]:
    """Every reader and drive that may be offered, with what speaks against writing to it."""
    return [_medium(system, number, folder) for number, folder in system.devices.items()
            if _is_whole(folder) and _is_offered(folder) and not _is_hidden(system, number)
            and not system.is_own(number)]


def empty_slots(system: System) -> list[EmptySlot]:
    """Slots of readers that wait for a card."""
    told = [EmptySlot(drive.name or "Card reader") for drive in system.view.empty_slots()]
    if told or system.view.devices:
        return told
    folders = sorted((system.tree.sys / "block").iterdir()) if (system.tree.sys / "block").is_dir() else []
    return [EmptySlot(_model(folder) or folder.name) for folder in folders
            if _is_whole(folder) and number_in(folder / "removable") == 1 and number_in(folder / "size") == 0
            and not (folder / "loop").is_dir()]


def in_use(device: Path, system: System) -> str:
    """Why a device, named by path, must not be written: "" when nothing speaks against it."""
    number = system.number_at(device)
    if system.is_own(number):
        return "it belongs to this computer"
    return _use(system, number) if number in system.devices else ""


def _use(system: System, number: str) -> str:
    return system.of(system.storage(number), system.tree.dev / system.devices[number].name)


def _medium(system: System, number: str, folder: Path) -> Medium:
    device = system.view.at(number)
    drive = system.view.drive_of(device)
    backing = text_in(folder / "loop/backing_file")
    name = _model(folder) or text_in(folder / "device/name") or (drive.name if drive else "") or (
        Path(backing).name if backing else folder.name)
    return Medium(name, system.tree.dev / folder.name, number_in(folder / "size") * 512, Source.READER,
                  _model(folder) or (drive.name if drive else ""), _serial(folder, drive),
                  f"loop over {backing}" if backing else f"{folder.name}",
                  number_in(folder / "removable") == 1,
                  number_in(folder / "ro") == 1 or bool(device and device.is_read_only), _use(system, number))


def _serial(folder: Path, drive: Drive | None) -> str:
    """Of the card or drive itself: where cards are put in and out, the drive's serial number is the reader's."""
    own = text_in(folder / "device/cid") or text_in(folder / "device/serial")
    return own or (drive.serial if drive and not drive.has_changing_media else "")


def _model(folder: Path) -> str:
    return " ".join(filter(None, (text_in(folder / "device/vendor"), text_in(folder / "device/model"))))


def _is_whole(folder: Path) -> bool:
    return not folder.name.startswith(_SKIPPED) and not (folder / "partition").exists()


def _is_hidden(system: System, number: str) -> bool:
    """Whether the system's rules keep a device from desktops; loops over files are offered all the same."""
    device = system.view.at(number)
    return bool(device and device.is_ignored and not device.file)


def _is_offered(folder: Path) -> bool:
    """Removable, in a card slot, on USB, or a loop over a file."""
    if number_in(folder / "removable") == 1 or (folder / "loop/backing_file").exists():
        return True
    chain = str(folder.resolve())
    return "/usb" in chain or text_in(folder / "device/type") == "SD"
