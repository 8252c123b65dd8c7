"""What is cosmetic: a short list per kind, each entry with its reason and, where a name alone says too little, a rule.

Cosmetic is about those who use an artifact, not about those who write it. Only what a program makes by itself
(``made``: coordinates, counters, time stamps, outputs) is taken from one side when two people changed it; a
description or a colour is theirs alone.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from typing import Any

_PAIRS = (("x", "y"), ("left", "top"), ("positionX", "positionY"))
_NUMBER = re.compile(r"\s*[-+]?\d+(?:\.\d*)?(?:[eE][-+]?\d+)?(?:px|pt)?\s*")
_TIME = re.compile(r"\s*(?:\d{4}-?\d\d-?\d\d(?:[T ].*)?|\d{9,}(?:\.\d+)?|\w{3}, \d\d \w{3} \d{4}.*)\s*", re.DOTALL)
_OF_THE_FILE = ("meta", "metadata", "info")


@dataclass(frozen=True)
class Place:
    """A field about which is asked: its name, its values (None where it is missing), and what stands beside it.

    ``beside``: the other fields of the part, of both versions. ``holder``: the part's label; empty for the whole file.
    """

    name: str
    values: tuple[Any, ...]
    beside: Mapping[str, Any] = field(default_factory=dict)
    holder: str = ""


@dataclass(frozen=True)
class Cosmetic:
    """Names of fields or of parts that are cosmetic, and why; ``only_if``: where the name alone does not say so.

    ``made``: a program writes it by itself, so that merging may take a side's.
    """

    names: frozenset[str]
    reason: str
    made: bool = False
    only_if: Callable[[Place], bool] | None = None

    def covers(self, place: Place) -> bool:
        """Whether this entry makes that field cosmetic."""
        return place.name in self.names and (self.only_if is None or self.only_if(place))


def is_number(value: Any) -> bool:
    """True for a number, also one that is spelled in a text."""
    if isinstance(value, str):
        return _NUMBER.fullmatch(value) is not None
    return isinstance(value, int | float) and not isinstance(value, bool)


def has_coordinates(fields: Mapping[str, Any]) -> bool:
    """True where x and y, or left and top, stand together as numbers: something that is drawn."""
    return any(all(is_number(fields.get(name)) for name in pair) for pair in _PAIRS)


def _on_a_drawing(place: Place) -> bool:
    numbers = all(v is None or isinstance(v, bool) or is_number(v) for v in place.values)
    return numbers and has_coordinates(place.beside)


def _is_text(place: Place) -> bool:
    return all(v is None or isinstance(v, str) for v in place.values)


def _is_time(place: Place) -> bool:
    return all(v is None or _TIME.fullmatch(str(v)) is not None for v in place.values)


def _is_of_the_file(place: Place) -> bool:
    return not place.holder or place.holder in _OF_THE_FILE


def prose(*names: str, only_if: Callable[[Place], bool] | None = _is_text) -> Cosmetic:
    """Texts for people."""
    return Cosmetic(frozenset(names), "written for people: nothing acts on it", only_if=only_if)


_STATES = ["zIndex", "zoom", "collapsed", "expanded", "selected"]
GEOMETRY = Cosmetic(
    frozenset({*"xyz", "left", "top", "width", "height", "positionX", "positionY", "position", "size", *_STATES}),
    "numbers beside x and y, or left and top: where something is drawn",
    made=True,
    only_if=_on_a_drawing,
)
PROSE = prose("description", "doc", "documentation", "comment", "comments", "note", "notes")
LOOKS = Cosmetic(frozenset({"color", "colour", "icon"}), "how it looks", only_if=_is_text)
STAMPS = Cosmetic(
    frozenset(
        f"{verb}{ending}"
        for verb in ("saved", "modified", "updated", "exported", "generated")
        for ending in ("_at", "At")
    )
    | {"modified", "lastModified", "last_modified"},
    "times that the program writes when it saves",
    made=True,
    only_if=_is_time,
)
WRITER = Cosmetic(
    frozenset(["exporter", "exporterVersion", "editorVersion", "editor_version", "generator", "buildStamp"]),
    "the program that wrote the file, said of the whole file",
    made=True,
    only_if=_is_of_the_file,
)
DRAWING = Cosmetic(
    frozenset(["layout", "canvas", "viewport", "bounds", "waypoints", "diagram", "editor", "gui"]),
    "layout only",
    made=True,
)
STYLE = Cosmetic(frozenset({"style", "styles"}), "how it looks")
# What means nothing in any kind, and why.
EVERYWHERE = {
    "comments": "programs pass over them; a merge keeps them, and asks where both sides changed one",
    "the order of keys and of attributes": "maps have no order",
    "the order of elements of different names (XML)": "they are read by their names",
    "the order of elements that a name or an id tells apart (XML), where the kind does not know them": "as above",
    "an empty list, map, text or null against none at all": "readers take both for nothing",
    "a default that the format defines, spelled out (service descriptions: required: false)": "as without it",
    "white space inside a text of several words": "editors wrap and indent; where indentation is meaning, it counts",
    "how a number, a text or an element is spelled": "1.0 and 1, quotes, prefixes, encodings, line ends: one value",
}
FIELDS_OF_EDITORS = (GEOMETRY, PROSE, LOOKS, STAMPS, WRITER)


def is_drawn_at(name: str, value: Any, holder: Mapping[str, Any]) -> bool:
    """True for a group that only places something: a position of two numbers, a size beside a position."""
    if name == "position":
        return isinstance(value, list) and 2 <= len(value) <= 3 and all(is_number(v) for v in value)
    if name != "size" or not isinstance(value, dict) or not value.keys() <= {"width", "height", "w", "h"}:
        return False
    at = holder.get("position")
    placed = has_coordinates(at) if isinstance(at, dict) else is_drawn_at("position", at, {})
    return all(is_number(v) for v in value.values()) and (placed or has_coordinates(holder))
