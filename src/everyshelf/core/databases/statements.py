"""Parts of SQL statements that the databases we speak to share."""

from __future__ import annotations

import re
from collections.abc import Iterable

from everyshelf.core.databases.schema import Index, Reference


def quoted(name: str) -> str:
    """A name as SQL takes it."""
    return '"' + name.replace('"', '""') + '"'


def listed(names: Iterable[str]) -> str:
    """Several names, between brackets."""
    return ", ".join(map(quoted, names))


def reference_line(reference: Reference) -> str:
    """A foreign key as the statement of its table declares it."""
    there = f" ({listed(reference.there)})" if reference.there else ""
    line = f"FOREIGN KEY ({listed(reference.columns)}) REFERENCES {quoted(reference.table)}{there}"
    line += f" ON DELETE {reference.on_delete}" if reference.on_delete else ""
    line += f" ON UPDATE {reference.on_update}" if reference.on_update else ""
    return line + (" DEFERRABLE INITIALLY DEFERRED" if reference.deferred else "")


def index_statement(index: Index, table: str, name: str) -> str:
    """The statement that makes an index on ``table`` under ``name``."""
    unique, where = "UNIQUE " if index.unique else "", f" WHERE {index.where}" if index.where else ""
    method = f" USING {quoted(index.method)}" if index.method else ""
    include = f" INCLUDE ({listed(index.include)})" if index.include else ""
    # A word is a column whatever its case, and whatever it means to the database.
    columns = ", ".join(quoted(c) if re.fullmatch(r"\w+", c) else c for c in index.columns)
    return f"CREATE {unique}INDEX {quoted(name)} ON {quoted(table)}{method} ({columns}){include}{where}"
