"""Changes of a card where it is, so that any of them can be finished or taken back after any interruption.

A job takes a card through states 0, 1 … n; a group of writes leads from one to the next. The journal has what each
group overwrote and marks of what it put there; its newest slot says in which states the card may be. The
file and the order of writing are in docs/formats/journal.md; `stack` is what the rest of the program calls.
"""

from mosscrate.core.sheet.running.journal.store import DiskFolder, Folder, StoredFile
from mosscrate.core.sheet.running.journal.structures import Standing

__all__ = ["DiskFolder", "Folder", "Standing", "StoredFile"]
