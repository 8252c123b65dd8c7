"""What a database holds beside its records, in one form for every program that keeps databases."""

from __future__ import annotations

import re
from dataclasses import dataclass, field

import msgspec


class _Part(msgspec.Struct, frozen=True, omit_defaults=True, forbid_unknown_fields=True):
    """What all parts have in common: absent and empty are the same, nothing unknown is passed over."""


class Column(_Part, frozen=True):
    """A column. ``type`` as the database declares it; ``default`` and ``generated`` are expressions in SQL.

    ``was``: the name it had before, which is renamed where it still stands; a database never tells it.
    """

    name: str
    type: str = ""
    required: bool = False
    default: str | None = None
    collation: str = ""
    generated: str = ""
    stored: bool = False
    was: str = ""


class Unique(_Part, frozen=True):
    """Columns that are unique together."""

    columns: tuple[str, ...]


class Reference(_Part, frozen=True):
    """A foreign key: ``columns`` here name a record of ``table`` by its ``there`` (empty: its primary key)."""

    columns: tuple[str, ...]
    table: str
    there: tuple[str, ...] = ()
    on_delete: str = ""
    on_update: str = ""
    deferred: bool = False


class Check(_Part, frozen=True):
    """A condition every record fulfils, in SQL."""

    holds: str
    name: str = ""


class Index(_Part, frozen=True):
    """An index; a column may be an expression or carry its direction. ``method``: how it is kept, where that is not the
    usual way; ``include``: columns it carries along."""

    name: str
    columns: tuple[str, ...]
    unique: bool = False
    where: str = ""
    method: str = ""
    include: tuple[str, ...] = ()


class Table(_Part, frozen=True):
    """A table. ``as_is``: the statement that makes it, where it says more than the rest can tell; it can be created and
    removed then, but not altered."""

    table: str
    columns: tuple[Column, ...] = ()
    key: tuple[str, ...] = ()
    unique: tuple[Unique, ...] = ()
    references: tuple[Reference, ...] = ()
    checks: tuple[Check, ...] = ()
    indexes: tuple[Index, ...] = ()
    options: tuple[str, ...] = ()
    as_is: str = ""

    @property
    def filled(self) -> tuple[str, ...]:
        """Names of the columns that records give values to."""
        return tuple(c.name for c in self.columns if not c.generated)

    @property
    def by_name(self) -> dict[str, Column]:
        """The columns by name."""
        return {c.name: c for c in self.columns}


@dataclass
class Schema:
    """Tables, and the statements of views and triggers by name."""

    tables: dict[str, Table] = field(default_factory=dict)
    views: dict[str, str] = field(default_factory=dict)
    triggers: dict[str, str] = field(default_factory=dict)


def normal(table: Table) -> Table:
    """A table as a database tells it: what has no order in the order of its name, and nothing of the past."""
    plain = [msgspec.structs.replace(i, columns=tuple(map(_plain, i.columns))) for i in table.indexes]
    return msgspec.structs.replace(
        table,
        columns=tuple(msgspec.structs.replace(c, was="") for c in table.columns),
        unique=tuple(sorted(table.unique, key=lambda u: u.columns)),
        references=tuple(sorted(table.references, key=lambda r: (r.columns, r.table, r.there))),
        indexes=tuple(sorted(plain, key=lambda i: i.name)),
        options=tuple(sorted(set(table.options))),
    )


def _plain(column: str) -> str:
    """A name in quotes that needs none without them."""
    inner = re.fullmatch(r'"(\w+)"', column)
    return inner[1] if inner else column


def parents_first(tables: dict[str, Table]) -> list[str]:
    """Names in an order in which what a foreign key names comes before what names it; circles by name."""
    order: list[str] = []
    state: dict[str, int] = {}

    def visit(name: str) -> None:
        stack = [(name, iter(_parents(tables, name)))]
        state[name] = 1
        while stack:
            here, parents = stack[-1]
            for parent in parents:
                if parent not in state:
                    state[parent] = 1
                    stack.append((parent, iter(_parents(tables, parent))))
                    break
            else:
                stack.pop()
                order.append(here)

    for name in sorted(tables):
        if name not in state:
            visit(name)
    return order


def _parents(tables: dict[str, Table], name: str) -> list[str]:
    return sorted({r.table for r in tables[name].references if r.table in tables and r.table != name})
