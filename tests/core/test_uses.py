"""Which drives are the computer's own, in whatever stacking, and what a card is in use for."""

from __future__ import annotations

import pytest

from mosscrate.core.slots import sysfs
from mosscrate.core.slots.service import Drive
from tests.computers import Computer

# (computer, what is offered with why it must not be written)
PLAIN = "fixed sda sda1 sda2\n mount sda1 /\n reader sdb sdb1\n"
COMPUTERS = {
    "one disk": (PLAIN, {"sdb": ""}),
    "nothing attached": ("fixed sda sda1\nmount sda1 /", {}),
    "a disk that is not mounted stays inside": (PLAIN + "fixed sdc sdc1", {"sdb": ""}),
    "a stick": (PLAIN + "usb sdc sdc1", {"sdb": "", "sdc": ""}),
    "a card in a slot of the board": (PLAIN + "sd mmcblk0 mmcblk0p1", {"sdb": "", "mmcblk0": ""}),
    "a card without a map": (PLAIN + "reader sdc", {"sdb": "", "sdc": ""}),
    "a mounted card": (PLAIN + "mount sdb1 /media/x", {"sdb": "mounted at /media/x through sdb1"}),
    "a card mounted as a whole": (PLAIN + "reader sdc\nmount sdc /media/y", {"sdb": "", "sdc": "mounted at /media/y"}),
    "a card mounted where others cannot see it": (
        PLAIN + "mount sdb1 /run/x hidden",
        {"sdb": "mounted at /run/x through sdb1"}),
    "a card of which only the service knows": (
        PLAIN + "told mount sdb1 /media/z",
        {"sdb": "mounted at /media/z through sdb1"}),
    "a place with blanks": (PLAIN + "mount sdb1 /media/my\\040card", {"sdb": "mounted at /media/my card through sdb1"}),
    "a second mount of the same card": (
        PLAIN + "mount sdb1 /media/x\nmount sdb1 /mnt",
        {"sdb": "mounted at /media/x through sdb1"}),
    "the system on a stick": ("usb sdb sdb1\nmount sdb1 /\nreader sdc", {"sdc": ""}),
    "the system on a card": ("sd mmcblk0 mmcblk0p1 mmcblk0p2\nmount mmcblk0p2 /\nreader sda", {"sda": ""}),
    "the boot partition on a card": (
        "fixed sda sda1\nmount sda1 /\nsd mmcblk0 mmcblk0p1\nmount mmcblk0p1 /boot/efi",
        {}),
    "home on a stick": (PLAIN + "usb sdc sdc1\nmount sdc1 /home", {"sdb": ""}),
    "a live system": ("reader sda sda1\nmount sda1 /run/live/medium\nreader sdb", {"sdb": ""}),
    "a live system out of a loop": (
        "reader sda sda1\nmount sda1 /cdrom\nloop loop0 /cdrom/x.squashfs\nmount loop0 /\nreader sdb",
        {"sdb": ""}),
    "unlocked": ("usb sda sda1\nmapped dm-0 as luks-1 on sda1\nmount dm-0 /\nreader sdb", {"sdb": ""}),
    "a group of volumes over two disks": (
        "usb sda sda1\nusb sdb sdb1\nmapped dm-0 as vg-root on sda1 sdb1\nmount dm-0 /\nreader sdc",
        {"sdc": ""}),
    "a group in something unlocked": (
        "usb sda sda1\nmapped dm-0 on sda1\nmapped dm-1 as vg-root on dm-0\nmount dm-1 /\nreader sdb",
        {"sdb": ""}),
    "a mirror": ("usb sda sda1\nusb sdb sdb1\nmapped md0 on sda1 sdb1\nmount md0 /\nreader sdc", {"sdc": ""}),
    "a mirror, locked, a group": (
        "usb sda sda1\nusb sdb sdb1\nmapped md127 on sda1 sdb1\nmapped dm-0 on md127\n"
        "mapped dm-1 as vg-home on dm-0\nmount dm-1 /home\nreader sdc",
        {"sdc": ""}),
    "a partitioned mirror": (
        "usb sda\nusb sdb\nmapped md0 on sda sdb\nmapped dm-3 on md0\nmount dm-3 /var\nreader sdc",
        {"sdc": ""}),
    "a cache before a disk": (
        "usb sda sda1\nusb sdb sdb1\nmapped bcache0 on sda1 sdb1\nmount bcache0 /\nreader sdc",
        {"sdc": ""}),
    "two ways to one disk": (
        "usb sda\nusb sdb\nmapped dm-0 as mpatha on sda sdb\nmount dm-0 /\nreader sdc",
        {"sdc": ""}),
    "a file system with a number of its own": ("usb sda sda1\nmount sda1 / without number\nreader sdb", {"sdb": ""}),
    "the same over two disks": (
        "usb sda sda1\nusb sdb sdb1\ntogether sda1 sdb1\nmount sda1 / without number\nreader sdc",
        {"sdc": ""}),
    "the same in something unlocked": (
        "usb sda sda1\nmapped dm-0 as luks-9 on sda1\nmount luks-9 / without number\nreader sdb",
        {"sdb": ""}),
    "a subvolume of it on a card": (
        PLAIN + "mount sdb1 /media/x without number",
        {"sdb": "mounted at /media/x through sdb1"}),
    "swap on a stick": (PLAIN + "usb sdc sdc1\nswap sdc1", {"sdb": ""}),
    "swap on a mapped device": (PLAIN + "usb sdc sdc1\nmapped dm-0 as crypt-swap on sdc1\nswap dm-0", {"sdb": ""}),
    "a swap file on a stick": (PLAIN + "usb sdc sdc1\nmount sdc1 /mnt/fast\nswap /mnt/fast/swap.img", {"sdb": ""}),
    "swap in memory": (PLAIN + "zram zram0\nswap zram0", {"sdb": ""}),
    "swap in memory that overflows onto a stick": (PLAIN + "usb sdc sdc1\nzram zram0 on sdc1\nswap zram0", {"sdb": ""}),
    "swap of which only the service knows": (PLAIN + "usb sdc sdc1\ntold swap sdc1", {"sdb": ""}),
    "a root of which only the service knows": ("usb sda sda1\nreader sdb\ntold mount sda1 /", {"sdb": ""}),
    "stacking of which only the service knows": (
        "usb sda sda1\nfixed sdc\nreader sdb\ntold sdc on sda1\nmount sdc /",
        {"sdb": ""}),
    "a card that was unlocked": (PLAIN + "mapped dm-0 as luks-2 on sdb1", {"sdb": "used by a mapped device"}),
    "a card that was unlocked and mounted": (
        PLAIN + "mapped dm-0 as luks-2 on sdb1\nmount dm-0 /media/secret",
        {"sdb": "mounted at /media/secret through dm-0"}),
    "a card in an array": (
        PLAIN + "reader sdc\nmapped md5 on sdb1 sdc",
        {"sdb": "used by a mapped device", "sdc": "used by a mapped device"}),
    "a loop over a card": (PLAIN + "loop loop0 /dev/sdb", {"sdb": "the loop device loop0 stands on it", "loop0": ""}),
    "a loop over an image": (PLAIN + "loop loop0 /home/x/card.img", {"sdb": "", "loop0": ""}),
    "an empty slot beside a card": (PLAIN + "reader sdc", {"sdb": "", "sdc": ""}),
}


