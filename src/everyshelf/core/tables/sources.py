"""From files to tables: which reader opens what, and several files as one table."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import PurePosixPath

from everyshelf.core.errors import UnreadableError
from everyshelf.core.formats.compressed import bare_name, unpack_to
from everyshelf.core.tables.columnar import open_arrow, open_parquet
from everyshelf.core.tables.columns import Column, Source
from everyshelf.core.tables.delimited import open_delimited
from everyshelf.core.tables.engine import Engine
from everyshelf.core.tables.formats import form_of
from everyshelf.core.tables.given import Given
from everyshelf.core.tables.lines import open_by_lines
from everyshelf.core.tables.markers import is_marker
from everyshelf.core.tables.records import open_records
from everyshelf.core.tables.row_groups import open_by_row_groups


def open_table(engine: Engine, given: Given, form: str, *, spelt_out: frozenset[str] = frozenset()) -> Source:
    """The table in a file of the format ``form`` (see ``formats``), or in the files of a folder.

    Raises ``UnreadableError`` with the reason if it cannot be read as such.
    """
    if given.files:
        return _together(engine, given, spelt_out)
    given, packing = unpacked(engine, given)
    if form == "parquet":
        source = open_parquet(engine, given)
    elif form in ("arrow", "feather"):
        source = open_arrow(engine, given)
    elif form in ("json", "jsonl"):
        source = open_records(engine, given, form, spelt_out=spelt_out)
    else:
        source = open_delimited(engine, given)
    if packing:
        source.layout["compressed with"] = packing
    return source


def open_tables(
    engine: Engine, before: Given, after: Given, forms: tuple[str, str], key: Sequence[str] = ()
) -> tuple[Source, Source]:
    """Two versions of a table, if possible without the rows that both have; raises as ``open_table``.

    ``key``: its columns, where somebody declared it.
    """
    found = None
    if forms == ("csv", "csv"):
        found = open_by_lines(engine, before, after, key)
    elif forms == ("parquet", "parquet"):
        found = open_by_row_groups(engine, before, after)
    return found or (open_table(engine, before, forms[0]), open_table(engine, after, forms[1]))


def unpacked(engine: Engine, given: Given) -> tuple[Given, str]:
    """The file without a compression around it, and that compression's name ("" for none)."""
    head = given.head(8)
    target = engine.folder / engine.name("unpacked")
    packing = unpack_to(given.on_disk(engine.folder), head, target) if head else ""
    return (Given(bare_name(given.name), path=target), packing) if packing else (given, "")


def _together(engine: Engine, given: Given, spelt_out: frozenset[str]) -> Source:
    """One table of many files: rows one after the other, columns by name; the folder's ``name=value`` are columns."""
    sources, keys = [], []
    for file in sorted(given.files, key=lambda f: f.name):
        if is_marker(file.name, file.size):
            continue
        form = form_of(file.name, file.head(8))
        if form is None:
            raise UnreadableError(f"{file.name} is not a table")
        sources.append(open_table(engine, file, form, spelt_out=spelt_out))
        keys.append(_partition(file.name))
    if not sources:
        raise UnreadableError("there is no table in the folder")
    names = list(dict.fromkeys(name for source in sources for name in source.names))
    extra = [name for name in dict.fromkeys(name for key in keys for name in key) if name not in names]
    columns = [_common(name, sources) for name in names] + [Column(name, "VARCHAR", "text") for name in extra]
    pieces, start = [], 0
    for source, key in zip(sources, keys, strict=True):
        cells = [_cast(source, column, i) for i, column in enumerate(columns[: len(names)])]
        cells += [f"{_text(key.get(name))} AS c{len(names) + i}" for i, name in enumerate(extra)]
        pieces.append(f"SELECT {', '.join([f'r + {start} AS r', *cells])} FROM {source.relation}")
        start += source.row_count
    relation = engine.name("folder")
    engine.run(f"CREATE VIEW {relation} AS {' UNION ALL '.join(pieces)}")
    layout = {**sources[0].layout, "files": str(len(sources))}
    return Source(relation, columns, start, layout, sources[0].preamble)


def _partition(path: str) -> dict[str, str]:
    parts = (part.partition("=") for part in PurePosixPath(path).parts[:-1] if "=" in part)
    return {name: value for name, _, value in parts}


def _common(name: str, sources: list[Source]) -> Column:
    """The column all files agree on, or one of texts where they do not."""
    found = [c for source in sources for c in source.columns if c.name == name]
    if len({c.engine_type for c in found}) == 1:
        full = [c for c in found if c.family != "empty"] or found
        same = len({(c.family, c.spelling) for c in full}) == 1
        if same:
            return full[0]
        numeric = {c.family for c in full} <= {"integer", "decimal"} and {c.spelling for c in full} == {""}
        return Column(name, full[0].engine_type, "decimal" if numeric else "text", "", full[0].declared)
    return Column(name, "VARCHAR", "text")


def _cast(source: Source, column: Column, place: int) -> str:
    index = next((i for i, c in enumerate(source.columns) if c.name == column.name), None)
    if index is None:
        return f"NULL AS c{place}"
    if source.columns[index].engine_type == column.engine_type:
        return f"c{index} AS c{place}"
    return f"CAST(c{index} AS {column.engine_type}) AS c{place}"


def _text(value: str | None) -> str:
    return "NULL" if value is None else "'" + value.replace("'", "''") + "'"
