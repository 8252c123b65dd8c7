"""Tables and records of a running database, as the files it becomes on the shelf (``everyshelf.core.databases``)."""

from __future__ import annotations

import re
from typing import Any

from everyshelf.core.kinds.table import KindTable
from everyshelf.core.outline.model import Effect, Part

# How such a file begins: it tells its form before anything else.
_BEGINNING = re.compile(r'\s*\{\s*"form"\s*:\s*"database (?:table|records) \d+"')

_LENGTH = re.compile(r"([A-Z ]+?)\s*\((\d+)(?:\s*,\s*(\d+))?\)\Z")
_WIDER = {"SMALLINT": 0, "INT": 1, "INTEGER": 1, "BIGINT": 2}


def looks_captured(text: str) -> bool:
    """Whether a text begins as a file of a database does."""
    return bool(_BEGINNING.match(text))


def widens(old: str, new: str) -> bool:
    """Whether everything a type holds is held by the other one as well."""
    old, new = old.upper(), new.upper()
    if not new or new in ("TEXT", "CLOB") or (not old and new == "BLOB"):
        return True
    if old in _WIDER:
        return _WIDER.get(new, -1) >= _WIDER[old] or new in ("NUMERIC", "DOUBLE PRECISION", "REAL", "DECIMAL")
    was, now = _LENGTH.match(old), _LENGTH.match(new)
    if was and now and was[1] == now[1]:
        whole = [int(m[2]) - int(m[3] or 0) for m in (was, now)]
        return whole[1] >= whole[0] and int(now[3] or 0) >= int(was[3] or 0)
    return bool(was and was[1] == new) or (old, new) in {("REAL", "DOUBLE PRECISION"), ("FLOAT", "DOUBLE PRECISION")}


def _judge(action: str, part: Part, field: str | None, before: Any, after: Any) -> Effect | None:
    if part.type == "column" and action == "changed" and field == "type":
        return "alters" if widens(str(before or ""), str(after or "")) else "breaks"
    if part.type == "column" and action == "changed" and field == "generated":
        return "breaks"
    if part.type == "column" and action == "changed" and field == "required":
        return "breaks" if after else "alters"
    if part.type == "column" and action == "added":
        fields = part.fields
        # Who puts records there without naming the column fails.
        needed = fields.get("required") and fields.get("default") is None and not fields.get("generated")
        return "breaks" if needed else "alters"
    if part.type == "foreign key" and action == "added":
        return "breaks"
    return None


TABLE = KindTable(
    id="database",
    types={
        "columns": "column",
        "references": "foreign key",
        "indexes": "index",
        "checks": "check",
        "unique": "unique",
        "records": "record",
    },
    derived={"form": "the number of the form of the file"},
    unordered=frozenset({"column", "foreign key", "index", "check", "unique", "record"}),
    breaks=frozenset({("removed", "column"), ("renamed", "column")}),
    identity={"column": ("name",), "index": ("name",)},
    renamed_if_equal=frozenset({"column", "record"}),
    judge=_judge,
)
