"""Where a device is: sftp://user@host:port/folder, and what is usual where a part of it is left out."""

from __future__ import annotations

import re
from dataclasses import dataclass

from blake3 import blake3

from mosscrate.core.contents.identity import tag_of
from mosscrate.core.errors import MediumError
from mosscrate.core.images.kept.manifest import CardRecord

PORT = 22
DEVICE_MODEL = "device on the network"   # what stands for the model of the card in records
_ADDRESS = re.compile(r"(?:sftp://)?(?:([^@/\s]+)@)?(\[[0-9a-fA-F:.%]+\]|[\w.-]+)(?::(\d{1,5}))?(/\S.*|/)?", re.UNICODE)


@dataclass(frozen=True)
class Address:
    """A device and the folder of it that is meant; "" for the user's own folder there."""

    user: str
    host: str
    port: int = PORT
    folder: str = ""

    @classmethod
    def parse(cls, text: str, *, user: str = "") -> Address:
        """From what a person writes. Raises MediumError."""
        found = _ADDRESS.fullmatch(text.strip())
        port = int(found[3] or PORT) if found else 0
        if found is None or not 0 < port < 1 << 16 or found[2].startswith("-"):
            raise MediumError(f"“{text[:80]}” is no address of a device; write it as sftp://user@host/folder.")
        return cls(found[1] or user, found[2].strip("[]"), port, (found[4] or "").rstrip("/") or found[4] or "")

    @property
    def server(self) -> str:
        """By what its host key is remembered."""
        return f"{self.host.casefold()}:{self.port}"

    @property
    def card(self) -> CardRecord:
        """Its lane in the crate, one for each user; the size is not known yet."""
        key = self.keys[0]
        return CardRecord(f"{self.host}{self.folder}", key, tag_of(key), 0, DEVICE_MODEL)

    @property
    def keys(self) -> tuple[str, str]:
        """Keys of the lanes in which its backups lie: its own, and the one that users shared once."""
        own, shared = (blake3(f"device {user}{self.server}{self.folder}".encode()).hexdigest(8)
                       for user in (f"{self.user}@", ""))
        return own, shared

    def __str__(self) -> str:
        host = f"[{self.host}]" if ":" in self.host else self.host
        port = f":{self.port}" if self.port != PORT else ""
        return f"sftp://{f'{self.user}@' if self.user else ''}{host}{port}{self.folder}"