@pytest.mark.parametrize("case", COMPUTERS)
def test_own_disks_are_never_offered_and_every_card_is(tmp_path, case):
    lines, offered = COMPUTERS[case]
    system = Computer(tmp_path, lines).system
    assert {medium.path.name: medium.in_use for medium in sysfs.media(system)} == offered


def test_a_card_is_told_with_what_its_reader_says(tmp_path):
    system = Computer(tmp_path, f"""{PLAIN}
        fact sdb ro 1
        fact sdb device/model Card Reader
        reader sdc
        fact sdc size 0
        fact sdc device/model Second slot""").system
    (card,) = sysfs.media(system)
    assert (card.name, card.size, card.is_write_protected) == ("Card Reader", 8192 * 512, True)
    assert [slot.reader for slot in sysfs.empty_slots(system)] == ["Second slot"]
    own = tmp_path / "dev/sda1"
    assert sysfs.in_use(own, system) == "it belongs to this computer"


def test_a_number_that_belongs_to_a_reader_is_no_number_of_a_card(tmp_path):
    computer = Computer(tmp_path, f"{PLAIN} usb sdc sdc1\n told mount sdb1 /media/x\n told mount sdc1 /media/y")
    for name, changing in (("sdb", True), ("sdc", False)):
        device = computer.tell(name, drive=f"/drive/{name}")
        computer.drives[device.drive] = Drive(device.drive, "Wren", "Two", "N-1", has_changing_media=changing)
    assert {m.path.name: (m.name, m.serial) for m in sysfs.media(computer.system)} == {
        "sdb": ("Wren Two", ""), "sdc": ("Wren Two", "N-1")}
