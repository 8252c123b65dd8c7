"""What people wait for: whole commands in cold processes, profiles and starting included, by their processor time."""

from __future__ import annotations

import json
import os
import shutil
import statistics
import subprocess
import sys
import tempfile
from collections.abc import Iterator
from pathlib import Path

import duckdb
import orjson
import yaml

from bench.growth import growth
from bench.meaning import bpmn, edited, records
from bench.measure import Figure
from bench.tables import make

ROWS = int(os.environ.get("EVERYSHELF_BENCH_AS_RUN", "1000000"))
ROUNDS = 3
_COMMAND = str(Path(sys.executable).with_name("everyshelf"))
# The rival: a cold process of the engine that reads every value of both files.
_READ = """
import sys, duckdb
with duckdb.connect(config={"memory_limit": "4GB", "threads": 2}) as engine:
    for relation in sys.argv[1:]:
        columns = engine.execute(f"DESCRIBE SELECT * FROM {relation}").fetchall()
        engine.execute("SELECT " + ", ".join(f"max(hash(\\"{c[0]}\\"))" for c in columns) + f" FROM {relation}").fetchall()
"""


def as_run() -> Iterator[Figure]:
    """Comparisons of files from the command line, and how the work grows with the size of a file."""
    folder = Path(tempfile.mkdtemp(prefix="es-bench-run-"))
    try:
        make(folder, ROWS)
        _more(folder)
        is_long = ROWS > 5_000_000
        for what, stem, form, limit in (
            ("integer key, 1 % changed, Parquet", "", "parquet", 3.0 if is_long else 6.0),
            ("integer key, 1 % changed, CSV", "", "csv", 1.5 if is_long else 3.0),
            ("key of texts, CSV", "text-", "csv", 5.0 if is_long else 10.0),
            ("no key, CSV", "loose-", "csv", 5.0 if is_long else 10.0),
            ("half of the rows changed, CSV", "half-", "csv", 5.0 if is_long else 10.0),
        ):
            yield _against_reading(f"{ROWS:,} rows, {what}", folder, stem, form, limit)
        yield _against_reading("50,000 rows × 200 columns, Parquet", folder, "wide-", "parquet", 10.0)
        yield from _small(folder)
        yield from _documents(folder)
    finally:
        shutil.rmtree(folder, ignore_errors=True)
    yield from growth()


def _more(folder: Path) -> None:
    with duckdb.connect(config={"memory_limit": "4GB", "threads": 2}) as engine:
        run = engine.execute
        for name in "ab":
            relation = f"read_parquet('{folder}/{name}.parquet')"
            run(f"CREATE TABLE {name} AS SELECT * FROM {relation}").fetchall()
            named = f"SELECT 'sailing ' || hash(sailing_id)::VARCHAR AS sailing, * EXCLUDE sailing_id FROM {name}"
            run(f"COPY ({named}) TO '{folder}/text-{name}.csv' (HEADER)").fetchall()
            loose = f"SELECT day, passengers, cars, route, tide::INT AS tide FROM {name}"
            run(f"COPY ({loose}) TO '{folder}/loose-{name}.csv' (HEADER)").fetchall()
            changed = "fare + (CASE WHEN sailing_id % 2 = 0 THEN 1 ELSE 0 END)" if name == "b" else "fare"
            run(f"COPY (SELECT * REPLACE ({changed} AS fare) FROM a) TO '{folder}/half-{name}.csv' (HEADER)").fetchall()
            cells = ", ".join(f"(hash(i * {n + 3}) % 1000) / 8.0 AS gauge_{n}" for n in range(199))
            less = "WHERE i % 1000 <> 7" if name == "b" else ""
            wide = f"SELECT i AS reading, {cells} FROM range(50000) t(i) {less}"
            run(f"COPY ({wide}) TO '{folder}/wide-{name}.parquet' (FORMAT parquet)").fetchall()
            small = f"SELECT * FROM {name} WHERE sailing_id < 500"
            run(f"COPY ({small}) TO '{folder}/few-{name}.csv' (HEADER)").fetchall()


