"""Find the part a question names: by its path, its label or its name."""

from __future__ import annotations

from everyshelf.core.answers.base import Answer
from everyshelf.core.answers.outlines import OutlineAnswer, PartAnswer
from everyshelf.core.answers.uses import PartAsked, WantedPart
from everyshelf.core.history.trees import Entry
from everyshelf.core.kinds.rules import Rules
from everyshelf.core.uses.calls import METHODS, call_form
from everyshelf.service.shelves.actions.outlines import outline_of
from everyshelf.service.shelves.actions.remembered import remembered

_MOST_PARTS = 20_000


class _PartNames(Answer):
    """Path, type and label of the parts of an artifact."""

    parts: list[tuple[str, str, str]]
    truncated: bool


def find_part(path: str, entry: Entry, rules: Rules, text: str) -> tuple[PartAsked, WantedPart]:
    """The part a text means: its path, or else its label or the last step of its path, whatever the case."""
    known = remembered(
        ("part names", path, entry.id, rules.source), _PartNames, lambda: _names(outline_of(path, entry, rules))
    )
    found = _best(known.parts, text)
    if found is None:
        name = _last(text) if text.startswith("/") else text
        kind = text.rpartition("/")[2].partition(":")[0] if text.startswith("/") and ":" in text else ""
        asked = PartAsked(part=text, type=kind, label=name, found=None if known.truncated else False)
        return asked, WantedPart(path, kind, name)
    place, kind, label = found
    wanted = _wanted(path, place, kind, label)
    if wanted.type == "call":
        kind, label = wanted.type, wanted.name
    return PartAsked(part=place, type=kind, label=label, found=True), wanted


def _wanted(path: str, place: str, kind: str, label: str) -> WantedPart:
    """The part as others would name it; an operation of a service by its method and path."""
    steps = place.split("/")
    called = next((_last(f"/{step}") for step in steps if step.startswith("path:")), "")
    if called:
        method = next((step[6:] for step in steps if step[6:] in METHODS and step.startswith("group:")), "")
        return WantedPart(path, "call", f"{method.upper()} {call_form(called)}".strip())
    by_label = kind in ("column", "table") or _last(place).startswith("#")
    return WantedPart(path, kind, label if by_label else _last(place))


def _best(parts: list[tuple[str, str, str]], text: str) -> tuple[str, str, str] | None:
    folded = text.casefold()
    by_path = (part for part in parts if part[0] == text)
    by_name = (part for part in parts if text in (part[2], _last(part[0])))
    folded_too = (part for part in parts if folded in (part[2].casefold(), _last(part[0]).casefold()))
    return next((part for found in (by_path, by_name, folded_too) for part in found), None)


def _last(place: str) -> str:
    return place.rpartition("/")[2].partition(":")[2].replace("%2F", "/")


def _names(outline: OutlineAnswer) -> _PartNames:
    parts: list[tuple[str, str, str]] = []
    if outline.table is not None:
        parts = [(f"/column:{c.name.replace('/', '%2F')}", "column", c.name) for c in outline.table.columns]
    for name, table in (outline.tables or {}).items():
        parts.append((f"/table:{name}", "table", name))
        parts += [(f"/table:{name}/column:{c.name}", "column", c.name) for c in table.columns]
    waiting: list[PartAnswer] = list(reversed(outline.parts))
    while waiting and len(parts) < _MOST_PARTS:
        part = waiting.pop()
        parts.append((part.path, part.type, part.label))
        waiting += reversed(part.parts)
    return _PartNames(parts=parts, truncated=outline.truncated or outline.read_as == "bytes" or bool(waiting))
