"""Pictures: both sides, the region that differs, and a picture of the difference."""

from __future__ import annotations

from everyshelf.core.answers.base import Answer


class PictureSide(Answer):
    """One version: its size in pixels, its format and what is said about it in the file."""

    width: int
    height: int
    format: str
    metadata: dict[str, str]


class PictureRegion(Answer):
    """A rectangle in pixels, from the upper left corner."""

    x: int
    y: int
    width: int
    height: int


class PictureAnswer(Answer):
    """Two versions of a picture. ``region``: the smallest rectangle around all that differs; ``share`` of the pixels;
    ``strongest`` difference of one pixel, from 0 to 255; ``difference``: a picture of it as a data address (RFC 2397).
    """

    before: PictureSide
    after: PictureSide
    region: PictureRegion | None
    share: float
    strongest: int | None = None
    difference: str | None = None
