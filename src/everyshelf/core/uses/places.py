"""Who uses what: where one artifact names another, and which of its parts.

A reference is exact where a field whose business it is names the other file (a step's ``run``, a ``path``); a file name
inside any other text is a guess and marked as one.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from pathlib import PurePosixPath

from everyshelf.core.answers.uses import UsePlace, WantedPart
from everyshelf.core.outline.model import Part, child_path

# Kinds that can name others; tables and pictures cannot.
NAMING_KINDS = frozenset({"pipeline", "workflow", "app", "notebook", "tests", "api", "script", "settings", "report"})
# Those that can also offer something by name, or link to files.
LINKED_KINDS = NAMING_KINDS | {"database", "spreadsheet", "document"}
# fmt: off
EXACT_FIELDS = frozenset({
    "run", "path", "file", "href", "src", "source", "dataset", "table", "model", "pipeline", "workflow",
    "script", "input", "output", "uri", "url", "calledElement", "decisionRef", "requires", "location",
    "default",
})
# fmt: on
_MOST_PARTS = 20_000
_WIRED_TYPES = ("input", "output")


def may_name(data: bytes, target: str) -> bool:
    """True if the bytes of a file hold the target's file name at all: cheap, before anything is read."""
    return PurePosixPath(target).name.encode() in data


def uses_of(root: Part, wanted: Sequence[WantedPart]) -> list[list[UsePlace]]:
    """For each wanted part the places below ``root`` that use it; empty where the artifact is not named at all."""
    if not wanted:
        return []
    target = wanted[0].target
    parts = list(parts_of(root, ""))
    naming = [(path, part, exact) for path, part in parts if (exact := _names(part, target)) is not None]
    if not naming:
        return [[] for _ in wanted]
    return [_uses(parts, naming, one) for one in wanted]


def parts_of(part: Part, path: str = "", budget: list[int] | None = None) -> Iterator[tuple[str, Part]]:
    """Path and part of everything, ``part`` itself first, up to a bound."""
    budget = budget if budget is not None else [_MOST_PARTS]
    yield path or "/", part
    for place, child in enumerate(part.children(), 1):
        budget[0] -= 1
        if budget[0] < 0:
            return
        key = child.key or str(child.fields.get("id") or child.fields.get("name") or f"#{place}")
        here = child_path(path.rpartition("/")[0] if part.through else path, child, key)
        yield from parts_of(child, here, budget)


def _names(part: Part, target: str) -> bool | None:
    """True if a field of its own names the target, False if some text seems to, None if nothing does."""
    found: bool | None = None
    name = PurePosixPath(target).name
    for field, value in part.fields.items():
        if not isinstance(value, str) or name not in value:
            continue
        bare = value.removeprefix("file://").removeprefix("./").removeprefix("../").partition("#")[0]
        if bare in (name, target) or target.endswith(f"/{bare}") or bare.endswith(f"/{target}"):
            if field in EXACT_FIELDS or field == "value":
                return True
            found = found or False
        elif re.search(rf"(?<![\w.-]){re.escape(name)}(?![\w-])", value):
            found = found or False
    return found


def _uses(parts: list[tuple[str, Part]], naming: list[tuple[str, Part, bool]], wanted: WantedPart) -> list[UsePlace]:
    if wanted.came:
        return [UsePlace(path, said_of(path, part), exact) for path, part, exact in naming]
    wired = _wired(parts, naming, wanted) if wanted.type in _WIRED_TYPES else None
    if wired is not None:
        return wired
    exactly = {path for path, _, exact in naming if exact}
    word = re.compile(rf"(?<![\w]){re.escape(wanted.name)}(?![\w])")
    found = []
    for path, part in parts:
        texts = [part.key or "", *(v for v in part.fields.values() if isinstance(v, str))]
        if any(word.search(text) for text in texts):
            found.append(UsePlace(path, said_of(path, part), path in exactly))
    return _innermost(found)


def said_of(path: str, part: Part) -> str:
    """The part's label; that of mere settings together with what they belong to."""
    if part.type != "group" or path.count("/") < 2:
        return part.label
    return f"{path.rpartition('/')[0].rpartition('/')[2].partition(':')[2]}, {part.label}"


def _wired(
    parts: list[tuple[str, Part]], naming: list[tuple[str, Part, bool]], wanted: WantedPart
) -> list[UsePlace] | None:
    """Steps that run the target: the source they give that input, or whoever takes that output. None for other uses."""
    steps = [(path, part) for path, part, exact in naming if exact and part.type == "step" and "run" in part.fields]
    if not steps:
        return None
    found: list[UsePlace] = []
    for path, part in steps:
        if wanted.type == "input":
            found += [
                UsePlace(here, child.label, True)
                for here, child in parts_of(part, path)
                if child.type == "source" and child.key == wanted.name
            ]
        else:
            taken = f"{part.key}/{wanted.name}"
            found += [
                UsePlace(here, other.label, True)
                for here, other in parts
                if any(isinstance(v, str) and taken in v.replace(",", " ").split() for v in other.fields.values())
            ]
    return found


def _innermost(uses: list[UsePlace]) -> list[UsePlace]:
    """Without places that merely contain another place that was found."""
    places = {use.place for use in uses}
    return [u for u in uses if not any(p != u.place and p.startswith(f"{u.place.rstrip('/')}/") for p in places)]
