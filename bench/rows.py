"""A table of ten million rows, looked at by pages: through the client and in the console's grid, beside a general engine
that reads the file itself for each question."""

from __future__ import annotations

import random
import tempfile
import time
from collections.abc import Callable, Iterator
from pathlib import Path
from statistics import median

import duckdb
import numpy as np
import pyarrow as pa
import pyarrow.csv as pc
from tests.support.browser import Browser
from tests.support.service import PASSWORD, Service

from bench.measure import Figure
from everyshelf.client import ChangeRequest, ShelfClient

_ROWS = 10_000_000
_PAGE = 100


def rows() -> Iterator[Figure]:
    """Seconds until it can be paged, for any page, for pages sorted and filtered; and in the browser."""
    service = Service()
    browser = Browser()
    try:
        with tempfile.TemporaryDirectory(prefix="es-rows-") as folder, service.client() as client:
            file = Path(folder, "passengers.csv")
            _write(file)
            shelf = client.shelf(client.make_shelf("Rows").key)
            content = shelf.upload(file).id
            shelf.commit("main", None, [ChangeRequest("passengers.csv", content)], "Ten million")
            rival = duckdb.connect()
            read = f"read_csv('{file}')"
            yield from _asked(shelf, lambda sql: rival.execute(sql.format(read=read)).fetchall())
            yield from _queried(shelf, lambda sql: rival.execute(sql.format(read=read)).fetchall())
            yield from _in_the_browser(browser, service, shelf.key)
    finally:
        browser.close()
        service.stop()


def _write(file: Path) -> None:
    draw = np.random.default_rng(3)
    zones = np.array([f"Z{n:02}" for n in range(40)])[draw.integers(0, 40, _ROWS)]
    table = pa.table(
        {
            "ticket": np.arange(1, _ROWS + 1),
            "zone": zones,
            "paid": np.round(draw.gamma(2.0, 6.0, _ROWS), 2),
            "minute": draw.integers(0, 1440, _ROWS),
        }
    )
    pc.write_csv(table, file)


def _seconds(act: Callable[[], object]) -> float:
    begun = time.perf_counter()
    act()
    return time.perf_counter() - begun


def _asked(shelf: ShelfClient, rival: Callable[[str], object]) -> Iterator[Figure]:
    path = "passengers.csv"
    first = _seconds(lambda: shelf.rows(path))
    itself = _seconds(lambda: rival("CREATE OR REPLACE TEMP TABLE held AS SELECT * FROM {read}"))
    told = f"{itself:.1f} s for the engine to load the file into memory"
    yield Figure("R1", "read once, by a job, seconds", round(first, 1), "", True, told)
    draw = random.Random(1)
    starts = [draw.randrange(_ROWS) for _ in range(9)]
    any_page = median(_seconds(lambda s=s: shelf.rows(path, start=s, count=_PAGE)) for s in starts)  # type: ignore[misc]
    whole = _seconds(lambda: rival(f"SELECT * FROM {{read}} LIMIT {_PAGE} OFFSET {starts[0]}"))
    yield Figure("R2", "any page, seconds", round(any_page, 2), "≤ 0.5", any_page <= 0.5, f"the engine: {whole:.2f} s")
    for name, what, wanted, sql in (
        ("R3", "sorted by a column", {"sort": ["-paid"]}, "ORDER BY paid DESC"),
        ("R4", "with a condition", {"where": ["zone is Z07"]}, "WHERE zone = 'Z07'"),
        (
            "R5",
            "sorted, with two conditions",
            {"sort": ["minute", "-paid"], "where": ["paid over 20", "zone is Z11"]},
            "WHERE paid > 20 AND zone = 'Z11' ORDER BY minute, paid DESC",
        ),
    ):
        once = _seconds(lambda given=wanted: shelf.rows(path, count=_PAGE, **given))  # type: ignore[misc]
        again = _seconds(lambda given=wanted: shelf.rows(path, start=900 * _PAGE, count=_PAGE, **given))  # type: ignore[misc]
        engine = _seconds(lambda asked=sql: rival(f"SELECT * FROM {{read}} {asked} LIMIT {_PAGE}"))  # type: ignore[misc]
        told = f"page 900 then {again:.2f} s; the engine: {engine:.2f} s"
        yield Figure(name, f"{what}, first page, seconds", round(once, 2), "≤ 1.0", max(once, again) <= 1.0, told)


def _queried(shelf: ShelfClient, rival: Callable[[str], object]) -> Iterator[Figure]:
    asked = "SELECT zone, count(*) AS n, sum(paid) AS paid FROM {read} GROUP BY zone ORDER BY zone"
    mine = "'passengers.csv'"
    first = _seconds(lambda: shelf.query(asked.format(read=mine)))
    again = median(_seconds(lambda: shelf.query(asked.format(read=mine))) for _ in range(3))
    engine = _seconds(lambda: rival(asked))
    told = f"the first time, which finds the types, {first:.1f} s; the engine, reading the file: {engine:.2f} s"
    yield Figure("R8", "a query that adds up all rows, seconds", round(again, 2), "", True, told)
    joined = "SELECT count(*) FROM {read} a JOIN {read} b USING (ticket) WHERE a.paid > b.paid"
    twice = _seconds(lambda: shelf.query(joined.format(read=mine)))
    both = _seconds(lambda: rival(joined))
    yield Figure(
        "R9", "a query that joins two versions, seconds", round(twice, 2), "", True, f"the engine: {both:.2f} s"
    )


def _in_the_browser(browser: Browser, service: Service, key: str) -> Iterator[Figure]:
    browser.sign_in(service.address, "owner", PASSWORD)
    address = f"{service.address}/s/{key}/artifact?path=passengers.csv"
    for name, what, rest, says, most in (
        ("R6", "first rows in the console", "", "1–100 of 10,000,000", 1.5),
        ("R7", "page 90,000 in the console", "&page=90000", "8,999,901–9,000,000 of 10,000,000", 1.5),
    ):
        seen = []
        for _ in range(3):
            browser.driver.execute_cdp_cmd("Network.clearBrowserCache", {})
            seen.append(_seconds(lambda r=rest, s=says: _open(browser, address + r, s)))  # type: ignore[misc]
        seconds = median(seen)
        yield Figure(name, f"{what}, seconds", round(seconds, 2), f"≤ {most}", seconds <= most, "cache empty")


def _open(browser: Browser, address: str, says: str) -> None:
    browser.driver.get(address)
    browser.see(says, 300)
