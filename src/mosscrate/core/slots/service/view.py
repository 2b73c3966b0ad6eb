"""What the service tells of drives and devices, as one picture of a moment."""

from __future__ import annotations

import os
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

Interfaces = Mapping[str, Mapping[str, tuple[str, Any]]]        # of one object: {interface: {property: (type, value)}}
_PREFIX = "org.freedesktop.UDisks2."
NOTHING = "/"                            # an address that leads nowhere


@dataclass(frozen=True)
class Drive:
    """A drive or a slot of a reader.

    Attributes:
        address: of its object.
        vendor, model, serial, bus: as the hardware says, "" where it says nothing.
        size: bytes of what is in it.
        has_changing_media: whether cards are put into it; the serial number is the reader's then.
        is_empty: whether nothing is in it.
        can_eject, can_power_off: what it can be asked for at the end.
        sibling: the same for all slots of one reader.
        order: that the service proposes.
    """

    address: str
    vendor: str = ""
    model: str = ""
    serial: str = ""
    bus: str = ""
    size: int = 0
    has_changing_media: bool = False
    is_empty: bool = False
    can_eject: bool = False
    can_power_off: bool = False
    sibling: str = ""
    order: str = ""

    @property
    def name(self) -> str:
        """Vendor and model."""
        return " ".join(filter(None, (self.vendor, self.model)))


@dataclass(frozen=True)
class Attached:
    """A block device: a whole drive, a partition, a loop, something unlocked or assembled.

    Attributes:
        address: of its object.
        path: of its device file.
        number: "major:minor".
        size: bytes.
        is_read_only: for everybody.
        is_ignored: the system's rules hide it from desktops.
        drive: address of its drive; NOTHING for none.
        table: address of the device whose map it is a partition of; "" for none.
        below: addresses of what it stands on: a locked device, a partition's disk.
        label: of its volume.
        mounts: where it is mounted.
        is_swap: whether the system swaps onto it.
        file: that a loop stands on.
    """

    address: str
    path: Path
    number: str
    size: int
    is_read_only: bool = False
    is_ignored: bool = False
    drive: str = NOTHING
    table: str = ""
    below: tuple[str, ...] = ()
    label: str = ""
    mounts: tuple[str, ...] = ()
    is_swap: bool = False
    file: str = ""


@dataclass(frozen=True)
class View:
    """Everything at one moment; the first view has nothing in it."""

    drives: Mapping[str, Drive]
    devices: tuple[Attached, ...] = ()

    def at(self, number: str) -> Attached | None:
        """The device of a number."""
        return next((device for device in self.devices if device.number == number), None)

    def drive_of(self, device: Attached | None) -> Drive | None:
        """The drive in which a device is."""
        return self.drives.get(device.drive) if device else None

    def family(self, device: Attached) -> tuple[Attached, ...]:
        """The device, its partitions, and all that stands on one of them."""
        found = [device]
        for member in found:
            found += [other for other in self.devices if member.address in other.below and other not in found]
        return tuple(found)

    def empty_slots(self) -> tuple[Drive, ...]:
        """Slots of readers in which nothing is, in their order."""
        slots = [drive for drive in self.drives.values() if drive.has_changing_media and drive.is_empty]
        return tuple(sorted(slots, key=lambda drive: (drive.sibling, drive.order, drive.address)))


def view_of(objects: Mapping[str, Interfaces]) -> View:
    """What GetManagedObjects of org.freedesktop.DBus.ObjectManager answered."""
    drives = {address: _drive(address, _Properties(interfaces, "Drive"))
              for address, interfaces in objects.items() if f"{_PREFIX}Drive" in interfaces}
    devices = tuple(_attached(address, interfaces) for address, interfaces in sorted(objects.items())
                    if f"{_PREFIX}Block" in interfaces)
    return View(drives, tuple(_with_members(devices, objects)))


class _Properties:
    """The properties of one interface; what is missing or of another type is taken for nothing."""

    def __init__(self, interfaces: Interfaces, name: str) -> None:
        self._values = interfaces.get(f"{_PREFIX}{name}", {})

    def text(self, name: str) -> str:
        value = self._value(name)
        if isinstance(value, bytes):
            return os.fsdecode(value.rstrip(b"\0"))
        return value.strip() if isinstance(value, str) else ""

    def number(self, name: str) -> int:
        value = self._value(name)
        return value if isinstance(value, int) else 0

    def truth(self, name: str) -> bool:
        return self._value(name) is True

    def texts(self, name: str) -> tuple[str, ...]:
        value = self._value(name)
        return tuple(os.fsdecode(bytes(item).rstrip(b"\0")) for item in value) if isinstance(value, list) else ()

    def _value(self, name: str) -> Any:  # noqa: ANN401 - whatever the bus carries
        return self._values.get(name, ("", None))[1]


def _drive(address: str, drive: _Properties) -> Drive:
    changing = drive.truth("MediaRemovable")
    return Drive(address, drive.text("Vendor"), drive.text("Model"), drive.text("Serial"), drive.text("ConnectionBus"),
                 drive.number("Size"), changing, changing and not drive.truth("MediaAvailable"),
                 drive.truth("Ejectable"), drive.truth("CanPowerOff"), drive.text("SiblingId"), drive.text("SortKey"))


def _attached(address: str, interfaces: Interfaces) -> Attached:
    block, volume = _Properties(interfaces, "Block"), _Properties(interfaces, "Filesystem")
    table = _Properties(interfaces, "Partition").text("Table")
    below = {table, block.text("CryptoBackingDevice")} - {"", NOTHING}
    number = block.number("DeviceNumber")
    return Attached(address, Path(block.text("Device")), f"{os.major(number)}:{os.minor(number)}",
                    block.number("Size"), block.truth("ReadOnly"), block.truth("HintIgnore"),
                    block.text("Drive") or NOTHING, table, tuple(sorted(below)), block.text("IdLabel"),
                    volume.texts("MountPoints"), _Properties(interfaces, "Swapspace").truth("Active"),
                    _Properties(interfaces, "Loop").text("BackingFile"))


def _with_members(devices: tuple[Attached, ...], objects: Mapping[str, Interfaces]) -> Iterator[Attached]:
    """The device of an array stands on its members, which name the array."""
    array = {device.address: _Properties(objects[device.address], "Block") for device in devices}
    for device in devices:
        own = array[device.address].text("MDRaid")
        members = tuple(other.address for other in devices
                        if own not in ("", NOTHING) and array[other.address].text("MDRaidMember") == own)
        yield replace(device, below=(*device.below, *members)) if members else device
