"""Conflicts told as the kind tells its parts: the path, type and label that a comparison would show."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable

from everyshelf.core.merge.model import NOTHING, Conflict
from everyshelf.core.outline.model import Outline, Part, child_path


class PartNames:
    """Where the outlines of a kind have what the merge found: by the last key of its path."""

    def __init__(self, outlines: Iterable[Outline]) -> None:
        self._found: dict[str, dict[str, tuple[str, Part]]] = defaultdict(dict)
        for outline in outlines:
            self._walk(outline.root, "", 0)

    def _walk(self, part: Part, path: str, depth: int) -> None:
        if depth > 40:
            return
        places: dict[str, int] = defaultdict(int)
        for child in part.children():
            places[child.type] += 1
            ids = [child.key, *(child.fields.get(n) for n in ("id", "key", "code", "name", "path"))]
            known = [str(k) for k in ids if isinstance(k, str | int) and str(k)]
            here = child_path(path, child, known[0] if known else f"#{places[child.type]}")
            for key in [*known, f"{child.type}:#{places[child.type]}"]:
                self._found[key].setdefault(here, (here, child))
            self._walk(child, path if child.through else here, depth + 1)

    def told(self, conflict: Conflict) -> None:
        """Give the conflict the part's path, type and label, where exactly one part of the outline is meant."""
        path, below = conflict.part, ""
        if conflict.field is not None:
            conflict.field = _field_of(conflict.field)
        while path and path != "/":
            head, _, last = path.rpartition("/")
            part_type, _, key = last.partition(":")
            found = self._found.get(key.replace("%2F", "/")) or self._found.get(f"{part_type}:{key}") or {}
            if len(found) == 1:
                where, part = next(iter(found.values()))
                if not below:
                    conflict.type, conflict.label = part.type, part.label
                if below and conflict.field == "text":
                    # The text of an element that is no part of its own: a field of the part it stands in.
                    below, _, last = below.rpartition("/")
                    conflict.field = _field_of(last)
                    if not below:
                        conflict.type, conflict.label = part.type, part.label
                conflict.part = where + below
                return
            below = f"/{last}{below}"
            path = head


def _field_of(step: str) -> str:
    """The field that an element's text is, as readers call it: a condition expression is a condition."""
    return step.partition(":")[0].removesuffix("Expression")


def sentence(conflict: Conflict) -> str:
    """A conflict as one sentence."""
    what = conflict.type or "the file"
    if conflict.type == "line":
        what = conflict.label
    elif conflict.label and conflict.label != conflict.type:
        what = f"{conflict.type} “{conflict.label}”"
    if conflict.why:
        remover, user = ("this side", "the other side") if conflict.this is NOTHING else ("the other side", "this side")
        return f"{what}: {remover} removed it, {user} refers to it ({conflict.why})"
    if conflict.base is NOTHING:
        return f"{what}: both sides added it, each with other content"
    if conflict.this is NOTHING:
        return f"{what}: this side removed it, the other side changed it"
    if conflict.other is NOTHING:
        return f"{what}: the other side removed it, this side changed it"
    if conflict.field is None:
        return f"{what}: both sides changed it in ways that do not go together"
    if all(_short(v) for v in (conflict.base, conflict.this, conflict.other)):
        base, this, other = (_said(v) for v in (conflict.base, conflict.this, conflict.other))
        return f"{what}: {conflict.field} was {base}, this side says {this}, the other side says {other}"
    return f"{what}: both sides changed {conflict.field} in ways that do not go together"


def _short(value: object) -> bool:
    return not isinstance(value, dict | list | tuple) and len(str(value)) < 60 and "\n" not in str(value)


def _said(value: object) -> str:
    if value is None:
        return "empty"
    if isinstance(value, bool):
        return "true" if value else "false"
    return f"“{value}”" if isinstance(value, str) else str(value)
