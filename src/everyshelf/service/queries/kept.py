"""Answers of queries that take longer than an answer may: run by a job, and kept as long as there is room for them."""

from __future__ import annotations

import uuid
from collections.abc import Callable
from pathlib import Path

from everyshelf.core.querying.statement import MOST_ROWS
from everyshelf.service.base.context import reading_process
from everyshelf.service.base.working import WorkingError
from everyshelf.service.jobs.actions import start_job
from everyshelf.service.queries.ready import Ready, ready
from everyshelf.service.rights import Caller
from everyshelf.service.shelves.actions import kept_rows
from everyshelf.service.shelves.actions.remembered import key_of
from everyshelf.service.shelves.models import Shelf

KIND = "query"
KEPT = "kept"  # the view of an answer that is kept
ALL_ROWS = "SELECT * FROM kept"
_MEMORY = 1024 * 1024 * 1024
_LONGEST_SECONDS = 600.0  # of processor time: more is rather a join without its condition


class QueryWorkingError(WorkingError):
    """A job is running the query."""

    code = "query.working"

    def __init__(self, job: str) -> None:
        super().__init__("this query takes longer than an answer may: a job runs it", job)


def ask_a_job(caller: Caller, shelf: Shelf, sql: str, ref: str) -> QueryWorkingError:
    """Have a job run a query; gives the error that says so."""
    return QueryWorkingError(start_job(caller, KIND, shelf, {"sql": sql, "ref": ref}).uid)


def kept_answer(found: Ready) -> Path | None:
    """The file of an answer that a job has kept; None where there is none."""
    file = _file_of(found)
    if not file.exists():
        return None
    kept_rows.mark_used(file)
    return file


def keep_answer(caller: Caller, shelf: Shelf, sql: str, ref: str, tick: Callable[[], None]) -> int:
    """Run a query and keep its rows, one more than are ever given (the work of a job); gives how many bytes they are.

    ``tick`` may raise to end the work. Raises ``InvalidError`` and ``LimitError`` where it cannot be run, even so.
    """
    with ready(caller, shelf, sql, ref) as found:
        file = _file_of(found)
        if not file.exists():
            part = file.with_name(f"{uuid.uuid4().hex}.part")
            worker = reading_process(deadline_seconds=_LONGEST_SECONDS, memory_bytes=_MEMORY)
            try:
                worker.query(
                    found.sql, found.tables, found.lists, MOST_ROWS + 1, output=part, form="parquet", tick=tick
                )
                part.replace(file)
            finally:
                worker.close()
                part.unlink(missing_ok=True)
            kept_rows.make_room(file)
        return file.stat().st_size


def _file_of(found: Ready) -> Path:
    return kept_rows.file_of(key_of(found.basis()))
