"""The embedded analytical engine tables are worked on with: bounded memory, a folder to spill into, no other access."""

from __future__ import annotations

import atexit
import contextlib
import re
import shutil
import tempfile
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from types import TracebackType
from typing import Any

import duckdb
import pyarrow as pa

from everyshelf.core.errors import UnreadableError
from everyshelf.core.tables.functions import FUNCTIONS
from everyshelf.core.tables.options import allowed_memory, spill_budget

_BATCH_ROWS = 1 << 18


class Engine:
    """One connection with a folder of its own, which goes away with it. Not for use by two threads at once."""

    def __init__(self, *, memory_bytes: int | None = None, threads: int = 2, folder: Path | None = None) -> None:
        self.memory_bytes = memory_bytes or allowed_memory()
        self.folder = Path(tempfile.mkdtemp(prefix="es-tables-", dir=folder))
        config: dict[str, Any] = {
            "memory_limit": f"{self.memory_bytes >> 20}MB",
            "threads": threads,
            "temp_directory": str(self.folder / "spill"),
            "max_temp_directory_size": f"{spill_budget(self.folder) >> 20}MB",
            "autoinstall_known_extensions": False,
            "autoload_known_extensions": False,
            "preserve_insertion_order": True,
        }
        self._connection = duckdb.connect(":memory:", config=config)
        self._names = 0
        self.run("SET enable_progress_bar = false")
        self.run("SET TimeZone = 'UTC'")
        self.run("SET streaming_buffer_size = '32MB'")
        for function in FUNCTIONS:
            self.run(function)

    def __enter__(self) -> Engine:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self.close()

    def close(self) -> None:
        """End the connection and remove what was spilled."""
        with contextlib.suppress(duckdb.Error):
            self._connection.close()
        shutil.rmtree(self.folder, ignore_errors=True)

    def forget(self) -> None:
        """Drop every table and view, and the files made for them."""
        for kind, name in self.rows(
            "SELECT 'VIEW', view_name FROM duckdb_views() WHERE NOT internal UNION ALL "
            "SELECT 'TABLE', table_name FROM duckdb_tables() WHERE NOT internal"
        ):
            self.run(f"DROP {kind} IF EXISTS {quoted(name)}")
        for file in self.folder.iterdir():
            if file.is_file():
                file.unlink(missing_ok=True)

    def limit(self, memory_bytes: int) -> None:
        """Let it use so much memory from now on."""
        if memory_bytes != self.memory_bytes:
            self.run(f"SET memory_limit = '{memory_bytes >> 20}MB'")
            self.memory_bytes = memory_bytes

    def name(self, stem: str) -> str:
        """A name for a table or view nobody has used yet."""
        self._names += 1
        return f"{stem}_{self._names}"

    def rows(self, sql: str, parameters: list[Any] | None = None) -> list[tuple[Any, ...]]:
        """All rows of a query; raises ``UnreadableError`` for what the engine cannot read."""
        with _engine_errors():
            return self._connection.execute(sql, parameters).fetchall()

    def row(self, sql: str, parameters: list[Any] | None = None) -> tuple[Any, ...]:
        """The only row of a query."""
        return self.rows(sql, parameters)[0]

    def run(self, sql: str, parameters: list[Any] | None = None) -> None:
        """A statement without an answer."""
        self.rows(sql, parameters)

    def batches(self, sql: str) -> Iterator[pa.RecordBatch]:
        """The rows of a query as they come, some at a time; raises as ``rows``.

        The engine works on the next ones while the caller works on these.
        """
        with _engine_errors(), ThreadPoolExecutor(1) as ahead:
            reader = self._connection.sql(sql).to_arrow_reader(_BATCH_ROWS)
            coming = ahead.submit(next, reader, None)
            while (batch := coming.result()) is not None:
                coming = ahead.submit(next, reader, None)
                yield batch

    def table(self, sql: str) -> pa.Table:
        """The rows of a query at once; raises as ``rows``."""
        with _engine_errors():
            return self._connection.sql(sql).to_arrow_table()

    def register(self, name: str, table: Any) -> None:
        """Make an Arrow table known under a name, without copying it."""
        self._connection.register(name, table)

    def unregister(self, name: str) -> None:
        """Let go of what ``register`` made known."""
        self._connection.unregister(name)

    def interrupt(self) -> None:
        """Break off the query another thread is in."""
        self._connection.interrupt()


@contextlib.contextmanager
def _engine_errors() -> Iterator[None]:
    try:
        yield
    except MemoryError:
        raise
    except duckdb.OutOfMemoryException as error:
        raise MemoryError(str(error)) from error
    except (duckdb.Error, pa.ArrowException) as error:
        raise UnreadableError(_first_line(error)) from error


_idle: list[Engine] = []


@contextlib.contextmanager
def borrowed_engine() -> Iterator[Engine]:
    """An engine with the usual limits that is kept for the next call; starting one takes longer than a small table."""
    engine = _idle.pop() if _idle else Engine()
    engine.limit(allowed_memory())
    try:
        yield engine
        engine.forget()
    except BaseException:
        try:
            engine.forget()
        except Exception:
            engine.close()
            raise
        _idle.append(engine)
        raise
    _idle.append(engine)


def close_idle() -> None:
    """Close the engines that are kept for the next call, with what they hold."""
    while _idle:
        _idle.pop().close()


atexit.register(close_idle)


def quoted(name: str) -> str:
    """An identifier for SQL."""
    return '"' + name.replace('"', '""') + '"'


def literal(text: str) -> str:
    """A text for SQL."""
    return "'" + text.replace("'", "''") + "'"


def _first_line(error: Exception) -> str:
    said = _OUR_PATHS.sub("the file", str(error).strip())
    return said.splitlines()[0][:300] if said else type(error).__name__


# Where the engine's files lie is nobody's business.
_OUR_PATHS = re.compile(r"['\"]?/\S*es-tables-[^'\"\s]*['\"]?")
