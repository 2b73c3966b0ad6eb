"""File-system code that is embedded in an RDB: brought from another one, or taken out."""

from __future__ import annotations

from typing import Annotated, ClassVar

from mosscrate.core.errors import FitError, FormatError
from mosscrate.core.maps import MapKind, PartitionMap, rdb, rdb_code
from mosscrate.core.sheet.asking import asked
from mosscrate.core.sheet.decision import Decision
from mosscrate.core.sheet.sights import Sight
from mosscrate.core.sheet.steps.map.changing import ChangesMap


class BringCode(ChangesMap, tag="bring code", frozen=True):
    """Copy the file-system code embedded in the RDB of the source into that of the target.

    `dos_type` as "0x50465303", "" for all.
    """

    dos_type: Annotated[str, asked("Only that of this DosType, such as 0x50465303.", flag="--type")] = ""

    command: ClassVar[str] = "code"
    needs_source: ClassVar[bool] = True
    reads_parts: ClassVar[bool] = True

    def decide(self, card: Sight, source: Sight | None = None) -> Decision:
        """See Step."""
        if source is None:
            raise FitError("Bringing file-system code over needs a source.")
        what = f"for {_name_of(self.dos_type)} " if self.dos_type else ""
        map_, names = _with_code_of(self.dos_type, source.map, card.map)
        return Decision(f"Bring the file-system code {what}of the source into the map of {card.name}", map=map_,
                        chosen=names)

    def said(self, decided: Decision, name: str) -> str:
        """See ChangesMap."""
        return f"The map holds the file-system code {', '.join(decided.chosen)} now."


class RemoveCode(ChangesMap, tag="remove code", frozen=True):
    """Take the embedded file-system code for a DosType out of an RDB."""

    dos_type: Annotated[str, asked("Such as 0x50465303.", is_first=True)]

    command: ClassVar[str] = "remove-code"
    is_undone_exactly: ClassVar[bool] = True

    def decide(self, card: Sight, source: Sight | None = None) -> Decision:
        """See Step."""
        _must_be_rdb(card.map)
        try:
            map_ = rdb_code.without_code(card.map, rdb.dos_type_of(self.dos_type))
        except FormatError as error:
            raise FitError(f"The embedded code cannot be followed: {error}") from error
        return Decision(f"Take the file-system code for {_name_of(self.dos_type)} out of the map of {card.name}", 0,
                        map=map_)

    def said(self, decided: Decision, name: str) -> str:
        """See ChangesMap."""
        return f"The file-system code for {_name_of(self.dos_type)} is out of the map."


def _with_code_of(dos_type: str, source: PartitionMap, map: PartitionMap) -> tuple[PartitionMap, tuple[str, ...]]:
    """The map with file-system code of another, and the names of what was brought. Raises FitError."""
    _must_be_rdb(source)
    _must_be_rdb(map)
    wanted = rdb.dos_type_of(dos_type) if dos_type else b""
    try:
        codes = [c for c in rdb_code.codes_in(source) if not wanted or c.dos_type == wanted]
        for code in codes:
            map = rdb_code.with_code(map, code)
    except FormatError as error:
        raise FitError(f"The embedded code cannot be followed: {error}") from error
    if not codes:
        raise FitError("The source's map has no file-system code embedded"
                       + (f" for {rdb.dos_type_name(wanted)}." if wanted else "."))
    return map, tuple(c.name for c in codes)


def _must_be_rdb(map: PartitionMap) -> None:
    if map.kind != MapKind.RDB or not map.origin:
        raise FitError("File-system code is embedded in an RDB only; both drives need one that is whole.")


def _name_of(dos_type: str) -> str:
    return rdb.dos_type_name(rdb.dos_type_of(dos_type))
