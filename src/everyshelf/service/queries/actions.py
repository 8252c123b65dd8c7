"""Find what a query names, make it ready, and run it in a reading process.

A large table is kept by a job first, as for its pages (``table_rows``), so that every later query of that version
starts from the kept one.
"""

from __future__ import annotations

import os
import tempfile
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path
from typing import IO, Any

import orjson

from everyshelf.core.answers.queries import QueriedTable, QueryAnswer
from everyshelf.core.errors import InvalidError, MissingError, UnreadableError
from everyshelf.core.history.trees import Entry
from everyshelf.core.querying.statement import MOST_ROWS, Named, named_in, with_views
from everyshelf.service.base.config import get_config
from everyshelf.service.base.context import reader
from everyshelf.service.experiments.models import Run
from everyshelf.service.findings.listing import findings_of
from everyshelf.service.rights import Caller
from everyshelf.service.shelves.actions import listing
from everyshelf.service.shelves.actions.arranging import Wanted, list_arranged
from everyshelf.service.shelves.actions.recording import rules_at
from everyshelf.service.shelves.actions.refs import Resolved, resolve
from everyshelf.service.shelves.actions.table_rows import file_to_read
from everyshelf.service.shelves.models import ArtifactVersion, Shelf

MOST_LISTED = 200_000
_PAGE = 1000
_TABLES = "Tables are CSV, Parquet, Arrow and JSON lines; of a database and of a workbook 'FILE#TABLE'."


@dataclass(frozen=True)
class _Ready:
    sql: str
    tables: dict[str, Path]
    lists: dict[str, tuple[str, Path]]
    told: list[QueriedTable]


def run(caller: Caller, shelf: Shelf, sql: str, ref: str, most: int) -> QueryAnswer:
    """The first rows of a query; names without a ref mean the state ``ref``. Raises ``RowsReadingError`` where a job
    has to keep a table first, and ``InvalidError`` or ``MissingError`` that names what is wrong in the query."""
    with _ready(caller, shelf, sql, ref) as found, reader() as worker:
        answer = worker.query(found.sql, found.tables, found.lists, most)
    return QueryAnswer(columns=answer.columns, rows=answer.rows, more=answer.more, tables=found.told)


def write(caller: Caller, shelf: Shelf, sql: str, ref: str, form: str, most: int | None) -> IO[bytes]:
    """Write the rows of a query in a form that programs read, and return the open file, which has no name any more.

    ``most``: rows that are wanted; without it all are, and ``InvalidError`` (query.rows) says where there are over
    ``MOST_ROWS``. Raises as ``run``.
    """
    with _ready(caller, shelf, sql, ref) as found, _aside(f".{form}") as output:
        with reader() as worker:
            wanted = MOST_ROWS + 1 if most is None else most
            answer = worker.query(found.sql, found.tables, found.lists, wanted, output=output, form=form)
        if most is None and answer.more:
            raise InvalidError(
                f"the answer has over {MOST_ROWS:,} rows",
                code="query.rows",
                hint="Narrow the query, or say with LIMIT how many rows are wanted.",
            )
        return output.open("rb")


@contextmanager
def _aside(suffix: str) -> Iterator[Path]:
    descriptor, name = tempfile.mkstemp(suffix, "query-", get_config().scratch)
    os.close(descriptor)
    try:
        yield Path(name)
    finally:
        Path(name).unlink(missing_ok=True)


@contextmanager
def _ready(caller: Caller, shelf: Shelf, sql: str, ref: str) -> Iterator[_Ready]:
    named = named_in(sql)
    at = resolve(shelf, ref or shelf.main_branch, caller.person)
    views = {one.name: f"named {place}" for place, one in enumerate({one.name: one for one in named}.values())}
    ready = _Ready(with_views(sql, named, views), {}, {}, [])
    with tempfile.TemporaryDirectory(prefix="query-", dir=get_config().scratch) as folder:
        for one in {one.name: one for one in named}.values():
            if one.is_list:
                lines = Path(folder) / f"{one.name}.ndjson"
                _write_list(caller, shelf, at, one.name, lines)
                ready.lists[views[one.name]] = (one.name, lines)
                ready.told.append(QueriedTable(name=one.name, path="", ref=at.ref))
            else:
                told, kept = _table(caller, shelf, at, one)
                ready.tables[views[one.name]] = kept
                ready.told.append(told)
        yield ready


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


