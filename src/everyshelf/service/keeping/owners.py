"""To which shelf a row of the records belongs, whatever its table: by the shortest way of foreign keys to a shelf.

So a table that is added later belongs to its shelf without anybody thinking of it. Of rows that lead to none (accounts,
settings of the installation, what is worked out for several shelves) nothing is said.
"""

from __future__ import annotations

import sqlite3
from collections import deque
from dataclasses import dataclass

_SHELVES = "shelves_shelf"


@dataclass(frozen=True)
class Way:
    """How to join a table with its shelf: the joins, and the name that the shelf has in them."""

    joins: str
    shelf: str


def way_to_shelf(records: sqlite3.Connection, table: str) -> Way | None:
    """The way from a table, which has its own name in the query; None where it leads to no shelf. One on which every
    row leads to a shelf comes before a shorter one on which a column may be empty."""
    return _way(records, table, required=True) or _way(records, table, required=False)


def _way(records: sqlite3.Connection, table: str, *, required: bool) -> Way | None:
    if table == _SHELVES:
        return Way("", f'"{table}"')
    waiting = deque([(table, f'"{table}"', "")])
    seen = {table}
    while waiting:
        name, called, joins = waiting.popleft()
        filled = {row[1] for row in records.execute(f'PRAGMA table_info("{name}")') if row[3]}  # not null
        # id, seq, table, from, to: https://www.sqlite.org/pragma.html#pragma_foreign_key_list
        for _, _, other, column, key, *_ in sorted(records.execute(f'PRAGMA foreign_key_list("{name}")')):
            if other in seen or (required and column not in filled):
                continue
            seen.add(other)
            alias = f"joined{len(seen)}"
            longer = f'{joins} LEFT JOIN "{other}" AS {alias} ON {alias}."{key}" = {called}."{column}"'
            if other == _SHELVES:
                return Way(longer, alias)
            waiting.append((other, alias, longer))
    return None
