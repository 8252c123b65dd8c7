"""The route of the records: from the database the office keeps to the one the harbours read."""

from __future__ import annotations

import sqlite3
from contextlib import closing
from datetime import UTC, datetime, timedelta

from everyshelf.client import ShelfClient

FOLDER, BRANCH = "bookings", "bookings"
_TABLES = ["harbours", "vessels", "fares"]
_SCHEMA = """
CREATE TABLE harbours (code TEXT PRIMARY KEY NOT NULL, name TEXT NOT NULL UNIQUE, berths INTEGER NOT NULL DEFAULT 1);
CREATE TABLE vessels (
  code TEXT PRIMARY KEY NOT NULL, name TEXT NOT NULL, passengers INTEGER NOT NULL CHECK (passengers > 0),
  home TEXT NOT NULL REFERENCES harbours (code), laid_up TEXT);
CREATE TABLE fares (
  line TEXT NOT NULL, class TEXT NOT NULL, price NUMERIC(8, 2) NOT NULL, valid_from TEXT NOT NULL,
  PRIMARY KEY (line, class));
CREATE TABLE bookings (
  id INTEGER PRIMARY KEY AUTOINCREMENT, vessel TEXT NOT NULL REFERENCES vessels (code), line TEXT NOT NULL,
  class TEXT NOT NULL, made_at TEXT NOT NULL, FOREIGN KEY (line, class) REFERENCES fares (line, class));
CREATE INDEX bookings_by_vessel ON bookings (vessel, made_at);
CREATE VIEW takings AS
  SELECT b.line, count(*) AS tickets, sum(f.price) AS taken
  FROM bookings AS b JOIN fares AS f ON f.line = b.line AND f.class = b.class GROUP BY b.line;
"""
_HARBOURS = [("SKR", "Skerry", 3), ("TRN", "Tern Bay", 2), ("GAN", "Gannet Point", 1), ("PUF", "Puffin Holm", 1)]
_VESSELS = [
    ("MV-TERN", "Tern", 180, "SKR", None),
    ("MV-PUFFIN", "Puffin", 96, "TRN", None),
    ("MV-GANNET", "Gannet", 240, "SKR", "2026-11-02"),
    ("MV-EIDER", "Eider", 48, "PUF", None),
]
_FARES = [
    (f"L{line}", kind, price * (1 + line / 10), "2026-04-01")
    for line in range(1, 7)
    for kind, price in (("adult", 8.5), ("child", 4.25), ("bicycle", 3.0), ("car", 22.0))
]


def make_records_route(shelf: ShelfClient) -> None:
    """Two databases, what the office changed in its own, and what somebody changed at the harbours by hand."""
    now = datetime.now(UTC).replace(second=0, microsecond=0)
    said = {"destination": "database", "subfolder": FOLDER, "records": _TABLES, "route": "records"}
    shelf.make_branch(BRANCH, "main", "what the booking databases hold")
    office = shelf.make_environment("office", note="the office keeps fares and vessels here", **said)
    harbours = shelf.make_environment(
        "harbours", earlier_first=True, fed_from=BRANCH, note="the harbours' desks read this", **said
    )
    with closing(sqlite3.connect(office.address)) as records:
        records.executescript(_SCHEMA)
        records.executemany("INSERT INTO harbours VALUES (?, ?, ?)", _HARBOURS)
        records.executemany("INSERT INTO vessels VALUES (?, ?, ?, ?, ?)", _VESSELS)
        records.executemany("INSERT INTO fares VALUES (?, ?, round(?, 2), ?)", _FARES)
        records.commit()
    _bring(shelf, "bookings-1", "Harbours, vessels and fares as the office keeps them", now - timedelta(days=9))
    for name in ("office", "harbours"):
        when = now - timedelta(days=8)
        shelf.wait(shelf.promote("bookings-1", name, reason="the first of them", at=when, who="maren"))
    with closing(sqlite3.connect(office.address)) as records:
        records.execute("ALTER TABLE vessels ADD COLUMN car_deck_m INTEGER")
        records.executemany("UPDATE vessels SET car_deck_m = ? WHERE code = ?", [(42, "MV-TERN"), (65, "MV-GANNET")])
        records.execute("UPDATE fares SET price = 23.5 WHERE line = 'L3' AND class = 'car'")
        records.execute("INSERT INTO vessels VALUES ('MV-FULMAR', 'Fulmar', 120, 'GAN', NULL, 30)")
        records.commit()
    _bring(shelf, "bookings-2", "Vessels tell their car decks; Fulmar is new", now - timedelta(days=1))
    shelf.wait(shelf.promote("bookings-2", "office", reason="taken from there", at=now - timedelta(days=1), who="ines"))
    with closing(sqlite3.connect(harbours.address)) as records:
        records.execute("UPDATE harbours SET berths = 2 WHERE code = 'GAN'")
        records.execute("INSERT INTO bookings VALUES (1, 'MV-TERN', 'L1', 'adult', '2026-11-20 09:15')")
        records.commit()
    shelf.look_for_drift("harbours")


def _bring(shelf: ShelfClient, tag: str, summary: str, when: datetime) -> None:
    shelf.capture("office", branch=BRANCH)
    shelf.commit_draft(BRANCH, summary)
    shelf.make_tag(tag, BRANCH, summary, selection=[FOLDER], created=when, created_by="maren")
