"""Files in archives: what is unpacked is what was packed, or a sentence says that it is damaged."""

from __future__ import annotations

import random
import zipfile

import pytest

from benches.archives import write_7z
from mosscrate.core.contents.members import members
from mosscrate.core.errors import MediumError
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
