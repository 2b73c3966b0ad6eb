"""Where sectors live: image files, block devices, cards with faults; and views on them.

What reads or writes bytes at an offset belongs here; what the bytes mean does not.
"""

from mosscrate.core.blocks.base import Blocks, Extent
from mosscrate.core.blocks.file import FileBlocks, begun_image, create_image, open_blocks, reopen_image
from mosscrate.core.blocks.memory import MemoryBlocks, Nothing
from mosscrate.core.blocks.overlay import Overlay
from mosscrate.core.blocks.window import Longer, Window

__all__ = ["Blocks", "Extent", "FileBlocks", "Longer", "MemoryBlocks", "Nothing", "Overlay", "Window", "begun_image",
           "create_image", "open_blocks", "reopen_image"]
