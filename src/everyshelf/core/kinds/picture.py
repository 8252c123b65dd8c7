"""Pictures: size, colours, and what the file says beside its pixels. The pixels themselves are compared as such."""

from __future__ import annotations

from everyshelf.core.formats.pictures import read_picture
from everyshelf.core.kinds.cosmetic import Cosmetic
from everyshelf.core.kinds.maker import Maker
from everyshelf.core.kinds.table import KindTable
from everyshelf.core.outline.model import Part

TABLE = KindTable(
    id="picture",
    cosmetic_types=(Cosmetic(frozenset({"metadata"}), "about the picture, not on it"),),
    unordered=frozenset({"metadata"}),
)


def read_pixels(data: bytes, table: KindTable) -> Part:
    """Size, format, colour mode and metadata; raises ``UnreadableError``."""
    picture = read_picture(data)
    maker = Maker(table)
    below = [maker.part("metadata", name, name, {"value": value}) for name, value in picture.metadata.items()]
    size = f"{picture.width} × {picture.height}"
    fields = {"size": size, "format": picture.format, "colour mode": picture.mode}
    return maker.part("picture", size, "", fields, below)
