"""A real Linux kernel in a plain machine emulator, asked what it makes of images.

The stock kernel and a static busybox come as Debian packages; they are unpacked, not installed.
Images are attached as virtio disks (/dev/vda, /dev/vdb ...). A script runs as the first process;
what it prints goes through a second serial port into a file. `is_available` says whether the
emulator is here; without it the tests are skipped with that word.
"""

from __future__ import annotations

import lzma
import os
import re
import shutil
import stat
import subprocess
import tempfile
from collections.abc import Iterable
from contextlib import contextmanager
from dataclasses import dataclass
from fcntl import LOCK_EX, flock
from pathlib import Path

EMULATOR = "qemu-system-x86_64"
MODULES = ("virtio_pci", "virtio_blk", "crc32c_generic", "vfat", "msdos", "nls_cp437", "nls_iso8859-1", "nls_utf8",
           "nls_ascii", "exfat", "ext4", "affs", "hfs", "mac-roman")
CACHE = Path(os.environ.get("XDG_CACHE_HOME", Path.home() / ".cache")) / "mosscrate-tests"
RECIPE = "6"                       # another one builds the cache anew
FORMATS = {".vhd": "vpc", ".qcow2": "qcow2"}
INIT = r"""#!/bin/busybox sh
/bin/busybox mkdir -p /proc /sys /dev /mnt /tmp
/bin/busybox --install -s /bin
export PATH=/bin
mount -t proc none /proc; mount -t sysfs none /sys; mount -t devtmpfs none /dev
for m in $(cat /modules/order); do insmod /modules/$m; done
exec >/dev/ttyS1 2>&1
stty -opost </dev/ttyS1
dmesg -c >/dev/null
list() {        # folder: kind|size|time|path of everything, then the MD5 of every file
    cd $1
    find . -mindepth 1 -print0 | xargs -0 -r stat -c '%F|%s|%Y|%n'
    find . -type f -print0 | xargs -0 -r md5sum
    cd /
}
. /job/script.sh
echo "@kernel"; dmesg
echo "@end"
sync
poweroff -f
"""


class MachineError(Exception):
    """The machine did not come to the end of its script."""


@dataclass(frozen=True)
class Outcome:
    """What a script printed, cut at its lines `@name`."""

    parts: dict[str, list[str]]

    def tree(self, name: str) -> dict[str, tuple[str, int, int, str]]:
        """path: (kind, size, time, MD5) from a part that `list` printed."""
        found: dict[str, tuple[str, int, int, str]] = {}
        for line in self.parts[name]:
            if digest := re.fullmatch(r"([0-9a-f]{32})  \./(.*)", line):
                kind, size, when, _ = found[digest[2]]
                found[digest[2]] = (kind, size, when, digest[1])
            else:
                kind, size, when, path = line.split("|", 3)
                kind = {"directory": "folder", "symbolic link": "link"}.get(kind, "file")
                found[path[2:]] = (kind, int(size) if kind == "file" else 0, int(when), "")
        return found


def is_available() -> bool:
    """Whether a machine can be started here."""
    return shutil.which(EMULATOR) is not None and shutil.which("dpkg-deb") is not None


def run(script: str, disks: Iterable[Path], *, timeout: float = 240) -> Outcome:
    """Boot, run a shell script with the images attached (writable), shut down."""
    kernel, base = _prepared()
    with tempfile.TemporaryDirectory(prefix="mosscrate-machine-") as folder:
        ramdisk, out = Path(folder) / "initramfs", Path(folder) / "out"
        ramdisk.write_bytes(base.read_bytes() + _cpio({"job/script.sh": script.encode()}))
        command = [EMULATOR, "-machine", "q35,accel=tcg", "-m", "512", "-nodefaults", "-no-reboot", "-display",
                   "none", "-kernel", str(kernel), "-initrd", str(ramdisk),
                   "-append", "console=ttyS0 panic=-1 quiet mitigations=off",
                   "-serial", f"file:{folder}/console", "-serial", f"file:{out}"]
        for number, disk in enumerate(disks):
            kind = FORMATS.get(disk.suffix, "raw")
            command += ["-drive", f"file={disk},format={kind},if=none,id=d{number},cache=unsafe",
                        "-device", f"virtio-blk-pci,drive=d{number}"]
        done = subprocess.run(command, timeout=timeout, capture_output=True, text=True, check=False)
        text = out.read_text(errors="surrogateescape") if out.exists() else ""
        if "@end" not in text:
            console = Path(folder, "console").read_text(errors="replace")[-2000:]
            raise MachineError(f"{done.stderr}\n{text[-2000:]}\n{console}")
    return Outcome(_cut(text))


