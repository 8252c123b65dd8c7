"""T10 to T13: two versions of a table of millions of rows, against an engine that merely reads both files.

The rows are ten columns of whole numbers, decimals, texts and days; one in a hundred is changed, one in two hundred
added and removed. Each of ours runs in a process of its own, so that its peak of memory is its own. The files are read
once before each case, so that no case waits for the disk.
"""

from __future__ import annotations

import json
import os
import shutil
import subprocess
import sys
import tempfile
from collections.abc import Iterator, Sequence
from functools import partial
from pathlib import Path
from typing import Any

import duckdb

from bench.measure import Figure, interleave

SIZES = [int(size) for size in os.environ.get("EVERYSHELF_BENCH_ROWS", "1000000,10000000").split(",")]
_READ = (
    "SELECT sum(sailing_id), sum(day), sum(passengers), sum(cars), sum(fare), sum(tide), sum(delay), "
    "sum(strlen(route)), sum(strlen(ticket)), max(date) FROM {}"
)
_START = """
import json, sys, time
from pathlib import Path
from everyshelf.core.compare.known import compare_known
from everyshelf.core.tables.comparing import compare_tables
from everyshelf.core.tables.engine import Engine
from everyshelf.core.tables.fingerprint import fingerprint_of
from everyshelf.core.tables.given import Given
from everyshelf.core.tables.keep import Keep
from everyshelf.core.tables.options import TableOptions
from everyshelf.core.tables.sources import open_table, open_tables
form, memory, *files = sys.argv[1], int(sys.argv[2]), *sys.argv[3:]
engine = Engine(memory_bytes=memory)
def compared(old, new):
    sources = open_tables(engine, old, new, (form, form), ("sailing_id",))
    return compare_tables(engine, *sources, TableOptions(key=("sailing_id",)), Keep(1000)).rows
# A reading process is kept between calls: this one has compared another table before.
small = [Path(files[0]).with_name(f"small-{n}.{form}") for n in "ab"]
compared(*(Given(p.name, path=p) for p in small))
engine.forget()
old = Given(files[0], path=Path(files[0]))
new = Given(files[1], path=Path(files[1])) if len(files) == 2 else Given("new", files=tuple(Given(n, path=Path(n)) for n in files[1:]))
start = time.monotonic()
"""
_COMPARE = """
found = compared(old, new)
told = {"added": found.added, "removed": found.removed, "changed": found.changed, "details": len(found.details)}
"""
_FINGERPRINTS = """
made = [fingerprint_of(engine, open_table(engine, given, form)) for given in (old, new)]
made_in, start = time.monotonic() - start, time.monotonic()
told = {"same": compare_known(*made) is not None, "made_in": made_in}
"""
_END = """
seconds = time.monotonic() - start
engine.close()
peak = int(next(l for l in open("/proc/self/status") if l.startswith("VmHWM")).split()[1]) >> 10
print(json.dumps({"seconds": seconds, "peak": peak, "told": told}))
"""


def make(folder: Path, rows: int) -> None:
    """``a`` and ``b`` as Parquet and CSV, and the rows of ``a`` re-sorted into twelve files."""
    with duckdb.connect(config={"memory_limit": "8GB", "threads": 2}) as engine:
        run = engine.execute
        run(
            f"""CREATE TABLE a AS SELECT i AS sailing_id, (hash(i) % 365)::INT AS day,
            (hash(i * 3) % 400)::INT AS passengers, (hash(i * 7) % 90)::INT AS cars,
            round((hash(i * 11) % 5000) / 100.0, 2)::DOUBLE AS fare, (hash(i * 13) % 100000) / 1000.0::DOUBLE AS tide,
            (hash(i * 17) % 10000) / 7.0::DOUBLE AS delay,
            ['Holm', 'Inner', 'North', 'Vik'][1 + (hash(i * 19) % 4)::INT] AS route,
            'S-' || (hash(i * 23) % 1000000)::VARCHAR AS ticket, DATE '2024-01-01' + (hash(i) % 365)::INT AS date
            FROM range({rows}) t(i)"""
        ).fetchall()
        run(
            f"""CREATE TABLE b AS SELECT * REPLACE (CASE WHEN hash(sailing_id * 31) % 100 = 0 THEN passengers + 1
            ELSE passengers END AS passengers) FROM a WHERE hash(sailing_id * 31) % 200 <> 7 UNION ALL
            SELECT * REPLACE (sailing_id + {rows} AS sailing_id) FROM a WHERE hash(sailing_id * 37) % 200 = 3"""
        ).fetchall()
        for name in "ab":
            run(f"COPY {name} TO '{folder}/{name}.parquet' (FORMAT parquet)").fetchall()
            run(f"COPY {name} TO '{folder}/{name}.csv' (HEADER)").fetchall()
            for form in ("parquet", "csv"):
                small = f"SELECT * FROM {name} WHERE sailing_id < 60000 ORDER BY sailing_id"
                run(f"COPY ({small}) TO '{folder}/small-{name}.{form}' (FORMAT {form})").fetchall()
        for n in range(12):
            run(
                f"COPY (SELECT * FROM a WHERE hash(sailing_id * 5) % 12 = {n} ORDER BY ticket, sailing_id) "
                f"TO '{folder}/part-{n:02}.parquet' (FORMAT parquet)"
            ).fetchall()


