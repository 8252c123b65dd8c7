"""T4, T5: what one version and ten more, each with half a percent of it edited, take in the store after tidying, against
one copy compressed by zstd-1."""

from __future__ import annotations

import io
import itertools
import json
import random
import tempfile
import zipfile
from collections.abc import Callable, Iterator
from pathlib import Path

import pyarrow as pa
import pyarrow.parquet as pq
import zstandard

from bench.measure import Figure
from everyshelf.core.content.compacting import compact, find_unreached
from everyshelf.core.content.new_segments import NewSegments
from everyshelf.core.content.shrinking import Shrinker
from everyshelf.core.content.store import ContentStore

_VERSIONS = 11
_SHARE = 0.005

Rows = list[list[object]]


def versions() -> Iterator[Figure]:
    """Every format."""
    cases: list[tuple[str, str, float, Callable[[random.Random], Iterator[bytes]]]] = [
        ("T4", "CSV, edited in one place", 1.15, _in_one_place(_csv)),
        ("T5", "CSV, edits anywhere, blocks inserted and removed", 1.5, _anywhere(_csv)),
        ("T5 json", "JSON", 1.5, _anywhere(_json)),
        ("T5 notebook", "a notebook run again", 1.5, _notebook),
        ("T5 workbook", "a workbook, cells", 1.5, _anywhere(_workbook, 30_000, insert=False)),
        ("T5 parquet", "Parquet, cells of one column", 1.5, _anywhere(_parquet, insert=False)),
        ("T5 parquet", "Parquet, cells, rows inserted and removed", 1.5, _anywhere(_parquet)),
    ]
    for name, what, target, make in cases:
        contents = list(itertools.islice(make(random.Random(4)), _VERSIONS))
        one, stored = len(zstandard.ZstdCompressor(level=1).compress(contents[0])), stored_of(contents)
        ratio = stored / one
        told = f"{stored / 1e6:.1f} against {one / 1e6:.1f} MB"
        title = f"stored after eleven versions: {what}, against one compressed copy"
        yield Figure(name, title, ratio, f"<= {target}", ratio <= target, told)


def stored_of(contents: list[bytes]) -> int:
    """Bytes that versions take in a store that was tidied; each is read back."""
    with tempfile.TemporaryDirectory(prefix="es-bench-") as folder:
        store = ContentStore(Path(folder))
        ids = [store.put(data).id for data in contents]
        store.segments.close()
        into = NewSegments(store.segments.place)
        shrinker = Shrinker(store, into)
        for older, newer in itertools.pairwise(ids):
            shrinker.shrink(newer, older)
        into.finish()
        compact(store.segments, reads_back=store.reads_back_unpacked)
        left = find_unreached(store, {bytes.fromhex(one) for one in ids})
        compact(store.segments, drop=set(left.ids), within=frozenset(left.segments))
        for identity, data in zip(ids, contents, strict=True):
            assert store.read(identity) == data
        stored = sum(path.stat().st_size for path in Path(folder).iterdir())
        store.close()
    return stored


def _rows(rng: random.Random, count: int) -> Rows:
    kinds = ("single", "return", "child", "islander")
    return [
        [n, f"2026-{rng.randrange(1, 13):02}-{rng.randrange(1, 29):02}", f"Z{rng.randrange(40):02}",
         rng.choice(kinds), rng.randrange(10_000), round(rng.random() * 100, 2), round(rng.random(), 6)]
        for n in range(count)
    ]  # fmt: skip


def _in_one_place(encode: Callable[[Rows], bytes]) -> Callable[[random.Random], Iterator[bytes]]:
    def make(rng: random.Random) -> Iterator[bytes]:
        rows = _rows(rng, 200_000)
        while True:
            yield encode(rows)
            at = rng.randrange(len(rows) - 1000)
            for n in range(at, at + int(len(rows) * _SHARE)):
                rows[n][5] = round(rng.random() * 100, 2)

    return make


def _anywhere(
    encode: Callable[[Rows], bytes], count: int = 200_000, *, insert: bool = True
) -> Callable[[random.Random], Iterator[bytes]]:
    def make(rng: random.Random) -> Iterator[bytes]:
        rows = _rows(rng, count)
        while True:
            yield encode(rows)
            for n in rng.sample(range(len(rows)), int(len(rows) * _SHARE)):
                rows[n][5] = round(rng.random() * 100, 2)
            if insert:
                at = rng.randrange(len(rows))
                rows[at:at] = _rows(rng, 60)
                at = rng.randrange(len(rows) - 40)
                del rows[at : at + 40]

    return make


def _csv(rows: Rows) -> bytes:
    return "".join(",".join(map(str, row)) + "\n" for row in rows).encode()


def _json(rows: Rows) -> bytes:
    names = ("number", "day", "zone", "kind", "seats", "price", "load")
    return json.dumps([dict(zip(names, row, strict=True)) for row in rows[:60_000]], indent=1).encode()


def _parquet(rows: Rows) -> bytes:
    columns = list(zip(*rows, strict=True))
    file = io.BytesIO()
    pq.write_table(pa.table({f"c{n}": pa.array(column) for n, column in enumerate(columns)}), file)
    return file.getvalue()


def _workbook(rows: Rows) -> bytes:
    """Sheets as office programs write them: one XML member per sheet, deflated."""
    sheet = ["<worksheet><sheetData>"]
    for n, row in enumerate(rows, 1):
        cells = "".join(f'<c r="{chr(65 + k)}{n}"><v>{value}</v></c>' for k, value in enumerate(row))
        sheet.append(f'<row r="{n}">{cells}</row>')
    sheet.append("</sheetData></worksheet>")
    file = io.BytesIO()
    with zipfile.ZipFile(file, "w", zipfile.ZIP_DEFLATED) as packed:
        for name, data in (("[Content_Types].xml", "<Types/>"), ("xl/worksheets/sheet1.xml", "".join(sheet))):
            packed.writestr(zipfile.ZipInfo(name, (2026, 1, 1, 0, 0, 0)), data, zipfile.ZIP_DEFLATED)
    return file.getvalue()


def _notebook(rng: random.Random) -> Iterator[bytes]:
    """Cells with sources that stay, outputs of which some numbers change with each run, and pictures of which one does."""
    sources = [f"frame = load('{n}')\nframe.describe()\n" for n in range(300)]
    pictures = [rng.randbytes(20_000).hex() for _ in range(40)]
    tables = [[f"{rng.random():.6f}" for _ in range(400)] for _ in range(300)]
    for run in itertools.count(1):
        cells = []
        for n, source in enumerate(sources):
            output = {"data": {"text/plain": "\n".join(tables[n])}, "execution_count": run * 300 + n}
            if n < len(pictures):
                output["data"]["image/png"] = pictures[n]  # type: ignore[index]
            cells.append({"cell_type": "code", "execution_count": run * 300 + n, "source": source, "outputs": [output]})
        yield json.dumps({"cells": cells, "nbformat": 4, "nbformat_minor": 5}, indent=1).encode()
        for table in tables:
            for k in rng.sample(range(400), 2):
                table[k] = f"{rng.random():.6f}"
