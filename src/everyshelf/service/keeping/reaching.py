"""Which contents the records reach.

Every record counts by default: whatever looks like a content id, in whatever column of whatever table, is taken for
one, and what it names is kept. Only tables that merely tell of contents are left out (``TELLS_ONLY``). So a table that
is added later keeps what it names without anybody thinking of it; the price is that now and then something is kept that
nobody needs.

Folders, commits and other documents that name contents are followed. Files that people versioned are not: what stands
in them names nothing here.

What the rows of a shelf reach is needed in the store where the shelf lives (``owners``); what other rows reach is
needed wherever it is.
"""

from __future__ import annotations

import contextlib
import re
import sqlite3
from collections.abc import Callable, Iterator
from pathlib import Path

import orjson

from everyshelf.core.content.records import OUTSIDE, WHOLE
from everyshelf.core.content.store import ContentStore
from everyshelf.core.errors import BrokenError
from everyshelf.service.keeping.owners import way_to_shelf

_ID = re.compile(r"(?<![0-9a-f])[0-9a-f]{64}(?![0-9a-f])")
_ID_IN_BYTES = re.compile(rb"(?<![0-9a-f])[0-9a-f]{64}(?![0-9a-f])")
_DOCUMENT_BYTES = 64 * 1024 * 1024

# Tables of which nothing hangs: what was said, worked out or looked for.
TELLS_ONLY = frozenset(
    {
        "log_logentry",
        "lineage_makingpart",
        "uses_stateread",
        "idempotency_keptanswer",
        "shelves_outsidecontent",
    }
)
_HELD = "shelves_shelfcontent"
ANYWHERE = None  # the store of what belongs to no shelf
# Contents of artifacts are followed from the folders that name them, where it is known whether they are folders.
_FILES_ONLY = frozenset({("shelves_artifactversion", "content"), ("shelves_mergedcontent", "content")})
_CERTAIN = frozenset({("shelves_commit", "uid"), ("shelves_commit", "root")})
# An ended job needs nothing.
_WHERE = {"jobs_job": "\"jobs_job\".state IN ('waiting', 'running')"}

Progress = Callable[[int, int, str], None]


class Reach:
    """Ids, as bytes, of what is reached so far."""

    def __init__(self, store: ContentStore) -> None:
        self._store = store
        self._followed: set[bytes] = set()
        self.contents: set[bytes] = set()

    def add_file(self, identity: bytes) -> None:
        """Reach a content that names nothing."""
        self.contents.add(identity)

    def follow(self, identity: bytes, *, certain: bool = False) -> None:
        """Reach a content and, if it is a folder or another document, all it names, to any depth.

        ``certain``: it is one, and does not only look like an id. Raises ``BrokenError`` where one that is certain is
        missing, or any cannot be read: what hangs on it is not known then.
        """
        waiting = [(identity, certain)]
        while waiting:
            one, is_certain = waiting.pop()
            if one in self._followed:
                continue
            where = self._store.segments.find(one, refresh=True)
            if where is None:
                if is_certain:
                    raise BrokenError(f"{one.hex()[:12]} is missing, and with it what it named", code="storage.damaged")
                continue
            self._followed.add(one)
            self.contents.add(one)
            name = one.hex()
            if where.kind == OUTSIDE:
                continue
            if where.kind != WHOLE and self._store.size(name) > _DOCUMENT_BYTES:
                continue
            data = self._store.read(name)
            if not data.startswith((b"{", b"[")):
                continue
            folder = _of_folder(data)
            if folder is None:  # a commit, a manifest, a job's order: all in it that looks like an id counts
                waiting += [(bytes.fromhex(found.decode()), False) for found in _ID_IN_BYTES.findall(data)]
            else:
                self.contents |= folder[0]
                waiting += [(below, True) for below in folder[1]]