def _processor_seconds(command: list[str]) -> float:
    """Of a process and all it started and waited for."""
    process = subprocess.Popen(command, stdout=subprocess.DEVNULL, stderr=subprocess.PIPE)
    assert process.stderr is not None
    said = process.stderr.read().decode()
    _, status, used = os.wait4(process.pid, 0)
    if os.waitstatus_to_exitcode(status):
        raise RuntimeError(f"{' '.join(command)}: {said}")
    return used.ru_utime + used.ru_stime


def _against_reading(what: str, folder: Path, stem: str, form: str, limit: float) -> Figure:
    files = [str(folder / f"{stem}{name}.{form}") for name in "ab"]
    rival = [sys.executable, "-c", _READ, *(f"read_{form}('{file}')" for file in files)]
    return _against(f"{what}, against reading both", files, rival, limit)


def _against(what: str, files: list[str], rival: list[str], limit: float) -> Figure:
    mine, theirs = [], []
    for _ in range(ROUNDS):
        mine.append(_processor_seconds([_COMMAND, "compare-files", *files]))
        theirs.append(_processor_seconds(rival))
    ours, reading = statistics.median(mine), statistics.median(theirs)
    ratio = ours / reading
    detail = f"{ours:.1f} against {reading:.1f} s of processor time"
    return Figure("run", f"compare-files, {what}", ratio, f"≤ {limit:g} ×", ratio <= limit, detail)


def _documents(folder: Path) -> Iterator[Figure]:
    """Large documents against a cold process that parses both (T14, T16, T17 as people run them)."""
    tree, smaller = records(10_000, 16), records(14_500, 4)
    process = bpmn(24_000)
    for what, name, parse, old, new, limit in (
        ("JSON", "s.json", "import orjson; parse = orjson.loads", _json(tree), _json(edited(tree)), 2.5),
        (
            "YAML",
            "s.yaml",
            "import yaml; parse = lambda data: yaml.load(data, yaml.CSafeLoader)",
            _yaml(smaller),
            _yaml(edited(smaller)),
            1.5,
        ),
        (
            "BPMN",
            "s.bpmn",
            "from lxml import etree; parse = etree.fromstring",
            process,
            process.replace(b'name="Task 77"', b'name="Job 77"'),
            3.0,
        ),
    ):
        files = [folder / f"{side}-{name}" for side in ("old", "new")]
        for file, data in zip(files, (old, new), strict=True):
            file.write_bytes(data)
        script = f"import sys; {parse}\nfor file in sys.argv[1:]: parse(open(file, 'rb').read())"
        rival = [sys.executable, "-c", script, *map(str, files)]
        megabytes = len(old) / 1e6
        yield _against(f"{what}, {megabytes:.0f} MB, against parsing both", list(map(str, files)), rival, limit)


def _json(tree: object) -> bytes:
    return orjson.dumps(tree, option=orjson.OPT_INDENT_2)


def _yaml(tree: object) -> bytes:
    return yaml.dump(tree, Dumper=yaml.CSafeDumper).encode()


def _small(folder: Path) -> Iterator[Figure]:
    """Beside each what cannot be less: a process that only loads what the work needs."""
    files = [str(folder / f"few-{name}.csv") for name in "ab"]
    settings = [folder / f"few-{name}.json" for name in "ab"]
    for number, file in enumerate(settings):
        file.write_text(json.dumps({"berth": {"depth": number, "ports": [1, 2]}}))
    size = os.path.getsize(files[0]) >> 10
    for what, command, loads, limit in (
        (f"compare-files, CSV of {size} kB", ["compare-files", *files], "duckdb, pyarrow, numpy", 0.5),
        ("compare-files, small JSON", ["compare-files", *map(str, settings)], "lxml.etree, yaml, msgspec", 0.5),
        ("--help", ["--help"], "click", 0.1),
    ):
        ours, least = [], []
        for _ in range(5):
            ours.append(_processor_seconds([_COMMAND, *command]))
            least.append(_processor_seconds([sys.executable, "-c", f"import {loads}"]))
        taken = statistics.median(ours)
        detail = f"loading {loads} alone: {statistics.median(least):.2f}"
        yield Figure("run", f"{what}, seconds of processor time", taken, f"≤ {limit:g}", taken <= limit, detail)
