"""What the stand-in keeps: objects in spaces, packages brought to it, and a trail of what was written.

Everything is in one SQLite file, so that it survives being killed. An import is one transaction, unless the space is
told to fail in the middle; then it leaves half of a package in place, as some real platforms do.
"""

from __future__ import annotations

import hashlib
import json
import sqlite3
import threading
from collections.abc import Iterator
from contextlib import contextmanager
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

from everyshelf.standin.packages import BadPackageError, Package

BUNDLE_TYPE = "access"
_GRANTED = ("screen", "flow")  # what a newcomer is granted access to, by the platform itself
_EVERYONE = "access/everyone.json"
_TABLES = """
create table if not exists objects (space text, name text, type text, body blob, sha256 text, stamp integer,
    changed text, changed_by text, primary key (space, name));
create table if not exists packages (space text, key text, state text, body blob, primary key (space, key));
create table if not exists spaces (space text primary key, current text, stamp integer default 0,
    behaviour text default '{}');
create table if not exists trail (at text, space text, name text, act text, by text, package text);
"""


class FailedInTheMiddleError(Exception):
    """The import broke off, as it was told to."""


class Store:
    """Objects, packages and the trail; every call is one transaction."""

    def __init__(self, file: Path) -> None:
        self._file = file
        self._local = threading.local()
        with self._transaction() as db:
            db.executescript(_TABLES)

    @property
    def _db(self) -> sqlite3.Connection:
        found = getattr(self._local, "db", None)
        if found is None:
            found = self._local.db = sqlite3.connect(self._file, timeout=30, isolation_level=None)
            found.row_factory = sqlite3.Row
            found.execute("pragma journal_mode = wal")
        return found

    @contextmanager
    def _transaction(self) -> Iterator[sqlite3.Connection]:
        self._db.execute("begin immediate")
        try:
            yield self._db
        except BaseException:
            if self._db.in_transaction:
                self._db.execute("rollback")
            raise
        if self._db.in_transaction:
            self._db.execute("commit")

    # --- objects --------------------------------------------------------------

    def listing(self, space: str) -> dict[str, Any]:
        """Every object without its body, and the package in force."""
        rows = self._db.execute(
            "select name, type, sha256, length(body) as bytes, stamp, changed, changed_by from objects"
            " where space = ? order by name",
            (space,),
        )
        return {"objects": [dict(r) for r in rows], "current": self.current(space)}

    def current(self, space: str) -> str | None:
        """The key of the package that was imported last."""
        row = self._db.execute("select current from spaces where space = ?", (space,)).fetchone()
        return row["current"] if row else None

    def read(self, space: str, name: str) -> bytes | None:
        """The body of one object."""
        row = self._db.execute("select body from objects where space = ? and name = ?", (space, name)).fetchone()
        return bytes(row["body"]) if row else None

    def write(self, space: str, name: str, type_: str, body: bytes, by: str) -> list[str]:
        """A person changes an object in the platform; gives the names of what changed besides."""
        with self._transaction() as db:
            return self._put(db, space, name, type_, body, by, "")

    def remove(self, space: str, name: str, by: str) -> bool:
        """A person removes an object; False if there was none."""
        with self._transaction() as db:
            return self._drop(db, space, name, by, "")

    def _put(
        self, db: sqlite3.Connection, space: str, name: str, type_: str, body: bytes, by: str, package: str
    ) -> list[str]:
        new = db.execute("select 1 from objects where space = ? and name = ?", (space, name)).fetchone() is None
        now = datetime.now(UTC).isoformat()
        row = (space, name, type_, body, hashlib.sha256(body).hexdigest(), self._stamp(db, space), now, by)
        db.execute("insert or replace into objects values (?, ?, ?, ?, ?, ?, ?, ?)", row)
        self._note(db, space, name, "added" if new else "changed", by, package)
        return [_EVERYONE] if new and type_ in _GRANTED and self._grant(db, space, name, package) else []

    def _drop(self, db: sqlite3.Connection, space: str, name: str, by: str, package: str) -> bool:
        gone = db.execute("delete from objects where space = ? and name = ?", (space, name)).rowcount > 0
        if gone:
            self._note(db, space, name, "removed", by, package)
        return gone

    def _grant(self, db: sqlite3.Connection, space: str, name: str, package: str) -> bool:
        """What real platforms do unasked: everyone gets access to the newcomer."""
        row = db.execute("select body from objects where space = ? and name = ?", (space, _EVERYONE)).fetchone()
        try:
            bundle: dict[str, Any] = json.loads(row["body"]) if row else {"bundle": "everyone", "grants": []}
            known = {grant["object"] for grant in bundle["grants"]}
            if name in known:
                return False
            bundle["grants"].append({"object": name, "level": "use"})
        except (ValueError, KeyError, TypeError):
            return False  # somebody's own idea of a bundle is left alone
        body = (json.dumps(bundle, indent=2) + "\n").encode()
        self._put(db, space, _EVERYONE, BUNDLE_TYPE, body, "the platform", package)
        return True

    @staticmethod
    def _note(db: sqlite3.Connection, space: str, name: str, act: str, by: str, package: str) -> None:
        row = (datetime.now(UTC).isoformat(), space, name, act, by, package)
        db.execute("insert into trail values (?, ?, ?, ?, ?, ?)", row)

    @staticmethod
    def _stamp(db: sqlite3.Connection, space: str) -> int:
        db.execute("insert or ignore into spaces (space) values (?)", (space,))
        db.execute("update spaces set stamp = stamp + 1 where space = ?", (space,))
        return int(db.execute("select stamp from spaces where space = ?", (space,)).fetchone()["stamp"])

    def trail(self, space: str) -> list[dict[str, Any]]:
        """What was written, oldest first."""
        return [dict(r) for r in self._db.execute("select * from trail where space = ? order by rowid", (space,))]

    # --- packages ---------------------------------------------------------------

    def bring(self, space: str, key: str, body: bytes) -> None:
        """Keep a package aside; one that is being imported or in force is left as it is."""
        Package.opened(body).check()
        with self._transaction() as db:
            if self._state(db, space, key) in (None, "waiting"):
                db.execute("insert or replace into packages values (?, ?, 'waiting', ?)", (space, key, body))

    def package_state(self, space: str, key: str) -> str | None:
        """waiting, half, in force or replaced; None if there is no such package."""
        return self._state(self._db, space, key)

    @staticmethod
    def _state(db: sqlite3.Connection, space: str, key: str) -> str | None:
        row = db.execute("select state from packages where space = ? and key = ?", (space, key)).fetchone()
        return row["state"] if row else None

    def forget(self, space: str, key: str) -> None:
        """Remove a package that is not in force."""
        with self._transaction() as db:
            db.execute("delete from packages where space = ? and key = ? and state != 'in force'", (space, key))

    def import_package(self, space: str, key: str, by: str) -> list[str]:
        """Put a package in force, in one transaction; once it is, asking again does nothing. Gives the names of what
        changed besides. Raises ``BadPackageError`` and ``FailedInTheMiddleError``."""
        half = self.take_behaviour(space, "half_after")
        fail = self.take_behaviour(space, "fail_after")
        with self._transaction() as db:
            row = db.execute("select state, body from packages where space = ? and key = ?", (space, key)).fetchone()
            if row is None:
                raise BadPackageError(f"there is no package {key}")
            if row["state"] == "in force":
                return []
            package, besides = Package.opened(row["body"]), []
            for count, (name, type_, body) in enumerate(package.objects()):
                if fail is not None and count >= fail:
                    raise FailedInTheMiddleError(f"stopped before {name}; nothing of the package is in force")
                if half is not None and count >= half:
                    db.execute("update packages set state = 'half' where space = ? and key = ?", (space, key))
                    db.execute("commit")
                    raise FailedInTheMiddleError(f"stopped before {name}; {count} objects are in force")
                besides += self._put(db, space, name, type_, body, by, key)
            for name in package.removed:
                self._drop(db, space, name, by, key)
            self._stamp(db, space)
            db.execute("update packages set state = 'replaced' where space = ? and state = 'in force'", (space,))
            db.execute("update packages set state = 'in force' where space = ? and key = ?", (space, key))
            db.execute("update spaces set current = ? where space = ?", (key, space))
        return sorted(set(besides) - {name for name, _, _ in package.objects()})

    # --- behaviour ----------------------------------------------------------------

    def behave(self, space: str, wanted: dict[str, Any]) -> None:
        """How the space is to misbehave from now on; an empty one behaves."""
        with self._transaction() as db:
            db.execute("insert or ignore into spaces (space) values (?)", (space,))
            db.execute("update spaces set behaviour = ? where space = ?", (json.dumps(wanted), space))

    def behaviour(self, space: str) -> dict[str, Any]:
        """How the space misbehaves."""
        row = self._db.execute("select behaviour from spaces where space = ?", (space,)).fetchone()
        return dict(json.loads(row["behaviour"])) if row else {}

    def take_behaviour(self, space: str, name: str) -> Any:
        """One way of misbehaving, as often as it was asked for (``times``, once if nothing is said)."""
        with self._transaction() as db:
            row = db.execute("select behaviour from spaces where space = ?", (space,)).fetchone()
            wanted = json.loads(row["behaviour"]) if row else {}
            if wanted.get(name) is None:
                return None
            found = wanted[name]
            wanted["times"] = int(wanted.get("times", 1)) - 1
            left = wanted if wanted["times"] > 0 else {}
            db.execute("update spaces set behaviour = ? where space = ?", (json.dumps(left), space))
            return found