def _of_folder(data: bytes) -> tuple[set[bytes], list[bytes]] | None:
    """Ids of the files and of the folders that a node of a folder names; None if it is none."""
    try:
        parsed = orjson.loads(data)
        if isinstance(parsed, dict) and parsed.keys() == {"level", "entries"}:
            rows = parsed["entries"]
            if parsed["level"] != 0:
                return set(), [bytes.fromhex(row[1]) for row in rows]
            files = {bytes.fromhex(row[2]) for row in rows if row[1] == "a"}
            return files, [bytes.fromhex(row[2]) for row in rows if row[1] != "a"]
    except (ValueError, TypeError, LookupError):
        pass
    return None


class Reached:
    """What is reached, by the store whose shelves reach it; under ``ANYWHERE`` what belongs to no shelf."""

    def __init__(self, store: ContentStore) -> None:
        self._store = store
        self._by_store: dict[str | None, Reach] = {}

    def of(self, store: str | None) -> Reach:
        """What is reached for a store."""
        if store not in self._by_store:
            self._by_store[store] = Reach(self._store)
        return self._by_store[store]

    @property
    def stores(self) -> set[str]:
        """The stores for which something is reached."""
        return {one for one in self._by_store if one is not ANYWHERE}

    @property
    def contents(self) -> set[bytes]:
        """All of it."""
        return set().union(*(one.contents for one in self._by_store.values()))


def follow_records(database: Path, reached: Reached, progress: Progress, shelf: int | None = None) -> None:
    """Reach all that the records name, but for the list of what shelves hold; ``shelf``: only what its rows name."""
    with _reading(database) as records:
        tables = [table for table in _tables(records) if table not in TELLS_ONLY and table != _HELD]
        for done, table in enumerate(tables):
            progress(done, len(tables), table)
            for column, text, store in _texts(records, table, shelf):
                reach = reached.of(store)
                for found in _ID.findall(text):
                    if (table, column) in _FILES_ONLY:
                        reach.add_file(bytes.fromhex(found))
                    else:
                        reach.follow(bytes.fromhex(found), certain=(table, column) in _CERTAIN)


def held_contents(database: Path) -> dict[str, set[bytes]]:
    """Ids of all contents that shelves hold, by the store where those live."""
    held: dict[str, set[bytes]] = {}
    with _reading(database) as records:
        rows = records.execute(
            f"SELECT DISTINCT shelf.store, held.content FROM {_HELD} AS held "  # noqa: S608
            "JOIN shelves_shelf AS shelf ON shelf.id = held.shelf_id"
        )
        for store, content in rows:
            held.setdefault(store, set()).add(bytes.fromhex(content))
    return held


@contextlib.contextmanager
def _reading(database: Path) -> Iterator[sqlite3.Connection]:
    """The records as they are at one instant."""
    address = f"{database.absolute().as_uri()}?mode=ro"
    with contextlib.closing(sqlite3.connect(address, uri=True, timeout=60, isolation_level=None)) as records:
        records.execute("BEGIN")
        yield records


def _tables(records: sqlite3.Connection) -> list[str]:
    return [row[0] for row in records.execute("SELECT name FROM sqlite_master WHERE type = 'table' ORDER BY name")]


def _texts(records: sqlite3.Connection, table: str, shelf: int | None) -> Iterator[tuple[str, str, str | None]]:
    """Column and text of all values long enough to hold an id, and the store of the shelf to which they belong."""
    way = way_to_shelf(records, table)
    if way is None and shelf is not None:
        return
    store, joins = (f"{way.shelf}.store", way.joins) if way is not None else ("NULL", "")
    where = [_WHERE[table]] if table in _WHERE else []
    if way is not None and shelf is not None:
        where.append(f"{way.shelf}.id = {shelf:d}")
    rows = f'"{table}"{joins}' + (f" WHERE {' AND '.join(where)}" if where else "")
    for _, column, *_ in list(records.execute(f'PRAGMA table_info("{table}")')):
        # Names are those of the schema.
        for value, belongs in records.execute(f'SELECT "{table}"."{column}", {store} FROM {rows}'):  # noqa: S608
            if isinstance(value, str) and len(value) >= 64:
                yield column, value, belongs
