"""Find what a query names, and make it ready to be read.

A large table is kept by a job first, as for its pages (``table_rows``), so that every later query of that version
starts from the kept one.
"""

from __future__ import annotations

import tempfile
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path

from blake3 import blake3

from everyshelf.core.answers.queries import QueriedTable
from everyshelf.core.errors import InvalidError, MissingError, UnreadableError
from everyshelf.core.history.trees import Entry
from everyshelf.core.querying.statement import Named, named_in, with_views
from everyshelf.service.base.config import get_config
from everyshelf.service.queries.lists import write_list
from everyshelf.service.rights import Caller
from everyshelf.service.shelves.actions import listing
from everyshelf.service.shelves.actions.recording import rules_at
from everyshelf.service.shelves.actions.refs import Resolved, resolve
from everyshelf.service.shelves.actions.table_rows import file_to_read
from everyshelf.service.shelves.models import Shelf

_TABLES = "Tables are CSV, Parquet, Arrow and JSON lines; of a database and of a workbook 'FILE#TABLE'."


@dataclass(frozen=True)
class Ready:
    """A statement whose names are views, and the files behind them: of tables, and of lists with their names."""

    sql: str
    tables: dict[str, Path]
    lists: dict[str, tuple[str, Path]]
    told: list[QueriedTable]

    def basis(self) -> tuple[str, ...]:
        """All that the answer depends on."""
        tables = [f"{view}={kept.name}" for view, kept in sorted(self.tables.items())]
        lists = [f"{view}={name} {_digest(lines)}" for view, (name, lines) in sorted(self.lists.items())]
        return "query", self.sql, *tables, *lists


def _digest(file: Path) -> str:
    digest = blake3()
    digest.update_mmap(file)
    return digest.hexdigest()


@contextmanager
def ready(caller: Caller, shelf: Shelf, sql: str, ref: str) -> Iterator[Ready]:
    """What a query needs, for as long as it runs; names without a ref mean the state ``ref``. Raises
    ``RowsReadingError`` where a job has to keep a table first."""
    named = named_in(sql)
    at = resolve(shelf, ref or shelf.main_branch, caller.person)
    views = {one.name: f"named {place}" for place, one in enumerate({one.name: one for one in named}.values())}
    found = Ready(with_views(sql, named, views), {}, {}, [])
    with tempfile.TemporaryDirectory(prefix="query-", dir=get_config().scratch) as folder:
        for one in {one.name: one for one in named}.values():
            if one.is_list:
                lines = Path(folder) / f"{one.name}.ndjson"
                write_list(caller, shelf, at, one.name, lines)
                found.lists[views[one.name]] = (one.name, lines)
                found.told.append(QueriedTable(name=one.name, path="", ref=at.ref))
            else:
                told, kept = _table(caller, shelf, at, one)
                found.tables[views[one.name]] = kept
                found.told.append(told)
        yield found


def _table(caller: Caller, shelf: Shelf, at: Resolved, named: Named) -> tuple[QueriedTable, Path]:
    """The artifact a name stands for (``PATH[#TABLE][@REF]``) and the file its rows are kept in."""
    for path, ref, table in _readings(named.name):
        try:
            state = resolve(shelf, ref, caller.person) if ref else at
            entry, seen = listing.get_artifact(shelf, state, path)
        except (MissingError, InvalidError):
            continue
        told = QueriedTable(
            name=named.name, path=path, ref=state.ref, table=table, version=seen.number if seen is not None else None
        )
        return told, _kept(caller, shelf, path, entry, state, table)
    raise MissingError(
        f"the shelf has no table {named.name!r}",
        code="query.table",
        hint="Write 'PATH', 'PATH@REF', and for a table of a database or a sheet 'PATH#TABLE@REF'.",
    )


def _kept(caller: Caller, shelf: Shelf, path: str, entry: Entry, state: Resolved, table: str) -> Path:
    try:
        return file_to_read(caller, shelf, path, entry, rules_at(state.root), table)
    except UnreadableError as error:
        raise InvalidError(f"{path} cannot be queried: {error.message}", code="query.table", hint=_TABLES) from error


def _readings(name: str) -> Iterator[tuple[str, str, str]]:
    """Path, ref and table that a name may mean, the likeliest first: a path may hold ``@`` and ``#``, a ref ``@``."""
    yield name, "", ""
    parted = [(name[:place], name[place + 1 :]) for place, letter in enumerate(name) if letter == "@"]
    for path, ref in parted:
        yield path, ref, ""
    for path, ref in [*parted, (name, "")]:
        bare, _, table = path.rpartition("#")
        if bare:
            yield bare, ref, table
