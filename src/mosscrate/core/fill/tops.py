"""The names under which things are brought in."""

from __future__ import annotations

from pathlib import Path, PurePosixPath

from mosscrate.core.fill.origins import Origin


class Tops:
    """The names under which things are brought in, so that no two files have one path: sheets find theirs by it."""

    def __init__(self) -> None:
        self._taken: dict[str, Path] = {}

    def of_folder(self, folder: Path) -> PurePosixPath:
        """Its name; where another one has that, with as many folders above it as tell them apart."""
        parts = folder.absolute().parts[1:]
        tops = (PurePosixPath(*parts[-depth:]) for depth in range(1, len(parts) + 1))
        return next((top for top in tops if self._claims(top, folder)), PurePosixPath(*parts))

    def of_loose_files(self, folder: Path) -> PurePosixPath:
        """Nothing for files out of one folder; the name of theirs for those out of others."""
        return PurePosixPath() if self._claims(PurePosixPath(), folder) else self.of_folder(folder)

    def of_archive(self, place: PurePosixPath, archive: Origin) -> PurePosixPath:
        """Its path without the ending, where nothing else is called so."""
        bare = place.with_suffix("")
        is_free = not Path(archive.said).with_suffix("").is_dir() and self._claims(bare, Path(archive.said))
        return bare if is_free else place

    def _claims(self, top: PurePosixPath, owner: Path) -> bool:
        return self._taken.setdefault(str(top).casefold(), owner) == owner
