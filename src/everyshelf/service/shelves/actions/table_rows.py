"""The rows of one version of a table by pages, whatever its size: kept once in a file that is read anywhere.

A request keeps a small table itself and leaves a large one to a job. The files make room for newer ones, see
``kept_rows``.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from pathlib import Path

from everyshelf.core.answers.tables import TableRows
from everyshelf.core.errors import LimitError, UnreadableError
from everyshelf.core.history.trees import Entry
from everyshelf.core.kinds.rules import Rules, parse_rules
from everyshelf.core.reading.messages import FileAt
from everyshelf.service.base.context import reader
from everyshelf.service.base.working import WorkingError
from everyshelf.service.jobs.actions import start_job
from everyshelf.service.rights import Caller
from everyshelf.service.shelves.actions import kept_rows
from everyshelf.service.shelves.actions.contents import as_given
from everyshelf.service.shelves.actions.remembered import key_of
from everyshelf.service.shelves.models import Shelf

KIND = "rows"
_MOST_WHILE_WAITING = 8 * 1024 * 1024  # bytes of a table that is kept within a request


class RowsReadingError(WorkingError):
    """A job is keeping the table for paging."""

    code = "rows.reading"

    def __init__(self, job: str) -> None:
        super().__init__("reading a table of this size takes longer than an answer may: a job does it", job)


@dataclass(frozen=True)
class WantedRows:
    """``table``: which one, of a database; ``sort`` and ``where`` as in ``core.tables.paging``."""

    start: int = 0
    count: int = 100
    sort: list[str] = field(default_factory=list)
    where: list[str] = field(default_factory=list)
    table: str = ""


def rows_of(caller: Caller, shelf: Shelf, path: str, entry: Entry, rules: Rules, wanted: WantedRows) -> TableRows:
    """A page of a table's rows. Raises ``RowsReadingError`` where a job has to keep it first, ``UnreadableError``
    (rows.no_table) for what is not a table, and ``InvalidError`` for a column or condition that does not fit it."""
    kept = file_to_read(caller, shelf, path, entry, rules, wanted.table)
    with reader() as worker:
        return worker.table_rows(kept, wanted.start, wanted.count, sort=wanted.sort, where=wanted.where)


def file_to_read(caller: Caller, shelf: Shelf, path: str, entry: Entry, rules: Rules, table: str = "") -> Path:
    """The file in which a table is kept, made now or found. Raises as ``rows_of``."""
    kept = _file_of(path, entry, rules, table)
    if not kept.exists() and not _kept_at_once(path, entry, rules, table, kept):
        given = {"path": path, "type": entry.type, "content": entry.id, "size": entry.size}
        job = start_job(caller, KIND, shelf, {**given, "table": table, "rules": rules.source})
        raise RowsReadingError(job.uid)
    kept_rows.mark_used(kept)
    return kept


def keep_rows(path: str, entry: Entry, rules_text: str, table: str, tick: Callable[[], None]) -> int:
    """Keep a table for paging (the work of a job); gives how many rows it has."""
    rules = parse_rules(rules_text)
    kept = _file_of(path, entry, rules, table)
    if kept.exists():
        return 0
    return _keep(path, entry, rules, table, kept, tick)


def _file_of(path: str, entry: Entry, rules: Rules, table: str) -> Path:
    # The name says how a file is read, so it is a part of what the kept one depends on.
    return kept_rows.file_of(key_of(("rows", path.rpartition("/")[2], entry.id, rules.source, table)))


def _kept_at_once(path: str, entry: Entry, rules: Rules, table: str, kept: Path) -> bool:
    """True where the table could be kept within a request; a small file may hold a very long one."""
    if entry.size > _MOST_WHILE_WAITING:
        return False
    try:
        _keep(path, entry, rules, table, kept)
    except LimitError:
        return False
    return True


def _keep(path: str, entry: Entry, rules: Rules, table: str, kept: Path, tick: Callable[[], None] | None = None) -> int:
    if entry.type not in ("artifact", "whole"):
        raise UnreadableError(f"{path} is not a table", code="rows.no_table")
    with as_given(entry) as file, reader() as worker:
        count = worker.keep_table(FileAt(path, str(file)), kept, table=table, rules=rules.source, tick=tick)
    kept_rows.make_room(kept)
    return count
