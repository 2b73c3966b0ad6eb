"""A job sheet: the media as they were when it was planned, and the steps in order."""

from __future__ import annotations

from pathlib import Path

import msgspec

from mosscrate.core.contents.fingerprint import fingerprint
from mosscrate.core.durable import write_whole
from mosscrate.core.errors import JobError
from mosscrate.core.sheet.steps import AnyStep
from mosscrate.core.slots import Medium

FORMAT = 1


class MediumRef(msgspec.Struct, frozen=True):
    """A medium as it was planned for; the guard compares it with what is there when the sheet runs.

    A backup is named by its id and has no path: crates may be moved.
    """

    name: str
    path: str
    size: int
    key: str
    tag: str
    fingerprint: str
    backup: str = ""


class JobSheet(msgspec.Struct, frozen=True):
    """What will be done. A sheet without a source works on the target alone, and the other way round."""

    steps: tuple[AnyStep, ...]
    source: MediumRef | None = None
    target: MediumRef | None = None
    format: int = FORMAT


_SHEETS = msgspec.json.Decoder(JobSheet)


def reference(medium: Medium) -> MediumRef:
    """Note a medium as it is now. Raises MediumError."""
    with medium.open_to_look() as blocks:
        return MediumRef(medium.name, "" if medium.backup else medium.address, blocks.size, medium.key, medium.tag,
                         fingerprint(blocks).hex(), medium.backup)


def save_sheet(sheet: JobSheet, path: Path) -> None:
    """Write a sheet as JSON, where nothing is or in the place of another sheet. Raises JobError."""
    if path.is_symlink() or path.exists():
        if path.is_symlink() or not path.is_file():
            raise JobError(f"{path} is no ordinary file. Choose another name for the sheet; nothing was written.")
        try:
            load_sheet(path)
        except JobError as error:
            raise JobError(f"{path} is there already and is no job sheet. Choose another name; nothing was written.") \
                from error
    try:
        write_whole(path, msgspec.json.format(msgspec.json.encode(sheet), indent=2))
    except OSError as error:
        raise JobError(f"The sheet cannot be saved as {path}: {error.strerror}.") from error


def load_sheet(path: Path) -> JobSheet:
    """Read a sheet. Raises JobError that names the file and what was expected."""
    try:
        sheet = _SHEETS.decode(path.read_bytes())
    except (OSError, ValueError) as error:
        raise JobError(f"The job sheet {path} cannot be used: {error}") from error
    if sheet.format != FORMAT:
        raise JobError(f"The job sheet {path} is of format {sheet.format}; this program knows {FORMAT}.")
    return sheet
