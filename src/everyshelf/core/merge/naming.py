"""Conflicts told as the kind tells its parts: the path, type and label that a comparison would show."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable

from everyshelf.core.merge.model import NOTHING, SIDE_NAMES, Conflict, SideNames
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


def sentence(conflict: Conflict, names: SideNames = SIDE_NAMES) -> str:
    """A conflict as one sentence, in which the sides go by ``names``."""
    what = conflict.type or "the file"
    if conflict.type == "line":
        what = conflict.label
    elif conflict.label and conflict.label != conflict.type:
        what = f"{conflict.type} “{conflict.label}”"
    return f"{what}: {_happened(conflict, names)}"


def _happened(conflict: Conflict, names: SideNames) -> str:
    on_target, on_source = names.target, names.source
    if conflict.why:
        removed, used = (on_target, on_source) if conflict.target is NOTHING else (on_source, on_target)
        return f"removed {removed}, used {used} ({conflict.why})"
    if conflict.base is NOTHING:
        return "added on both sides with different content"
    if conflict.target is NOTHING:
        return f"removed {on_target}, changed {on_source}"
    if conflict.source is NOTHING:
        return f"changed {on_target}, removed {on_source}"
    if conflict.field is None:
        return f"changed {on_target} and {on_source}; only one change can be kept"
    if all(_short(v) for v in (conflict.base, conflict.target, conflict.source)):
        base, target, source = (_written(v) for v in (conflict.base, conflict.target, conflict.source))
        return f"{conflict.field} was {base}; {on_target} it is {target}, {on_source} {source}"
    return f"{conflict.field} was changed {on_target} and {on_source}; only one change can be kept"


def _short(value: object) -> bool:
    return not isinstance(value, dict | list | tuple) and len(str(value)) < 60 and "\n" not in str(value)


def _written(value: object) -> str:
    if value is None:
        return "empty"
    if isinstance(value, bool):
        return "true" if value else "false"
    return f"“{value}”" if isinstance(value, str) else str(value)
