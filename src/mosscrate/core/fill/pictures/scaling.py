"""A picture made as large as a plan wants it, its ratio kept; never enlarged.

Decoding and scaling are Pillow's; what is looked at first is the size that a picture says it has.
"""

from __future__ import annotations

import io
import warnings
from dataclasses import dataclass

from PIL import Image, ImageOps, UnidentifiedImageError

from mosscrate.core.errors import MediumError
from mosscrate.core.fill.plans import Pictures

LARGEST = 16 << 20                       # bytes of a file
MOST_POINTS = 40_000_000
ORIENTATION = 0x0112                     # EXIF 2.3, 4.6.4: how a camera was held
FORMATS = ("PNG", "JPEG", "BMP", "GIF", "WEBP")
WRITTEN = {"png": "PNG", "jpg": "JPEG", "jpeg": "JPEG", "bmp": "BMP"}
DAMAGES = (OSError, ValueError, SyntaxError, EOFError, KeyError, IndexError, OverflowError, MemoryError,
           UnidentifiedImageError, Image.DecompressionBombError)


@dataclass(frozen=True)
class Fit:
    """How large a picture is at most, in points, 0 for any, and of which kind."""

    width: int
    height: int
    kind: str

    @classmethod
    def of(cls, pictures: Pictures) -> Fit:
        """What a plan wants."""
        return cls(pictures.width, pictures.height, pictures.kind.casefold())

    @property
    def name(self) -> str:
        """For the name of a file."""
        return f"{self.width}x{self.height}.{self.kind}"


def scaled(data: bytes, fit: Fit, name: str) -> bytes:
    """The same picture as a plan wants it; the same bytes where it is so already. Raises MediumError by name."""
    if len(data) > LARGEST:
        raise MediumError(f"{name} is too large for a picture.")
    try:
        with warnings.catch_warnings(), Image.open(io.BytesIO(data), formats=FORMATS) as picture:
            warnings.simplefilter("ignore")
            if picture.width * picture.height > MOST_POINTS:
                raise MediumError(f"{name} says that it has {picture.width} × {picture.height} points. It is not "
                                  "opened.")
            share = _share(picture.size, fit)
            if share == 1.0 and picture.format == WRITTEN.get(fit.kind) and not _is_turned(picture):
                picture.load()
                return data
            return _made(picture, fit)
    except DAMAGES as error:
        raise MediumError(f"{name} is no picture that can be read: {error}") from error


def _made(picture: Image.Image, fit: Fit) -> bytes:
    if picture.format == "JPEG" and not _is_turned(picture):
        share = _share(picture.size, fit)
        picture.draft("RGB", (round(picture.width * share), round(picture.height * share)))
    turned = ImageOps.exif_transpose(picture)
    own = _plain(turned, has_alpha=fit.kind == "png")
    share = _share(own.size, fit)
    if share < 1.0:
        size = (max(1, round(own.width * share)), max(1, round(own.height * share)))
        own = own.resize(size, Image.Resampling.LANCZOS, reducing_gap=2.0)
    into = io.BytesIO()
    own.save(into, WRITTEN[fit.kind])
    return into.getvalue()


def _is_turned(picture: Image.Image) -> bool:
    return bool(picture.getexif().get(ORIENTATION, 1) != 1)


def _plain(picture: Image.Image, *, has_alpha: bool) -> Image.Image:
    """In true colours; what is transparent comes to stand on black where the kind has no transparency."""
    is_clear = picture.mode in ("RGBA", "LA", "PA") or "transparency" in picture.info
    if not is_clear:
        return picture.convert("RGB")
    clear = picture.convert("RGBA")
    if has_alpha:
        return clear
    ground = Image.new("RGB", clear.size)
    ground.paste(clear, mask=clear.getchannel("A"))
    return ground


def _share(size: tuple[int, int], fit: Fit) -> float:
    return min(1.0, fit.width / size[0] if fit.width else 1.0, fit.height / size[1] if fit.height else 1.0)
