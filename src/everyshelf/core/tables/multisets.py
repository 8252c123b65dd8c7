"""Rows without a key: how often each different row comes on either side."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from everyshelf.core.tables.changes import RowChanges
from everyshelf.core.tables.columns import Source
from everyshelf.core.tables.engine import Engine
from everyshelf.core.tables.expressions import Pair, shown
from everyshelf.core.tables.keep import MOST_KEPT, Keep
from everyshelf.core.tables.kept import kept


def as_multisets(
    engine: Engine, before: Source, after: Source, pairs: Sequence[Pair], keep: Keep | None = None
) -> RowChanges:
    """Rows of the columns both tables have, without any key: how often each comes on either side."""
    keep = keep or Keep()
    names = ", ".join(f"v{n}" for n in range(len(pairs)))
    old = ", ".join(f"{p.old_value('t')} AS v{n}" for n, p in enumerate(pairs))
    new = ", ".join(f"{p.new_value('t')} AS v{n}" for n, p in enumerate(pairs))
    grouped = (
        f"SELECT {names}, sum(o) AS o, sum(n) AS n, max(ar) AS ar, max(br) AS br FROM ("
        f"SELECT {old}, 1 AS o, 0 AS n, r AS ar, NULL AS br FROM {before.relation} t UNION ALL "
        f"SELECT {new}, 0 AS o, 1 AS n, NULL AS ar, r AS br FROM {after.relation} t) GROUP BY {names}"
    )
    most = MOST_KEPT if keep.path else keep.first
    added, removed, same, marks = engine.row(
        f"SELECT coalesce(sum(greatest(n - o, 0)), 0), coalesce(sum(greatest(o - n, 0)), 0), "
        f"coalesce(sum(least(o, n)), 0), "
        f"min(CASE WHEN n > o THEN br * 2 ELSE ar * 2 + 1 END, {max(most, 1)}) FILTER (n <> o) FROM ({grouped})"
    )
    result = RowChanges(int(added), int(removed), 0, int(same) + after.left_out)
    if marks:
        result.details = kept(engine, _multiset_rows(before, after, marks), keep)
    return result


def _multiset_rows(before: Source, after: Source, marks: Sequence[int]) -> str:
    """One row for each different row that comes more often on one side."""
    pieces = []
    for source, odd in ((after, 0), (before, 1)):
        rows = _numbers([int(m) // 2 for m in marks if int(m) % 2 == odd])
        cells = ", ".join(f"CAST({shown(c, f't.c{i}')} AS VARCHAR)" for i, c in enumerate(source.columns))
        numbers, sides = ("NULL AS ar, r AS br", "NULL::VARCHAR[] AS before, [{}] AS after")
        if odd:
            numbers, sides = ("r AS ar, NULL AS br", "[{}] AS before, NULL::VARCHAR[] AS after")
        pieces.append(
            f"SELECT r * 2 + {odd} AS mark, {numbers}, []::VARCHAR[] AS columns, {sides.format(cells)} "
            f"FROM {source.relation} t WHERE r IN ({rows})"
        )
    return " UNION ALL ".join(pieces)


def _numbers(values: Any) -> str:
    return ", ".join(str(int(value)) for value in sorted(values)) or "-1"
