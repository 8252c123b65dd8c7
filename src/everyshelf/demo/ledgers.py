"""Tables of the ticket office in every format they are read from, each before and after one edit."""

from __future__ import annotations

import bz2
import gzip
import io
import json
import lzma
import random
import sqlite3
from datetime import date, timedelta
from typing import Any

import pyarrow as pa
import pyarrow.feather
import pyarrow.ipc
import pyarrow.parquet as pq
import zstandard

from everyshelf.demo.pair import Pair

Record = dict[str, Any]


def table_pairs() -> list[Pair]:
    """One pair for each format of a table."""
    tickets, later = _tickets(), _tickets()
    later[41]["paid"] = 9.5
    for ticket in later:
        ticket["lounge"] = "" if ticket["ticket"] % 3 else "saloon"
    scans = _csv(_scans(240))
    rounded = _csv([{**s, "weight_kg": f"{s['weight_kg']:.1f}"} for s in _scans(240)])
    piers = [
        {"pier": p, "depth_m": d, "lights": n}
        for p, d, n in zip("ABCDEF", (4.1, 3.8, 5.2, 2.9, 4.4, 3.3), range(6), strict=True)
    ]
    deeper = [{**p, "depth_m": 5.6} if p["pier"] == "C" else p for p in piers]
    wide = pa.table({"berth": pa.array(range(1, 31), pa.int64()), "length_m": [18.5 + n for n in range(30)]})
    narrow = wide.set_column(0, "berth", wide["berth"].cast(pa.int32()))
    tolls = pa.table({"class": ["adult", "child", "bicycle", "car"], "toll": [4.5, 2.25, 1.0, 12.0]})
    return [
        Pair("tables/tickets.parquet", "dataset", _parquet(tickets), _parquet(later), "1 column added, 1 cell in paid"),
        Pair("tables/berths.arrow", "dataset", _arrow(wide), _arrow(narrow), "1 column narrowed"),
        Pair("tables/tolls.feather", "dataset", _feather(tolls), _feather(tolls.slice(0, 3)), "1 row removed"),
        Pair("tables/bookings.jsonl", "dataset", _lines(tickets[:60]), _lines(tickets[1:60]), "1 row removed"),
        Pair("tables/piers.json", "dataset", _json(piers), _json(deeper), "1 cell in depth_m"),
        Pair(
            "tables/scans.csv.gz",
            "dataset",
            gzip.compress(scans, mtime=0),
            gzip.compress(rounded, mtime=0),
            "1 cosmetic change only",
        ),
        Pair("tables/stops.tsv", "dataset", _stops(), _stops(renamed=True), "1 column renamed"),
        Pair(
            "tables/tides.csv.zst",
            "dataset",
            zstandard.compress(_tides(), 3),
            zstandard.compress(_tides(german=True), 3),
            "3 cosmetic changes only",
        ),
        Pair(
            "tables/refunds.csv.bz2", "dataset", bz2.compress(scans), bz2.compress(_without(scans, 7)), "1 row removed"
        ),
        Pair(
            "tables/freight.csv.xz", "dataset", lzma.compress(scans), lzma.compress(_without(scans, 9)), "1 row removed"
        ),
    ]


def database_pair() -> Pair:
    """The counter's database: a table gone, a column and an index added, rows sold, given back and set right."""
    return Pair(
        "tables/counter.sqlite",
        "database",
        _database(),
        _database(
            "ALTER TABLE sales ADD COLUMN till TEXT",
            "CREATE INDEX by_class ON sales(class)",
            "DROP TABLE vouchers",
            "DELETE FROM sales WHERE ticket IN (70003, 70017)",
            "UPDATE sales SET paid = 9.5 WHERE ticket = 70041",
            "INSERT INTO sales (ticket, class, paid) VALUES (70900, 'adult', 7.5)",
            "UPDATE clerks SET clerk = clerk + 40",
        ),
        "1 table removed, 1 index added, 1 column added, 6 rows changed and 2 more",
    )


def _database(*edits: str) -> bytes:
    with sqlite3.connect(":memory:") as records:
        records.executescript(_SCHEMA)
        for ticket in _tickets():
            records.execute("INSERT INTO sales VALUES (:ticket, :travels_as, :paid)", ticket)
        for n, name in enumerate(("Maren", "Ines", "Tobias", "Runa", "Sigge"), 1):
            records.execute("INSERT INTO clerks VALUES (?, ?, ?)", (n, name, n * 3 % 4))
        for edit in edits:
            records.execute(edit)
        records.commit()
        return records.serialize()


_SCHEMA = """
CREATE TABLE sales (ticket INTEGER PRIMARY KEY, class TEXT NOT NULL, paid REAL DEFAULT 0);
CREATE TABLE clerks (clerk INTEGER PRIMARY KEY, name TEXT UNIQUE, counter INTEGER);
CREATE TABLE vouchers (code TEXT PRIMARY KEY, value REAL) WITHOUT ROWID;
CREATE VIEW dear AS SELECT ticket, paid FROM sales WHERE paid > 10;
"""


def _tickets() -> list[Record]:
    rng = random.Random(11)
    kinds = ("adult", "child", "bicycle", "car")
    return [
        {
            "ticket": 70_000 + n,
            "sold": date(2026, 3, 1) + timedelta(days=n // 25),
            "travels_as": rng.choice(kinds),
            "paid": round(2 + rng.random() * 14, 2),
            "online": rng.random() < 0.4,
        }
        for n in range(400)
    ]


def _scans(count: int) -> list[Record]:
    rng = random.Random(12)
    return [
        {"scan": f"S-{n:04d}", "gate": rng.choice("NSEW"), "weight_kg": 3 + rng.random() * 20} for n in range(count)
    ]


def _stops(*, renamed: bool = False) -> bytes:
    names = ("Aldwick", "Brae", "Corran", "Dunmore", "Eskholm")
    head = f"stop\t{'harbour' if renamed else 'place'}\tminutes"
    return "\n".join([head, *(f"{n}\t{name}\t{n * 17}" for n, name in enumerate(names, 1))]).encode()


def _tides(*, german: bool = False) -> bytes:
    rows = []
    for n in range(60):
        day, height = date(2026, 3, 1) + timedelta(days=n), 1.2 + (n * 37 % 100) / 40
        written = f"{height:.2f}".replace(".", ",") if german else f"{height:.2f}"
        rows.append(f"{day:%d.%m.%Y};{written}" if german else f"{day};{written}")
    return ("\n".join(["day;height_m", *rows]) + "\n").encode()


def _csv(records: list[Record]) -> bytes:
    lines = [",".join(records[0])] + [",".join(str(v) for v in record.values()) for record in records]
    return ("\n".join(lines) + "\n").encode()


def _without(data: bytes, place: int) -> bytes:
    lines = data.splitlines(keepends=True)
    return b"".join(lines[:place] + lines[place + 1 :])


def _json(records: list[Record]) -> bytes:
    return json.dumps(records, indent=1).encode()


def _lines(records: list[Record]) -> bytes:
    return "".join(json.dumps({**r, "sold": str(r["sold"])}) + "\n" for r in records).encode()


def _parquet(records: list[Record]) -> bytes:
    out = io.BytesIO()
    pq.write_table(pa.Table.from_pylist(records), out)
    return out.getvalue()


def _arrow(table: pa.Table) -> bytes:
    out = io.BytesIO()
    with pa.ipc.new_file(out, table.schema) as writer:
        writer.write_table(table)
    return out.getvalue()


def _feather(table: pa.Table) -> bytes:
    out = io.BytesIO()
    pyarrow.feather.write_feather(table, out)
    return out.getvalue()
