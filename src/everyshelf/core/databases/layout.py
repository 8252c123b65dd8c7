"""Where on the shelf the files of a database lie, below the folder an environment holds.

::

    NAME.table.json       the table's schema
    NAME.records.json     its records by their key, one a line
    NAME.records.jsonl    the same of a large table, or of one without a key: whole records, one a line
    NAME.view.sql         the statement of a view
    NAME.trigger.sql      the statement of a trigger
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal
from urllib.parse import quote, unquote

Sort = Literal["table", "records", "view", "trigger"]
_SUFFIXES: dict[str, tuple[str, ...]] = {
    "table": (".json",),
    "records": (".json", ".jsonl"),
    "view": (".sql",),
    "trigger": (".sql",),
}
_PLAIN = " !#$&'()+,;=@[]^{}~"


@dataclass(frozen=True)
class Place:
    """What a path stands for: a sort of file and the name of the object; ``suffix`` tells the form of records."""

    sort: Sort
    name: str
    suffix: str


@dataclass(frozen=True)
class Layout:
    """The paths below ``folder`` (a folder of the shelf; empty: its root)."""

    folder: str

    def path(self, sort: Sort, name: str, suffix: str | None = None) -> str:
        """The path of an object's file; a name that cannot be a file's is percent-encoded (RFC 3986)."""
        plain = quote(name, safe=_PLAIN)
        plain = f"%2E{plain[1:]}" if plain.startswith(".") else plain
        inner = f"{plain}.{sort}{suffix or _SUFFIXES[sort][0]}"
        return f"{self.folder}/{inner}" if self.folder else inner

    def place(self, path: str) -> Place | None:
        """What a path stands for; None if it is no file of a database."""
        inner = path.removeprefix(f"{self.folder}/") if self.folder else path
        if self.folder and inner == path:
            return None
        name, _, last = inner.rpartition(".")
        plain, _, sort = name.rpartition(".")
        if "/" in inner or not plain or f".{last}" not in _SUFFIXES.get(sort, ()):
            return None
        found = Place(sort, unquote(plain), f".{last}")  # type: ignore[arg-type]
        return found if self.path(found.sort, found.name, found.suffix) == path else None
