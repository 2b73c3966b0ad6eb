"""`crate device` in a shell."""

from __future__ import annotations

import io
import json
import sys

import pytest

from mosscrate.demo.device import FILES, PASSWORD, StandIn, fill


@pytest.fixture
def stand_in(tmp_path):
    fill(tmp_path / "device")
    with StandIn(tmp_path / "device") as running:
        yield running


def test_a_device_is_kept_looked_through_and_given_its_saves_back(cli, bench, stand_in, monkeypatch):
    """Its key is shown and trusted by its fingerprint, the password is asked for; nothing of it is kept."""
    def says(line: str) -> None:
        monkeypatch.setattr(sys, "stdin", io.StringIO(line))

    says("")
    assert "No device was used here yet" in cli("crate", "device")[1]
    code, _, err = cli("crate", "device", "keep", stand_in.address)
    assert (code, stand_in.fingerprint in err) == (1, True)
    code, _, err = cli("crate", "device", "keep", stand_in.address, "--trust", "SHA256:another")
    assert (code, "is not known here" in err) == (1, True)
    code, _, err = cli("crate", "device", "keep", stand_in.address, "--trust", stand_in.fingerprint)
    assert (code, "does not let player in with the keys at hand" in err) == (1, True)
    says("wrong\n")
    assert "with that password" in cli("crate", "device", "keep", stand_in.address)[2]
    says(f"{PASSWORD}\n")
    code, out, _ = cli("crate", "device", "keep", stand_in.address, "--json")
    kept = json.loads(out)
    assert (code, kept["fetched"], kept["changed"]) == (0, sum(FILES.values()), [])
    assert json.loads(cli("crate", "device", "--json")[1]) == [str(stand_in.address)]
    assert "Velvet Weaver.srm" in cli("files", kept["image"], "-p", "1")[1]
    (stand_in.folder / "saves" / "Velvet Weaver.srm").write_bytes(b"further on")
    says(f"{PASSWORD}\n")
    out = cli("crate", "device", "bring", kept["id"], stand_in.address, "--path", "saves")[1]
    assert out == ("1 file brought back; 1 file that was there kept beside, under a dated name; 2 files were the same "
                   "already.\n")
    assert cli("crate", "device", "bring", kept["id"], stand_in.address, "--path", "nowhere")[0] == 1
    assert PASSWORD not in "".join(p.read_text(errors="replace") for p in bench.state.rglob("*") if p.is_file())
    assert "is forgotten" in cli("crate", "device", "forget", stand_in.address)[1]
    says(f"{PASSWORD}\n")
    assert "is not known here" in cli("crate", "device", "keep", stand_in.address)[2]
    assert cli("crate", "device", "keep", "no address")[0] == 1
