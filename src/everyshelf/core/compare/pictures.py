"""Picture against picture, pixel by pixel: which region changed, what share of it, by how much; metadata apart."""

from __future__ import annotations

import base64
import io
from typing import Any

from everyshelf.core.answers.pictures import PictureAnswer, PictureRegion, PictureSide
from everyshelf.core.compare.result import Comparison
from everyshelf.core.formats.pictures import Picture, read_picture
from everyshelf.core.outline.model import Finding

_BAND = 256
_SHOWN_SIDE = 1_000  # of the difference picture


def compare_pictures(before: bytes, after: bytes) -> Comparison:
    """Size, format, pixels and metadata; raises ``UnreadableError``."""
    old, new = read_picture(before), read_picture(after)
    findings: list[Finding] = []
    sizes = [f"{p.width} × {p.height}" for p in (old, new)]
    picture = PictureAnswer(before=_side(old), after=_side(new), region=None, share=0.0)
    if sizes[0] != sizes[1]:
        findings.append(Finding("changed", "/", "picture", "size", "alters", "size", *sizes))
    else:
        seen = _difference(old, new)
        if seen is not None:
            region, picture.share, picture.strongest, picture.difference = seen
            picture.region = region
            where = f"{region.width} × {region.height} pixels from {region.x}, {region.y}"
            faint = "hardly to be seen, " if picture.strongest <= _FAINT else ""
            detail = f"{faint}{_percent(picture.share)} of the pixels, within {where}"
            findings.append(Finding("changed", "/", "picture", "pixels", "alters", "pixels", detail=detail))
    if old.format != new.format:
        findings.append(Finding("changed", "/", "picture", "format", "cosmetic", "format", old.format, new.format))
    if old.mode != new.mode:
        findings.append(
            Finding("changed", "/", "picture", "colour mode", "cosmetic", "colour mode", old.mode, new.mode)
        )
    for name in dict.fromkeys([*old.metadata, *new.metadata]):
        was, now = old.metadata.get(name), new.metadata.get(name)
        if was != now:
            action = "added" if was is None else "removed" if now is None else "changed"
            findings.append(Finding(action, f"/metadata:{name}", "metadata", name, "cosmetic", "value", was, now))  # type: ignore[arg-type]
    return Comparison("picture", findings, picture=picture)


_FAINT = 8  # of 255: what a new run of a lossy encoder does to a pixel


def _percent(share: float) -> str:
    return f"{share:.1%}" if share >= 0.001 else "less than 0.1 %"


def _side(picture: Picture) -> PictureSide:
    return PictureSide(width=picture.width, height=picture.height, format=picture.format, metadata=picture.metadata)


def _difference(old: Picture, new: Picture) -> tuple[PictureRegion, float, int, str] | None:
    """The smallest rectangle around all that differs, the share of pixels, the strongest difference, a picture of it.

    What is not seen because it is transparent in both does not differ.
    """
    import numpy as np

    strength = np.zeros((old.height, old.width), dtype=np.uint8)
    for top in range(0, old.height, _BAND):
        band = (0, top, old.width, min(top + _BAND, old.height))  # a band at a time: pixels are never held twice
        a, b = (np.asarray(p.pixels.crop(band).convert("RGBA")).astype(np.int16) for p in (old, new))
        apart = np.abs(a - b).max(axis=2).astype(np.uint8)
        apart[(a[..., 3] == 0) & (b[..., 3] == 0)] = 0
        strength[top : top + _BAND] = apart
    if not strength.any():
        return None
    rows, columns = np.flatnonzero(strength.any(axis=1)), np.flatnonzero(strength.any(axis=0))
    region = PictureRegion(
        x=int(columns[0]),
        y=int(rows[0]),
        width=int(columns[-1] - columns[0] + 1),
        height=int(rows[-1] - rows[0] + 1),
    )
    share = float(np.count_nonzero(strength)) / strength.size
    return region, share, int(strength.max()), _as_png(strength)


def _as_png(strength: Any) -> str:
    """Where and how much, as a data address (RFC 2397) of a PNG: transparent where nothing differs."""
    import numpy as np
    from PIL import Image

    height, width = strength.shape
    step = max(1, -(-max(height, width) // _SHOWN_SIDE))
    # Of each block the strongest pixel: a single changed pixel must not be lost by making the picture smaller.
    padded = np.pad(strength, ((0, -height % step), (0, -width % step)))
    small = padded.reshape(padded.shape[0] // step, step, padded.shape[1] // step, step).max(axis=(1, 3))
    shown = np.zeros((*small.shape, 2), dtype=np.uint8)
    shown[..., 1] = np.where(small > 0, np.maximum(small, 96), 0)
    out = io.BytesIO()
    Image.fromarray(shown, "LA").save(out, "PNG", optimize=True)
    return "data:image/png;base64," + base64.b64encode(out.getvalue()).decode()
