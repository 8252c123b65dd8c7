"""Pictures (PNG, JPEG and what else Pillow reads): their pixels and, apart from them, what the file says beside."""

from __future__ import annotations

import io
import warnings
from dataclasses import dataclass
from typing import Any

from everyshelf.core.errors import UnreadableError

MOST_PIXELS = 40_000_000  # four bytes each, twice, stay within what a reading process may hold
_MOST_TEXT = 300
_TURNED = 0x0112  # EXIF: how the picture is to be turned
_FORMATS = ("PNG", "JPEG", "GIF", "WEBP", "BMP", "TIFF")


@dataclass
class Picture:
    """Width and height in pixels, the pixels as the file holds them, and what it says beside them."""

    width: int
    height: int
    format: str
    mode: str
    pixels: Any
    metadata: dict[str, str]


def read_picture(data: bytes) -> Picture:
    """The picture as it is shown, turned as its metadata says; raises ``UnreadableError``."""
    from PIL import Image, ImageOps, UnidentifiedImageError

    Image.MAX_IMAGE_PIXELS = None  # the size is looked at here, before a pixel is read
    try:
        with warnings.catch_warnings(), Image.open(io.BytesIO(data), formats=_FORMATS) as image:
            warnings.simplefilter("ignore")
            if image.width * image.height > MOST_PIXELS:
                raise UnreadableError(f"it claims {image.width:,} × {image.height:,} pixels, more than are read")
            metadata, form, mode = _metadata(image), image.format or "", image.mode
            image.load()
            shown = ImageOps.exif_transpose(image) if image.getexif().get(_TURNED, 1) != 1 else image.copy()
            return Picture(shown.width, shown.height, form, mode, _in_bytes(shown), metadata)
    except UnreadableError:
        raise
    except UnidentifiedImageError as error:
        raise UnreadableError("it cannot be shown: its beginning is broken") from error
    except Exception as error:  # the decoders raise whatever a broken file leads them to
        raise UnreadableError(f"it cannot be shown: {str(error)[:200] or type(error).__name__}") from error


def _in_bytes(image: Any) -> Any:
    """The picture itself, or one of 8 bits where it holds more: what a screen shows of it."""
    if image.mode.startswith(("I", "F")):
        return image.convert("I").point(lambda value: value * (1 / 256)).convert("L")
    return image


def _metadata(image: Any) -> dict[str, str]:
    from PIL.ExifTags import TAGS

    found: dict[str, str] = {}
    for key, value in image.info.items():
        if key in ("exif", "icc_profile", "photoshop", "xmp"):
            found["colour profile" if key == "icc_profile" else key] = f"{len(value):,} bytes, {_digest(value)}"
        elif key != "transparency":
            found[str(key)] = str(value)[:_MOST_TEXT]
    for tag, value in image.getexif().items():
        found[str(TAGS.get(tag, tag))] = str(value)[:_MOST_TEXT]
    if "exif" in found and len(found) > 1:
        del found["exif"]
    return found


def _digest(value: Any) -> str:
    from blake3 import blake3

    return blake3(value if isinstance(value, bytes) else str(value).encode()).hexdigest(8)
