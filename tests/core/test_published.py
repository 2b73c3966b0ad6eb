"""Published checksums as they are found in the wild: forty forms of lists, right and wrong."""

from __future__ import annotations

import hashlib
from pathlib import Path

import pytest
from blake3 import blake3

from mosscrate.core.images.published import about, published_for

DATA, NAME = b"moss" * 1000, "card.img.gz"
SUM = {kind: hashlib.new(kind, DATA).hexdigest() for kind in ("md5", "sha1", "sha224", "sha256", "sha384", "sha512")}
SUM["b3"] = blake3(DATA).hexdigest()
LINE = f"{SUM['sha256']}  {NAME}\n"
SIGNED = f"-----BEGIN PGP SIGNED MESSAGE-----\nHash: SHA512\n\n{LINE}-----BEGIN PGP SIGNATURE-----\n\n{SUM['sha512']}\n"
FORMS: dict[str, tuple[str, bytes, str]] = {
    "as it is": ("SHA256SUMS", LINE.encode(), "sha256"),
    "binary": ("SHA256SUMS", LINE.replace("  ", " *").encode(), "sha256"),
    "lines of another system": ("SHA256SUMS", LINE.replace("\n", "\r\n").encode(), "sha256"),
    "byte order mark": ("SHA256SUMS", b"\xef\xbb\xbf" + LINE.encode(), "sha256"),
    "UTF-16": ("SHA256SUMS", LINE.encode("utf-16"), "sha256"),
    "UTF-16 without mark": ("SHA256SUMS", LINE.encode("utf-16-le"), "sha256"),
    "tab": ("SHA256SUMS", LINE.replace("  ", "\t").encode(), "sha256"),
    "many blanks": ("SHA256SUMS", LINE.replace("  ", "     ").encode(), "sha256"),
    "capitals": ("SHA256SUMS", LINE.replace(SUM["sha256"], SUM["sha256"].upper()).encode(), "sha256"),
    "in a folder": ("SHA256SUMS", LINE.replace(NAME, f"./release/{NAME}").encode(), "sha256"),
    "folders of another system": ("SHA256SUMS", LINE.replace(NAME, f"C:\\out\\{NAME}").encode(), "sha256"),
    "sha256.txt": ("sha256.txt", LINE.encode(), "sha256"), "sha256sum.txt": ("sha256sum.txt", LINE.encode(), "sha256"),
    "sha256sums.txt": ("sha256sums.txt", LINE.encode(), "sha256"), "sha256sum": ("sha256sum", LINE.encode(), "sha256"),
    "checksums.txt": ("checksums.txt", LINE.encode(), "sha256"), "CHECKSUM": ("CHECKSUM", LINE.encode(), "sha256"),
    "of a release": ("release-1.2_checksums.txt".replace("_", "."), LINE.encode(), "sha256"),
    "NAME.sha256": (f"{NAME}.sha256", LINE.encode(), "sha256"),
    "NAME.sha256 alone": (f"{NAME}.sha256", SUM["sha256"].encode(), "sha256"),
    "NAME.sha256.txt": (f"{NAME}.sha256.txt", SUM["sha256"].encode(), "sha256"),
    "NAME.sha256sum": (f"{NAME}.sha256sum", LINE.encode(), "sha256"),
    "NAME.SHA256SUMS": (f"{NAME}.SHA256SUMS", LINE.encode(), "sha256"),
    "signed": ("SHA256SUMS.asc", SIGNED.encode(), "sha256"), "signed inside": ("SHA256SUMS", SIGNED.encode(), "sha256"),
    "tagged": ("SHA256SUMS", f"SHA256 ({NAME}) = {SUM['sha256']}\n".encode(), "sha256"),
    "tagged closely": ("sums.txt", f"SHA256({NAME})= {SUM['sha256']}\n".encode(), "sha256"),
    "tagged otherwise": ("checksums.txt", f"SHA2-256 ({NAME}) = {SUM['sha256']}\n{LINE}".encode(), "sha256"),
    "in columns": ("checksums.txt", f"SHA256      {SUM['sha256'].upper()}     C:\\out\\{NAME}\n".encode(), "sha256"),
    "turned": ("checksums.txt", f"{NAME}: {SUM['sha256']}\n".encode(), "sha256"),
    "turned and named": ("checksums.txt", f"{NAME}: sha256:{SUM['sha256']}\n".encode(), "sha256"),
    "prefixed": ("checksums.txt", f"sha256:{SUM['sha256']}  {NAME}\n".encode(), "sha256"),
    "SHA-224": ("SHA224SUMS", f"{SUM['sha224']}  {NAME}\n".encode(), "sha224"),
    "SHA-384": (f"{NAME}.sha384", f"{SUM['sha384']}  {NAME}\n".encode(), "sha384"),
    "SHA-512": ("SHA512SUMS", f"{SUM['sha512']}  {NAME}\n".encode(), "sha512"),
    "SHA-1": (f"{NAME}.sha1", SUM["sha1"].encode(), "sha1"),
    "MD5": ("MD5SUMS", f"{SUM['md5']} *{NAME}".encode(), "md5"),
    "any, MD5": ("checksums.txt", f"{SUM['md5']}  {NAME}\n".encode(), "md5"),
    "any, SHA-512": ("hashes.txt", f"# made by hand\n{SUM['sha512']}  {NAME}\n".encode(), "sha512"),
    "BLAKE3": ("B3SUMS", f"{SUM['b3']}  {NAME}\n".encode(), "b3"),
    "BLAKE3 tagged": ("checksums.txt", f"BLAKE3 ({NAME}) = {SUM['b3']}\n".encode(), "b3")}


@pytest.mark.parametrize("form", FORMS)
def test_a_list_in_every_form_is_read_for_what_it_says(form, tmp_path):
    name, data, kind = FORMS[form]
    (tmp_path / NAME).write_bytes(DATA)
    (tmp_path / name).write_bytes(data)
    found = about(published_for(tmp_path / NAME), NAME)
    assert [(p.kind, p.digest) for p in found] == [(kind, SUM[kind])]
    assert about(published_for(tmp_path / NAME), "other.img") == ()


@pytest.mark.parametrize("line", [f"{SUM['sha256'][:60]}  {NAME}", f"SHA256 ({NAME}) = {SUM['sha256']}00",
                                  f"{SUM['sha256'][:40]}  {NAME}"])
def test_what_a_list_says_of_a_file_and_cannot_be_used_is_told(line, tmp_path):
    (tmp_path / NAME).write_bytes(DATA)
    (tmp_path / "SHA256SUMS").write_text(line + "\n")
    assert [p.digest for p in about(published_for(tmp_path / NAME), NAME)] == [""]


@pytest.mark.parametrize("name", ["read me.txt", "card.img", "notes.md", "sha256 of everything.doc", "signature.asc"])
def test_what_is_no_list_is_none(name, tmp_path: Path):
    (tmp_path / name).write_text(LINE)
    assert about(published_for(tmp_path / NAME), NAME) == ()
