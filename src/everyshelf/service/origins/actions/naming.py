"""Which part of an outline people mean: by its path, a field by the path of its part, or a part by its label."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

from everyshelf.core.answers.outlines import OutlineAnswer, PartAnswer
from everyshelf.core.errors import InvalidError
from everyshelf.core.history.names import did_you_mean, nearest
from everyshelf.core.origins.sheets import cell_places, row_place
from everyshelf.core.origins.steps import Places
from everyshelf.service.origins.actions.telling import missing_part

_NAMED = 5


@dataclass(frozen=True)
class Meant:
    """A part by its places from the root down, and the field of it that is meant, if one is."""

    path: str
    type: str
    label: str
    places: Places
    field: str | None = None


def part_meant(path: str, outline: OutlineAnswer, wanted: str) -> Meant:
    """The part of the artifact at ``path`` that ``wanted`` names; raises ``MissingError``, or ``InvalidError`` where it
    names several."""
    if wanted in ("", "/"):
        return Meant("/", outline.kind, path.rpartition("/")[2], [])
    if not wanted.startswith("/"):
        return _by_label(path, outline, wanted)
    if wanted[1:] in (outline.fields or {}):
        return Meant("/", outline.kind, "", [], wanted[1:])
    for part, places in _walked(outline.parts, []):
        if part.path == wanted:
            return Meant(part.path, part.type, part.label, places)
        if not wanted.startswith(f"{part.path}/"):
            continue
        rest = wanted[len(part.path) + 1 :]
        if rest in part.fields:
            return Meant(part.path, part.type, part.label, places, rest)
        if part.type == "sheet" and (below := _in_sheet(rest)) is not None:
            return Meant(wanted, rest.partition(":")[0], rest.partition(":")[2], [*places, *below])
    raise missing_part(path, wanted)


def _in_sheet(rest: str) -> Places | None:
    word, _, name = rest.partition(":")
    if word == "cell":
        return cell_places(name)
    return [row_place(int(name))] if word == "row" and name.isdecimal() and len(name) < 8 else None


def _by_label(path: str, outline: OutlineAnswer, label: str) -> Meant:
    parts = list(_walked(outline.parts, []))
    found = [(part, places) for part, places in parts if part.label == label]
    outmost = min((len(places) for _, places in found), default=0)
    found = [(part, places) for part, places in found if len(places) == outmost]
    if len(found) == 1:
        part, places = found[0]
        return Meant(part.path, part.type, part.label, places)
    if not found:
        labels = list(dict.fromkeys(part.label for part, _ in parts))
        error = missing_part(path, label)
        error.hint = f"{did_you_mean(nearest(label, labels))}{error.hint}"
        raise error
    paths = ", ".join(part.path for part, _ in found[:_NAMED])
    raise InvalidError(
        f"{path} has {len(found)} parts called {label!r}", code="part.several", hint=f"Name one by its path: {paths}"
    )


def _walked(parts: list[PartAnswer], above: Places) -> Iterator[tuple[PartAnswer, Places]]:
    for place, part in enumerate(parts):
        here = [*above, place]
        yield part, here
        yield from _walked(part.parts, here)
