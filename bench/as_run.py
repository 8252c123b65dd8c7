"""What people wait for: whole commands in cold processes, profiles and starting included, by their processor time."""

from __future__ import annotations

import json
import math
import os
import random
import shutil
import statistics
import subprocess
import sys
import tempfile
from collections.abc import Callable, Iterator
from pathlib import Path

import duckdb

from bench.measure import Figure
from bench.tables import make
from everyshelf.core.compare.artifact import ArtifactSide, compare_artifacts

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
        for what, stem, form, limit in (
            ("integer key, 1 % changed, Parquet", "", "parquet", 6.0),
            ("integer key, 1 % changed, CSV", "", "csv", 3.0),
            ("key of texts, CSV", "text-", "csv", 10.0),
            ("no key, CSV", "loose-", "csv", 10.0),
            ("half of the rows changed, CSV", "half-", "csv", 10.0),
        ):
            yield _against_reading(f"{ROWS:,} rows, {what}", folder, stem, form, limit)
        yield _against_reading("50,000 rows × 200 columns, Parquet", folder, "wide-", "parquet", 10.0)
        yield from _small(folder)
    finally:
        shutil.rmtree(folder, ignore_errors=True)
    yield from _growth()


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
    mine, theirs = [], []
    for _ in range(ROUNDS):
        mine.append(_processor_seconds([_COMMAND, "compare-files", *files]))
        theirs.append(_processor_seconds(rival))
    ours, reading = statistics.median(mine), statistics.median(theirs)
    ratio = ours / reading
    detail = f"{ours:.1f} against {reading:.1f} s of processor time"
    return Figure(
        "run", f"compare-files, {what}, against reading both", ratio, f"≤ {limit:g} ×", ratio <= limit, detail
    )


def _small(folder: Path) -> Iterator[Figure]:
    files = [str(folder / f"few-{name}.csv") for name in "ab"]
    for what, command, limit in (
        (f"compare-files of {os.path.getsize(files[0]) >> 10} kB", ["compare-files", *files], 0.5),
        ("--help", ["--help"], 0.1),
    ):
        taken = statistics.median(_processor_seconds([_COMMAND, *command]) for _ in range(5))
        yield Figure("run", f"{what}, seconds of processor time", taken, f"≤ {limit:g}", taken <= limit, "cold process")


# --- growth ------------------------------------------------------------------


def _notebook(count: int, *, after: bool) -> bytes:
    cells = [
        {
            "cell_type": "code",
            "metadata": {},
            "execution_count": None,
            "outputs": [],
            "source": f"depth_{n} = load({n})\nplot(depth_{n})",
        }
        for n in range(count)
    ]
    if after:
        random.Random(7).shuffle(cells)
    return json.dumps({"nbformat": 4, "nbformat_minor": 4, "metadata": {}, "cells": cells}).encode()


def _graph(count: int, *, after: bool) -> bytes:
    nodes = [
        {
            "id": f"n{n}",
            "type": "function",
            "name": f"step {n}",
            "func": f"return {n + after};",
            "wires": [[f"n{n + 1}"]],
        }
        for n in range(count)
    ]
    nodes[-1]["wires"] = [[]]
    return json.dumps(nodes[::-1] if after else nodes).encode()


def _settings(count: int, *, after: bool) -> bytes:
    named = {f"berth_{n}": {"depth": n + after, "open": True, "ports": [n, n + 1]} for n in range(count)}
    return json.dumps(named, indent=1, sort_keys=after).encode()


def _yaml(count: int, *, after: bool) -> bytes:
    return "".join(f"berth_{n}:\n  depth: {n + after}\n  open: true\n" for n in range(count)).encode()


def _feature(count: int, *, after: bool) -> bytes:
    told = [
        f"  Scenario: Sailing {n}\n    Given {n} passengers\n    Then {n + after} are aboard\n" for n in range(count)
    ]
    return ("Feature: Boarding\n\n" + "\n".join(told[::-1] if after else told)).encode()


def _script(count: int, *, after: bool) -> bytes:
    return "".join(f"INSERT INTO trip VALUES ({n}, 'port {n}', {n % 7 + after});\n" for n in range(count)).encode()


def _process(count: int, *, after: bool) -> bytes:
    tasks = [f'<task id="t{n}" name="Step {n + after}"/>' for n in range(count)]
    flows = [f'<sequenceFlow id="f{n}" sourceRef="t{n}" targetRef="t{n + 1}"/>' for n in range(count - 1)]
    body = "".join(tasks[::-1] if after else tasks) + "".join(flows)
    model = "http://www.omg.org/spec/BPMN/20100524/MODEL"
    return f'<definitions xmlns="{model}"><process id="p">{body}</process></definitions>'.encode()


def _report(count: int, *, after: bool) -> bytes:
    rows = "".join(f"<tr><td>Sailing {n}</td><td>{n + after}</td></tr>" for n in range(count))
    return f"<html><body><h1>Sailings</h1><table>{rows}</table></body></html>".encode()


def _growth() -> Iterator[Figure]:
    """The exponent e of work ~ size^e between a size as published files have it and ten times that, all parts changed."""
    kinds: tuple[tuple[str, str, Callable[..., bytes], int], ...] = (
        ("notebook, all cells moved", "n.ipynb", _notebook, 300),
        ("graph, all steps changed and their order", "flows.json", _graph, 300),
        ("settings in JSON, all changed", "s.json", _settings, 500),
        ("settings in YAML, all changed", "s.yaml", _yaml, 500),
        ("features, all scenarios changed and moved", "t.feature", _feature, 200),
        ("SQL, all statements changed", "s.sql", _script, 300),
        ("workflow, all tasks renamed and moved", "w.bpmn", _process, 200),
        ("report, all rows changed", "r.html", _report, 300),
    )
    for what, name, made, size in kinds:
        spent = []
        for count in (size, size, 10 * size):  # the first loads what has to be loaded
            sides = [ArtifactSide(name, made(count, after=after)) for after in (False, True)]
            before = os.times()
            compare_artifacts(*sides)
            now = os.times()
            spent.append(now.user + now.system - before.user - before.system)
        exponent = math.log(max(spent[2], 0.01) / max(spent[1], 0.01), 10)
        detail = f"{spent[1]:.2f} and {spent[2]:.2f} s for {size:,} and {10 * size:,} parts"
        yield Figure("grow", f"{what}: exponent of the work", exponent, "≤ 1.2", exponent <= 1.2, detail)
