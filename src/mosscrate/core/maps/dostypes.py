"""DosTypes of OFS and FFS: the last byte of "DOS" and a number, by the short names used here."""

from __future__ import annotations

DOS_TYPES = {"ofs": 0, "ffs": 1, "ofs-intl": 2, "ffs-intl": 3, "ofs-cache": 4, "ffs-cache": 5,
             "ofs-long": 6, "ffs-long": 7}