def ours(work: str, form: str, memory: int, files: Sequence[Path]) -> dict[str, Any]:
    """One piece of work in a process of its own: its seconds, its peak of memory in MB, what it told."""
    script = _START + work + _END
    done = subprocess.run(
        [sys.executable, "-c", script, form, str(memory), *map(str, files)], capture_output=True, text=True, check=True
    )
    told: dict[str, Any] = json.loads(done.stdout)
    return told


def read(*relations: str) -> None:
    """The rival: every value of both files read by the engine itself."""
    with duckdb.connect(config={"memory_limit": "4GB", "threads": 2}) as engine:
        for relation in relations:
            engine.execute(_READ.format(relation)).fetchall()


def _warm(files: Sequence[Path]) -> None:
    for path in files:
        with path.open("rb") as file:
            while file.read(1 << 24):
                pass


class _Case:
    """One of the figures: ours, measured inside its own process, against the rival."""

    def __init__(self, rows: int, name: str, title: str, limit: float | None) -> None:
        self._rows, self._name, self._title, self._limit = rows, name, title, limit
        self._seconds: list[float] = []
        self._peak = 0
        self.told: dict[str, Any] = {}

    def _run(self, work: str, form: str, memory: int, files: Sequence[Path]) -> None:
        found = ours(work, form, memory, files)
        self._seconds.append(found["seconds"])
        self._peak, self.told = max(self._peak, found["peak"]), found["told"]

    def measured(
        self, work: str, form: str, memory: int, files: Sequence[Path], rival: Sequence[str], rounds: int
    ) -> Figure:
        taken = interleave(
            {"ours": partial(self._run, work, form, memory, files), "reading": partial(read, *rival)},
            rounds=rounds,
            before=partial(_warm, files),
        )
        mine = sorted(self._seconds)[len(self._seconds) // 2]
        ratio = mine / taken["reading"]
        detail = f"{mine:.2f} against {taken['reading']:.2f} s; peak {self._peak} MB"
        if "made_in" in self.told:
            detail += f"; both fingerprints were made in {self.told['made_in']:.1f} s"
        target, holds = (f"≤ {self._limit} ×", ratio <= self._limit) if self._limit else ("", True)
        return Figure(
            self._name, f"{self._rows:,} rows, {self._title}, against reading both", ratio, target, holds, detail
        )


def tables() -> Iterator[Figure]:
    """T10, T11, T12 and T13."""
    for rows in SIZES:
        folder = Path(tempfile.mkdtemp(prefix="es-bench-tables-"))
        try:
            make(folder, rows)
            yield from _figures(folder, rows)
        finally:
            shutil.rmtree(folder, ignore_errors=True)


def _figures(folder: Path, rows: int) -> Iterator[Figure]:
    a, b = folder / "a.parquet", folder / "b.parquet"
    parts = sorted(folder.glob("part-*.parquet"))
    parquet = [f"read_parquet('{p}')" for p in (a, b)]
    again = [f"read_parquet('{a}')", f"read_parquet('{folder}/part-*.parquet')"]
    csv = [f"read_csv('{folder}/{n}.csv')" for n in "ab"]
    texts = [folder / "a.csv", folder / "b.csv"]
    small, large = 600 << 20, 4 << 30
    for name, title, limit, work, form, memory, files, rival, rounds in (
        ("T10", "keyed comparison in Parquet", 2.5, _COMPARE, "parquet", large, [a, b], parquet, 5),
        ("T11", "the same under 1 GB", 6.0, _COMPARE, "parquet", small, [a, b], parquet, 5),
        ("T12", "the same rows in CSV", 1.3, _COMPARE, "csv", large, texts, csv, 5),
        ("T13", "re-sorted in 12 files, by fingerprints", 1.3, _FINGERPRINTS, "parquet", small, [a, *parts], again, 3),
        ("T13", "re-sorted in 12 files, without any", None, _COMPARE, "parquet", large, [a, *parts], again, 5),
    ):
        yield _Case(rows, name, title, limit).measured(work, form, memory, files, rival, rounds)
