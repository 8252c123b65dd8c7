"""Kept tables as views whose columns have types.

Text files say nothing of types. A column whose values all look like numbers, dates or times is given to a query as
such, but only where every one of its cells can be: otherwise a cell would silently become nothing. Numbers with a
fraction are exact decimals where 18 digits hold all of them, so that sums of money are what a person adds up. What was
found is kept beside the table.
"""

from __future__ import annotations

from pathlib import Path

import msgspec

from everyshelf.core.tables.columns import AT_ONCE, Column
from everyshelf.core.tables.engine import Engine, literal, quoted
from everyshelf.core.tables.expressions import plain_text
from everyshelf.core.tables.paging import columns_of
from everyshelf.decoding import from_json

_DIGITS, _MOST_FRACTION = 18, 9
_SIMPLE = {"integer": "BIGINT", "date": "DATE", "timestamp": "TIMESTAMP", "time": "TIME", "boolean": "BOOLEAN"}


def make_view(engine: Engine, kept: Path, name: str) -> None:
    """Make a kept table known as ``name``, its columns under their own names."""
    columns = columns_of(engine, kept)
    types = found_types_of(engine, kept)
    cells = []
    for place, (column, found) in enumerate(zip(columns, types, strict=True)):
        cell = f"TRY_CAST({_bare(column, place)} AS {found})" if found else f"c{place}"
        cells.append(f"{cell} AS {quoted(_free(column.name, columns, place))}")
    engine.run(f"CREATE VIEW {quoted(name)} AS SELECT {', '.join(cells)} FROM {_relation(kept)}")


def _free(name: str, columns: list[Column], place: int) -> str:
    """The column's name; with a number where an earlier one has it, letter case aside."""
    earlier = sum(column.name.lower() == name.lower() for column in columns[:place])
    return f"{name}_{earlier}" if earlier else name or f"column {place + 1}"


def _relation(kept: Path) -> str:
    return f"read_parquet([{literal(str(kept))}], hive_partitioning=false)"


def found_types_of(engine: Engine, kept: Path) -> list[str]:
    """The engine's type for each column, empty where it stays as it is kept; found once, and kept beside the table."""
    columns = columns_of(engine, kept)
    beside = kept.with_name(f"{kept.name}.types")
    try:
        return from_json(beside.read_bytes(), list[str])
    except (OSError, msgspec.DecodeError):
        pass
    asked = [place for place, column in enumerate(columns) if _may_be_typed(column)]
    types = [""] * len(columns)
    for start in range(0, len(asked), AT_ONCE):
        for place, found in _found(engine, kept, columns, asked[start : start + AT_ONCE]).items():
            types[place] = found
    part = beside.with_name(f"{beside.name}.{engine.folder.name}.part")
    part.write_bytes(msgspec.json.encode(types))
    part.replace(beside)
    return types


def _may_be_typed(column: Column) -> bool:
    return (
        column.engine_type == "VARCHAR"
        and not column.declared
        and (column.family in _SIMPLE or column.family == "decimal")
    )


def _bare(column: Column, place: int) -> str:
    return f"NULLIF(trim({plain_text(column, f'c{place}')}), '')"


def _found(engine: Engine, kept: Path, columns: list[Column], places: list[int]) -> dict[int, str]:
    """Return the type that holds all cells of a column, by place; columns that no type holds are left out."""
    wanted = []
    for place in places:
        bare = _bare(columns[place], place)
        if columns[place].family == "decimal":
            fraction = f"length(split_part({bare}, '.', 2))"
            wanted += [
                f"count(*) FILTER ({bare} IS NOT NULL AND TRY_CAST({bare} AS DOUBLE) IS NULL)",
                f"coalesce(max({fraction}), 0)",
                f"count(*) FILTER (NOT regexp_full_match({bare}, '[+-]?[0-9]+([.][0-9]*)?'))",
                f"coalesce(max(length(split_part(ltrim({bare}, '+-'), '.', 1))), 0)",
            ]
        else:
            kind = _SIMPLE[columns[place].family]
            wanted += [f"count(*) FILTER ({bare} IS NOT NULL AND TRY_CAST({bare} AS {kind}) IS NULL)", "0", "0", "0"]
    counted = engine.row(f"SELECT {', '.join(wanted)} FROM {_relation(kept)}")
    found = {}
    for number, place in enumerate(places):
        lost, fraction, odd, whole = counted[4 * number : 4 * number + 4]
        if lost:
            continue
        if columns[place].family != "decimal":
            found[place] = _SIMPLE[columns[place].family]
        elif not odd and fraction <= _MOST_FRACTION and whole + fraction <= _DIGITS:
            found[place] = f"DECIMAL({_DIGITS},{fraction})"
        else:
            found[place] = "DOUBLE"
    return found
