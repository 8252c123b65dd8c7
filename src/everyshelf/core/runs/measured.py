"""What a run measured, from the files in which programs leave it: single values, and values along a course.

Understood are JSON, YAML and TOML (a map of numbers, also nested: ``test.rmse``), JSON lines and lists of records (one
for each step), and delimited tables (one row for each step, or two columns of names and values).
"""

from __future__ import annotations

import tomllib
from collections.abc import Iterable
from typing import Any

from everyshelf.core.errors import UnreadableError
from everyshelf.core.formats.json import parse_json
from everyshelf.core.formats.tables import parse_table
from everyshelf.core.formats.text import decode
from everyshelf.core.formats.yaml import parse_yaml
from everyshelf.core.runs.metrics import MOST_METRICS, MOST_POINTS, STEPS, Measured, number_of

_MOST_DEPTH = 6


def read_measured(name: str, data: bytes) -> Measured:
    """What a file says; raises ``UnreadableError`` for one in which nothing is measured."""
    suffix = name.rpartition(".")[2].lower()
    try:
        if suffix in ("csv", "tsv", "tab"):
            found = _from_table(data)
        elif suffix in ("jsonl", "ndjson"):
            lines = decode(data).unified.split("\n")
            found = _from_tree([parse_json(line.encode()) for line in lines if line.strip()])
        elif suffix in ("yaml", "yml"):
            found = _from_tree(parse_yaml(data))
        elif suffix == "toml":
            found = _from_tree(tomllib.loads(decode(data).unified))
        else:
            found = _from_tree(_json_or_lines(data))
    except (UnreadableError, tomllib.TOMLDecodeError, RecursionError) as error:
        raise UnreadableError(f"{name}: {error}") from error
    if not found.metrics and not found.series:
        raise UnreadableError(f"{name}: there is no number in it")
    if len(found.metrics) > MOST_METRICS or sum(map(len, found.series.values())) > MOST_POINTS:
        raise UnreadableError(f"{name}: more than {MOST_METRICS} values or {MOST_POINTS} points")
    return found


def _json_or_lines(data: bytes) -> Any:
    try:
        return parse_json(data)
    except UnreadableError:
        lines = [line for line in decode(data).unified.split("\n") if line.strip()]
        if len(lines) < 2:
            raise
        return [parse_json(line.encode()) for line in lines]


def _from_tree(tree: Any) -> Measured:
    if isinstance(tree, list) and tree and all(isinstance(item, dict) for item in tree):
        return _from_records(tree)
    found = Measured()
    _walk(tree, "", 0, found)
    return found


def _walk(tree: Any, name: str, depth: int, found: Measured) -> None:
    if isinstance(tree, dict) and depth < _MOST_DEPTH:
        for key, value in tree.items():
            _walk(value, f"{name}.{key}" if name else str(key), depth + 1, found)
    elif isinstance(tree, list) and name and tree:
        numbers = [number_of(v) for v in tree]
        if all(n is not None for n in numbers):
            found.series[name] = [(float(k), n) for k, n in enumerate(numbers) if n is not None]
        elif all(isinstance(v, dict) for v in tree):
            inner = _from_records(tree)
            found.series.update({f"{name}.{n}": points for n, points in inner.series.items()})
    elif (number := number_of(tree)) is not None and name:
        found.metrics[name] = number


def _from_records(records: Iterable[dict[str, Any]]) -> Measured:
    """One record for each step; of records without any step, their place counts."""
    found = Measured()
    for place, record in enumerate(records):
        flat = Measured()
        _walk(record, "", 0, flat)
        steps = [n for n in flat.metrics if n.lower() in STEPS]
        step = flat.metrics[steps[0]] if steps else float(place)
        for name, value in flat.metrics.items():
            if name not in steps:
                found.series.setdefault(name, []).append((step, value))
    return found


def _from_table(data: bytes) -> Measured:
    table = parse_table(data)
    names, rows = [name.strip() for name in table.columns], table.rows
    if len(names) == 2 and rows and all(len(r) == 2 and _is_named(*r) for r in rows):
        return Measured({r[0]: number_of(r[1]) or 0.0 for r in rows})
    records = []
    for row in rows:
        numbers = {n: number_of(cell) for n, cell in zip(names, row, strict=False)}
        records.append({n: v for n, v in numbers.items() if v is not None and n})
    return _from_records(records)


def _is_named(name: str, value: str) -> bool:
    return number_of(name) is None and number_of(value) is not None
