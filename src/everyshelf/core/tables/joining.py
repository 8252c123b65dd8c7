"""Rows of two tables joined by their keys: which of them differ, and whether the key tells every row from every other."""

from __future__ import annotations

from dataclasses import dataclass

from everyshelf.core.tables.engine import Engine


@dataclass
class Joined:
    """How many rows of either table took part, how many have a partner, and the table ``pairs`` of the row numbers ``ar``
    and ``br`` of those that differ. A row that was joined twice, because its key comes twice, counts twice."""

    in_old: int
    in_new: int
    matched: int
    pairs: str


def join_rows(engine: Engine, old: str, new: str, keys: int) -> Joined:
    """Join two relations with a row number ``r``, ``keys`` columns ``k0``, ``k1`` … and a hash ``h`` of the rest."""
    on = " AND ".join(f"a.k{n} = b.k{n}" for n in range(keys))
    alone = "a.r IS NULL OR b.r IS NULL"
    found, pairs = engine.name("found"), engine.name("differing")
    engine.run(
        f"CREATE TEMP TABLE {found} AS SELECT count(a.r) AS in_old, count(b.r) AS in_new, "
        f"count(*) FILTER (a.r IS NOT NULL AND b.r IS NOT NULL) AS matched, "
        f"list({{'ar': a.r, 'br': b.r}}) FILTER (a.h <> b.h OR {alone}) AS pairs "
        f"FROM {old} a FULL OUTER JOIN {new} b ON {on}"
    )
    in_old, in_new, matched = engine.row(f"SELECT in_old, in_new, matched FROM {found}")
    engine.run(
        f"CREATE TEMP TABLE {pairs} AS SELECT p.ar AS ar, p.br AS br FROM (SELECT unnest(pairs) AS p FROM {found})"
    )
    engine.run(f"DROP TABLE {found}")
    return Joined(in_old, in_new, matched, pairs)
