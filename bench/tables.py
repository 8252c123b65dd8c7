"""T10 to T13: two versions of a table of millions of rows, against an engine that merely reads both files.

The rows are ten columns of whole numbers, decimals, texts and days; one in a hundred is changed, one in two hundred
added and removed. Each of ours runs in a process of its own, so that its peak of memory is its own.
"""

from __future__ import annotations

import json
import os
import shutil
import subprocess
import sys
import tempfile
from collections.abc import Iterator
from functools import partial
from pathlib import Path

import duckdb

from bench.measure import Figure, interleave

ROWS = int(os.environ.get("EVERYSHELF_BENCH_ROWS", "10000000"))
_READ = (
    "SELECT sum(sailing_id), sum(day), sum(passengers), sum(cars), sum(fare), sum(tide), sum(delay), "
    "sum(strlen(route)), sum(strlen(ticket)), max(date) FROM {}"
)
_OURS = """
import json, sys, time
from pathlib import Path
from everyshelf.core.tables.comparing import compare_tables
from everyshelf.core.tables.engine import Engine
from everyshelf.core.tables.given import Given
from everyshelf.core.tables.keep import Keep
from everyshelf.core.tables.options import TableOptions
from everyshelf.core.tables.sources import open_table
form, memory, old, new = sys.argv[1], int(sys.argv[2]), sys.argv[3], sys.argv[4:]
start = time.monotonic()
with Engine(memory_bytes=memory) as engine:
    after = Given(new[0], path=Path(new[0])) if len(new) == 1 else Given("new", files=tuple(Given(n, path=Path(n)) for n in new))
    sources = open_table(engine, Given(old, path=Path(old)), form), open_table(engine, after, form)
    found = compare_tables(engine, *sources, TableOptions(key=("sailing_id",)), Keep(1000))
    seconds = time.monotonic() - start
peak = int(next(l for l in open("/proc/self/status") if l.startswith("VmHWM")).split()[1]) >> 10
print(json.dumps({"seconds": seconds, "peak": peak, "rows": vars(found.rows) | {"details": len(found.rows.details)}}))
"""


def make(folder: Path) -> None:
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
            FROM range({ROWS}) t(i)"""
        ).fetchall()
        run(
            f"""CREATE TABLE b AS SELECT * REPLACE (CASE WHEN hash(sailing_id * 31) % 100 = 0 THEN passengers + 1
            ELSE passengers END AS passengers) FROM a WHERE hash(sailing_id * 31) % 200 <> 7 UNION ALL
            SELECT * REPLACE (sailing_id + {ROWS} AS sailing_id) FROM a WHERE hash(sailing_id * 37) % 200 = 3"""
        ).fetchall()
        for name in "ab":
            run(f"COPY {name} TO '{folder}/{name}.parquet' (FORMAT parquet)").fetchall()
            run(f"COPY {name} TO '{folder}/{name}.csv' (HEADER)").fetchall()
        for n in range(12):
            run(
                f"COPY (SELECT * FROM a WHERE hash(sailing_id * 5) % 12 = {n} ORDER BY ticket, sailing_id) "
                f"TO '{folder}/part-{n:02}.parquet' (FORMAT parquet)"
            ).fetchall()


def ours(form: str, memory: int, *files: Path) -> dict:
    """One comparison in a process of its own: its seconds, its peak of memory in MB, its counts."""
    done = subprocess.run(
        [sys.executable, "-c", _OURS, form, str(memory), *map(str, files)], capture_output=True, text=True, check=True
    )
    return json.loads(done.stdout)


def read(*relations: str) -> None:
    """The rival: every value of both files read by the engine itself."""
    with duckdb.connect(config={"memory_limit": "4GB", "threads": 2}) as engine:
        for relation in relations:
            engine.execute(_READ.format(relation)).fetchall()


def tables() -> Iterator[Figure]:
    """T10, T11, T12 and T13."""
    folder = Path(tempfile.mkdtemp(prefix="es-bench-tables-"))
    try:
        make(folder)
        a, b = folder / "a.parquet", folder / "b.parquet"
        parts = sorted(folder.glob("part-*.parquet"))
        peaks: dict[str, int] = {}
        seconds: dict[str, list[float]] = {}

        def case(name: str, form: str, memory: int, *files: Path) -> None:
            found = ours(form, memory, *files)
            peaks[name] = max(peaks.get(name, 0), found["peak"])
            seconds.setdefault(name, []).append(found["seconds"])

        parquet = [f"read_parquet('{p}')" for p in (a, b)]
        again = [f"read_parquet('{a}')", f"read_parquet('{folder}/part-*.parquet')"]
        csv = [f"read_csv('{folder}/{n}.csv')" for n in "ab"]
        for name, title, limit, form, memory, files, rival in (
            ("T10", "keyed comparison in Parquet", 2.5, "parquet", 4 << 30, (a, b), parquet),
            ("T11", "the same under 1 GB", 6.0, "parquet", 600 << 20, (a, b), parquet),
            ("T13", "the same rows re-sorted in 12 files", 1.3, "parquet", 4 << 30, (a, *parts), again),
            ("T12", "the same rows in CSV", 1.3, "csv", 3 << 30, (folder / "a.csv", folder / "b.csv"), csv),
        ):
            rounds = 3 if name == "T12" else 5
            taken = interleave(
                {"ours": partial(case, name, form, memory, *files), "reading": partial(read, *rival)}, rounds=rounds
            )
            mine = sorted(seconds[name])[len(seconds[name]) // 2]
            ratio = mine / taken["reading"]
            detail = f"{mine:.1f} against {taken['reading']:.1f} s; peak {peaks[name]} MB"
            yield Figure(
                name, f"{ROWS:,} rows, {title}, against reading both", ratio, f"≤ {limit} ×", ratio <= limit, detail
            )
    finally:
        shutil.rmtree(folder, ignore_errors=True)
