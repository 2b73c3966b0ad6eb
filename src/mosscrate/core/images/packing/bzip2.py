"""bzip2: blocks without any size or index. Source: the published description of its makers (bzip2 1.0.8)."""

from __future__ import annotations

import bz2

from mosscrate.core.images.packing.stream import Packed, Unpacking, as_file

MAGIC = b"BZh"


class Bzip2(Packed):
    """See Packed."""

    kind = "bzip2"

    def begin(self, place: int) -> Unpacking:
        """See Packed."""
        return bz2.BZ2File(as_file(self.file))