def _cut(text: str) -> dict[str, list[str]]:
    parts: dict[str, list[str]] = {}
    lines: list[str] = []
    for line in text.splitlines():
        if line.startswith("@"):
            lines = parts.setdefault(line[1:], [])
        else:
            lines.append(line)
    return parts


def _prepared() -> tuple[Path, Path]:
    """Kernel and base of the initramfs, fetched and built once."""
    CACHE.mkdir(parents=True, exist_ok=True)
    kernel, base = CACHE / f"kernel-{RECIPE}", CACHE / f"initramfs-{RECIPE}"
    with _locked():
        if not (kernel.exists() and base.exists()):
            with tempfile.TemporaryDirectory(prefix="mosscrate-fetch-") as folder:
                _build(Path(folder), kernel, base)
    return kernel, base


@contextmanager
def _locked():
    with (CACHE / "lock").open("w") as handle:
        flock(handle, LOCK_EX)
        yield


def _build(work: Path, kernel: Path, base: Path) -> None:
    depends = subprocess.run(["apt-cache", "depends", "linux-image-amd64"], capture_output=True, text=True, check=True)
    image = re.findall(r"Depends: (linux-image-\S+-amd64)$", depends.stdout, re.MULTILINE)[0]
    subprocess.run(["apt-get", "download", "-qq", image, "busybox-static"], cwd=work, check=True, capture_output=True)
    for package in work.glob("*.deb"):
        subprocess.run(["dpkg-deb", "-x", package, work / "root"], check=True, capture_output=True)
    found = {p.name.split(".ko")[0].replace("-", "_"): p for p in (work / "root").rglob("*.ko*")}
    files: dict[str, bytes] = {"init": INIT.encode(),
                               "bin/busybox": next(work.rglob("root/**/bin/busybox")).read_bytes()}
    order: list[str] = []
    for module in MODULES:
        _add_module(module.replace("-", "_"), found, files, order)
    files["modules/order"] = "\n".join(order).encode()
    base.write_bytes(_cpio(files))
    shutil.copy(next((work / "root" / "boot").glob("vmlinuz-*")), kernel)


def _add_module(name: str, found: dict[str, Path], files: dict[str, bytes], order: list[str]) -> None:
    """A module after those that it says it depends on; what is built in has no file."""
    if f"{name}.ko" in order or name not in found:
        return
    data = found[name].read_bytes()
    if found[name].suffix == ".xz":
        data = lzma.decompress(data)
    depends = re.search(rb"\0depends=([^\0]*)\0", data)
    for other in depends[1].decode().split(",") if depends and depends[1] else ():
        _add_module(other.replace("-", "_"), found, files, order)
    files[f"modules/{name}.ko"] = data
    order.append(f"{name}.ko")


def _cpio(files: dict[str, bytes]) -> bytes:
    """A "newc" archive, as the kernel's Documentation/driver-api/early-userspace describes it."""
    folders = sorted({parent for name in files for parent in _parents(name)})
    out = bytearray()
    entries = [(f, b"", stat.S_IFDIR | 0o755) for f in folders]
    entries += [(n, d, stat.S_IFREG | 0o755) for n, d in files.items()]
    for number, (name, data, mode) in enumerate([*entries, ("TRAILER!!!", b"", 0)], start=1):
        raw = name.encode() + b"\0"
        fields = (number, mode, 0, 0, 1, 0, len(data), 0, 0, 0, 0, len(raw), 0)
        out += b"070701" + b"".join(f"{field:08x}".encode() for field in fields) + raw
        out += bytes(-len(out) % 4) + data
        out += bytes(-len(out) % 4)
    return bytes(out)


def _parents(name: str) -> list[str]:
    parts = name.split("/")[:-1]
    return ["/".join(parts[:k + 1]) for k in range(len(parts))]
