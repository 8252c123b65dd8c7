"""Run a query in a reading process: its first rows, or all of them as a file.

What takes longer than an answer may is done by a job, which keeps the answer (``kept``): asked again, it is there.
"""

from __future__ import annotations

import os
import tempfile
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import IO

from everyshelf.core.answers.queries import QueryAnswer
from everyshelf.core.errors import InvalidError, LimitError
from everyshelf.core.querying.statement import MOST_ROWS
from everyshelf.service.base.config import get_config
from everyshelf.service.base.context import querier
from everyshelf.service.queries.kept import ALL_ROWS, KEPT, ask_a_job, kept_answer
from everyshelf.service.queries.ready import Ready, ready
from everyshelf.service.rights import Caller
from everyshelf.service.shelves.models import Shelf


def run(caller: Caller, shelf: Shelf, sql: str, ref: str, most: int) -> QueryAnswer:
    """The first rows of a query; names without a ref mean the state ``ref``. Raises ``RowsReadingError`` where a job
    has to keep a table first, ``QueryWorkingError`` where one has to run the query, and ``InvalidError`` or
    ``MissingError`` that names what is wrong in the query."""
    with ready(caller, shelf, sql, ref) as found:
        try:
            answer = _asked(found, most)
        except LimitError as error:
            if error.code != "limit.time":
                raise
            raise ask_a_job(caller, shelf, sql, ref) from error
    return QueryAnswer(columns=answer.columns, rows=answer.rows, more=answer.more, tables=found.told)


def write(caller: Caller, shelf: Shelf, sql: str, ref: str, form: str, most: int | None) -> IO[bytes]:
    """Write the rows of a query in a form that programs read, and return the open file, which has no name any more.

    ``most``: rows that are wanted; without it all are, and ``InvalidError`` (query.rows) says where there are over
    ``MOST_ROWS``. Raises as ``run``.
    """
    with ready(caller, shelf, sql, ref) as found, _aside(f".{form}") as output:
        try:
            answer = _asked(found, MOST_ROWS + 1 if most is None else most, output, form)
        except LimitError as error:
            if error.code != "limit.time":
                raise
            raise ask_a_job(caller, shelf, sql, ref) from error
        if most is None and answer.more:
            raise InvalidError(
                f"the answer has over {MOST_ROWS:,} rows",
                code="query.rows",
                hint="Narrow the query, or say with LIMIT how many rows are wanted.",
            )
        return output.open("rb")


def _asked(found: Ready, most: int, output: Path | None = None, form: str = "") -> QueryAnswer:
    """From the answer that a job has kept, or else by running the query."""
    kept = kept_answer(found)
    with querier() as worker:
        if kept is not None:
            return worker.query(ALL_ROWS, {}, {}, most, answers={KEPT: kept}, output=output, form=form)
        return worker.query(found.sql, found.tables, found.lists, most, output=output, form=form)


@contextmanager
def _aside(suffix: str) -> Iterator[Path]:
    descriptor, name = tempfile.mkstemp(suffix, "query-", get_config().scratch)
    os.close(descriptor)
    try:
        yield Path(name)
    finally:
        Path(name).unlink(missing_ok=True)
