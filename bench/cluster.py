"""A hundred million rows compared by one process and by two workers of a Dask cluster, each within a gigabyte."""

from __future__ import annotations

import os
import tempfile
import time
from collections.abc import Iterator
from pathlib import Path

import duckdb
from tests.support.dask_cluster import DaskCluster

from bench.measure import Figure
from everyshelf.core.answers.comparisons import ComparisonAnswer
from everyshelf.core.reading.messages import FileAt, Spreading
from everyshelf.core.reading.worker import WHOLE_SECONDS, Worker

ROWS = int(os.environ.get("BENCH_CLUSTER_ROWS", "100000000"))
_GIGABYTE = 1024**3
_MADE = """
COPY (SELECT i AS id, (hash(i) % 100000)::INTEGER AS fare, 'Z' || (i % 97) AS zone,
    ((hash(i * 3) % 1000000) / 100.0)::DOUBLE AS price, DATE '2026-01-01' + (i % 300)::INTEGER AS day,
    (hash(i * 7) % 5000)::INTEGER AS berth FROM range({rows}) t(i))
TO '{folder}/before.parquet' (FORMAT parquet, COMPRESSION zstd, ROW_GROUP_SIZE 500000)
"""
# One fare in a hundred is another, one price in a thousand; one row in two hundred went, and as many came.
_CHANGED = """
COPY (SELECT id, CASE WHEN id % 100 = 3 THEN fare + 1 ELSE fare END AS fare, zone,
    CASE WHEN id % 1000 = 5 THEN price + 1 ELSE price END AS price, day, berth
    FROM read_parquet('{folder}/before.parquet') WHERE id % 200 <> 7
    UNION ALL SELECT i + {rows}, 1, 'Z1', 2.0, DATE '2026-02-02', 3 FROM range({rows} // 200) t(i))
TO '{folder}/after.parquet' (FORMAT parquet, COMPRESSION zstd, ROW_GROUP_SIZE 500000)
"""


def cluster() -> Iterator[Figure]:
    """Both must count what is known to be there."""
    with tempfile.TemporaryDirectory(prefix="es-bench-") as folder:
        engine = duckdb.connect(config={"temp_directory": f"{folder}/spill", "memory_limit": "3GB"})
        for statement in (_MADE, _CHANGED):
            engine.execute(statement.format(rows=ROWS, folder=folder))
        engine.close()
        alone, seconds, _ = _compared(Path(folder), None)
        yield _exact("by one process", alone, f"{seconds:.0f} s")
        workers = DaskCluster(2, memory="1GB")
        try:
            spread, by_two, parts = _compared(Path(folder), workers.address)
            peaks = [_peak(worker.pid) for worker in workers.workers]
        finally:
            workers.close()
    told = f"{by_two:.0f} s, {parts} parts; in the parts {ROWS:,} rows a side"
    yield _exact("by two workers of a cluster", spread, told)
    yield Figure("23", "speed of two workers against one process, ×", seconds / by_two, "told", True, told)
    most = max(peaks) / _GIGABYTE
    yield Figure("23", "memory of the larger worker, GB", most, "<= 1", most <= 1, "")


def _compared(folder: Path, scheduler: str | None) -> tuple[ComparisonAnswer, float, int]:
    spreading = Spreading("everyshelf.cluster.dask:opened", scheduler, 1) if scheduler else None
    worker = Worker(deadline_seconds=WHOLE_SECONDS, memory_bytes=_GIGABYTE, spreading=spreading)
    parts = 0

    def tell(done: int, total: int) -> None:
        nonlocal parts
        parts = total
        print(f"     … part {done} of {total}", flush=True)

    try:
        begun = time.perf_counter()
        files = [FileAt("fares.parquet", str(folder / name)) for name in ("before.parquet", "after.parquet")]
        answer = worker.compare(files[0], files[1], tell=tell)
        seconds = time.perf_counter() - begun
        if worker.missed:
            raise RuntimeError(worker.missed)
        return answer, seconds, parts
    finally:
        worker.close()


def _exact(who: str, found: ComparisonAnswer, detail: str) -> Figure:
    table = found.table
    wrong = 1
    if table is not None:
        rows, cells = table.rows, {name: told.changed for name, told in table.cells.items()}
        counts = (rows.added, rows.removed, rows.changed, rows.before, rows.after)
        wrong = int(counts != _known() or cells != {"fare": ROWS // 100, "price": ROWS // 1000})
    return Figure("23", f"counts that are wrong, {ROWS:,} rows compared {who}", wrong, "0", not wrong, detail)


def _known() -> tuple[int, int, int, int, int]:
    return ROWS // 200, ROWS // 200, ROWS // 100 + ROWS // 1000, ROWS, ROWS


def _peak(pid: int) -> int:
    """The most memory a process had, in bytes."""
    said = dict(line.split(":", 1) for line in Path(f"/proc/{pid}/status").read_text().splitlines() if ":" in line)
    return int(said["VmHWM"].split()[0]) * 1024
