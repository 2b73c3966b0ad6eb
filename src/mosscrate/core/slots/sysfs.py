"""Real readers and drives, from the kernel's own tree of block devices.

Source: the kernel's Documentation/ABI/stable/sysfs-block and proc(5). The computer's own disks are
left out: those that carry its root, boot or swap, directly or through a mapped device, and fixed
disks that are neither on USB nor in a card slot.
"""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

from mosscrate.core.slots.kernel_tree import Tree, lines_of, number_in, text_in
from mosscrate.core.slots.medium import Medium, Source

_OWN_PLACES = ("/", "/boot", "/boot/efi", "/usr", "/var", "/home", "/etc")
_SKIPPED = ("ram", "zram", "dm-", "md", "sr", "fd", "nbd", "zd")


def media(tree: Tree | None = None) -> list[Medium]:
    """Every reader and drive that may be offered, with what speaks against writing to it."""
    tree = tree or Tree()
    mounts, swaps = dict(_mounts(tree)), set(_swaps(tree))
    found = []
    for folder in sorted((tree.sys / "block").iterdir()) if (tree.sys / "block").is_dir() else []:
        if folder.name.startswith(_SKIPPED) or number_in(folder / "size") == 0:
            continue
        names = _family(tree, folder)
        places = sorted({place for name in names for place in mounts.get(name, ())})
        is_own = any(place in _OWN_PLACES for place in places) or bool(names & swaps)
        if not is_own and _is_offered(folder):
            found.append(_medium(tree, folder, places, is_held=len(names) > len(_parts(folder)) + 1))
    return found


def own_disks(tree: Tree | None = None) -> set[str]:
    """Names of devices that belong to the computer, partitions and mapped devices included."""
    tree = tree or Tree()
    mounts, swaps = dict(_mounts(tree)), set(_swaps(tree))
    own: set[str] = set()
    for folder in (tree.sys / "block").iterdir() if (tree.sys / "block").is_dir() else []:
        names = _family(tree, folder)
        if names & swaps or any(place in _OWN_PLACES for n in names for place in mounts.get(n, ())):
            own |= names
    return own


def in_use(device: Path, tree: Tree | None = None) -> str:
    """Why a device, named by path, must not be written: "" when nothing speaks against it."""
    tree = tree or Tree()
    name = device.resolve().name
    if name in own_disks(tree):
        return "it belongs to this computer"
    mounts, swaps = dict(_mounts(tree)), set(_swaps(tree))
    folder = tree.sys / "block" / name
    names = _family(tree, folder) if folder.is_dir() else {name}
    places = [place for n in sorted(names) for place in mounts.get(n, ())]
    if places:
        return f"mounted at {places[0]}"
    return "used as swap" if names & swaps else ""


def _medium(tree: Tree, folder: Path, places: list[str], *, is_held: bool) -> Medium:
    model = " ".join(filter(None, (text_in(folder / "device/vendor"), text_in(folder / "device/model"))))
    backing = text_in(folder / "loop/backing_file")
    name = model or text_in(folder / "device/name") or (Path(backing).name if backing else folder.name)
    use = f"mounted at {places[0]}" if places else "used by a mapped device" if is_held else ""
    return Medium(name, tree.dev / folder.name, number_in(folder / "size") * 512, Source.READER,
                  model, text_in(folder / "device/serial") or text_in(folder / "device/cid"),
                  f"loop over {backing}" if backing else f"{folder.name}",
                  number_in(folder / "removable") == 1, number_in(folder / "ro") == 1, use)


def _is_offered(folder: Path) -> bool:
    """Removable, in a card slot, on USB, or a loop over a file."""
    if number_in(folder / "removable") == 1 or (folder / "loop/backing_file").exists():
        return True
    chain = str(folder.resolve())
    return "/usb" in chain or text_in(folder / "device/type") == "SD"


def _family(tree: Tree, folder: Path) -> set[str]:
    """The device, its partitions, and every mapped device that stands on one of them."""
    names = {folder.name, *_parts(folder)}
    queue = [folder, *(folder / part for part in _parts(folder))]
    for place in queue:
        holders = place / "holders"
        for holder in holders.iterdir() if holders.is_dir() else ():
            if holder.name not in names:
                names.add(holder.name)
                queue.append(tree.sys / "block" / holder.name)
    return names


def _parts(folder: Path) -> list[str]:
    return [p.name for p in folder.iterdir() if (p / "partition").exists()]


def _mounts(tree: Tree) -> Iterator[tuple[str, tuple[str, ...]]]:
    """(device name, places); the root's device is found by number where the table says /dev/root."""
    table: dict[str, list[str]] = {}
    numbers = {text_in(f / "dev"): f.name for f in (tree.sys / "block").glob("*")}
    numbers |= {text_in(f): f.parent.name for f in (tree.sys / "block").glob("*/*/dev")}
    for line in lines_of(tree.proc / "self/mountinfo"):
        fields = line.split()
        tail = fields.index("-") if "-" in fields else len(fields) - 3
        device = Path(fields[tail + 2]).name if fields[tail + 2].startswith("/") else ""
        place = fields[4].replace("\\040", " ")
        for name in {numbers.get(fields[2], ""), device} - {""}:
            table.setdefault(name, []).append(place)
    for name, places in table.items():
        yield name, tuple(places)


def _swaps(tree: Tree) -> Iterator[str]:
    for line in lines_of(tree.proc / "swaps")[1:]:
        yield Path(line.split()[0]).name
