"""Low-code apps exported as one file: screens, controls, formulas, data sources; JSON nested in texts is unpacked."""

from __future__ import annotations

import re
from typing import Any

from everyshelf.core.kinds.cosmetic import DRAWING, FIELDS_OF_EDITORS, STYLE
from everyshelf.core.kinds.table import KindTable
from everyshelf.core.outline.model import Effect, Part

# A quoted text, a number, a name, or a sign: what a formula is made of.
_TOKEN = re.compile(r'"(?:[^"\\]|\\.|"")*"|\'(?:[^\'\\]|\\.)*\'|\d+(?:\.\d+)?|\w+|[^\s\w]')

# The program gives a control a new number with each export; what refers to it uses the name.
_OWN_ID = re.compile(r"(?:control|widget|component|element|object)_?(?:unique)?_?id", re.IGNORECASE)


def formula_tokens(text: str) -> list[str]:
    """The tokens of a formula; blanks and line breaks between them mean nothing."""
    return _TOKEN.findall(text)


def _is_own_id(part: Part, field: str) -> bool:
    """Whether a field is an id of the part itself, beside the name that people and formulas use for it."""
    return bool(part.fields.get("name")) and _OWN_ID.fullmatch(field) is not None


def _judge(action: str, part: Part, field: str | None, before: Any, after: Any) -> Effect | None:
    """An id of a control beside its name is cosmetic, and so is white space in a formula."""
    if field is not None and _is_own_id(part, field):
        return "cosmetic"
    if field is not None and isinstance(before, str) and isinstance(after, str) and before.lstrip()[:1] == "=":
        return "cosmetic" if formula_tokens(before) == formula_tokens(after) else None
    return None


TABLE = KindTable(
    id="app",
    types={
        "screens": "screen",
        "screen": "screen",
        "page": "screen",
        "form": "screen",
        "control": "control",
        "pages": "screen",
        "forms": "screen",
        "controls": "control",
        "children": "control",
        "components": "control",
        "widgets": "control",
        "widget": "control",
        "object": "control",
        "elements": "control",
        "parts": "control",
        "panels": "control",
        # In designers' files the element that arranges controls also holds them.
        "layout": "arrangement",
        "dataSources": "data source",
        "data_sources": "data source",
        "datasources": "data source",
        "feeds": "data source",
        "variables": "variable",
        "scripts": "script",
        "properties": "property",
    },
    cosmetic_types=(DRAWING, STYLE),
    cosmetic_fields=FIELDS_OF_EDITORS,
    unordered=frozenset({"variable", "data source", "property", "script"}),
    breaks=frozenset({("removed", "screen"), ("removed", "data source"), ("renamed", "data source")}),
    judge=_judge,
)