def _write_list(caller: Caller, shelf: Shelf, at: Resolved, name: str, target: Path) -> None:
    with target.open("wb") as file:
        for number, row in enumerate(_LISTS[name](caller, shelf, at)):
            if number >= MOST_LISTED:
                raise InvalidError(
                    f"{name} has over {MOST_LISTED:,} rows",
                    code="query.table",
                    hint="Lists of this length cannot be queried yet; filter them with history or browse.",
                )
            file.write(orjson.dumps(row, option=orjson.OPT_APPEND_NEWLINE | orjson.OPT_UTC_Z))


def _commits(caller: Caller, shelf: Shelf, at: Resolved) -> Iterator[dict[str, Any]]:
    fields = ("uid", "author", "time", "recorded", "summary", "description", "tasks", "labels")
    for row in shelf.commits.order_by("pk").values(*fields).iterator():
        yield {
            **row,
            "commit": row["uid"],
            "time": _plain(row["time"]),
            "recorded": _plain(row["recorded"]),
            "labels": {key: str(value) for key, value in row["labels"].items()},
        }


def _artifacts(caller: Caller, shelf: Shelf, at: Resolved) -> Iterator[dict[str, Any]]:
    start, total = 0, 1
    while start < total:
        page = list_arranged(shelf, at, Wanted(sort="path"), start, _PAGE)
        for one in page["items"]:
            yield {**one, "recorded": _plain(one["recorded"])}
        start, total = start + _PAGE, page["total"]


def _versions(caller: Caller, shelf: Shelf, at: Resolved) -> Iterator[dict[str, Any]]:
    rows = ArtifactVersion.objects.filter(shelf=shelf, number__isnull=False).order_by("pk")
    fields = ("path", "number", "kind", "size", "effect", "headline", "content")
    for row in rows.values(*fields, "commit__uid", "commit__author", "commit__recorded").iterator():
        yield {
            **row,
            "version": row["number"],
            "commit": row["commit__uid"],
            "author": row["commit__author"],
            "recorded": _plain(row["commit__recorded"]),
        }


def _plain(moment: Any) -> str | None:
    """A moment in UTC as the engine reads it."""
    return None if moment is None else moment.isoformat() if not isinstance(moment, str) else moment


def _runs(caller: Caller, shelf: Shelf, at: Resolved) -> Iterator[dict[str, Any]]:
    rows = Run.objects.filter(experiment__shelf=shelf).order_by("pk")
    fields = ("number", "branch", "state", "took_seconds", "command", "began", "parameters", "metrics")
    for row in rows.values(*fields, "experiment__key", "person__username", "commit__uid").iterator():
        yield {
            **row,
            "experiment": row["experiment__key"],
            "run": row["number"],
            "person": row["person__username"],
            "commit": row["commit__uid"],
            "began": _plain(row["began"]),
            "parameters": {name: _told(value) for name, value in row["parameters"].items()},
            "metrics": {n: v for n, v in row["metrics"].items() if isinstance(v, int | float)},
        }


def _told(value: Any) -> str:
    return value if isinstance(value, str) else orjson.dumps(value).decode()


def _findings(caller: Caller, shelf: Shelf, at: Resolved) -> Iterator[dict[str, Any]]:
    return findings_of(caller, shelf)


_LISTS = {
    "commits": _commits,
    "artifacts": _artifacts,
    "versions": _versions,
    "findings": _findings,
    "runs": _runs,
}
