"""A database as destination: its tables, views, triggers and chosen records as files, put there in one transaction.

What is staged is held in memory, read and found to fit; nothing of it is written before the switch. In the
transaction of the switch the database remembers the deployment's key, so it tells itself whether the switch took place.
"""

from __future__ import annotations

import contextlib
import hashlib
from collections.abc import Callable, Collection, Iterator, Sequence
from dataclasses import dataclass
from fnmatch import fnmatchcase
from pathlib import Path, PurePosixPath
from tempfile import TemporaryDirectory

from msgspec.structs import replace

from everyshelf.core.databases import Database, Layout, Plan, Schema, Step, Table, plan_changes
from everyshelf.core.databases.engine import RowPlan
from everyshelf.core.databases.files import (
    KEYED,
    LINES,
    MOST_KEYED,
    in_order,
    kept_form,
    read_records,
    read_table,
    records_file,
    table_file,
    wrong,
)
from everyshelf.core.databases.layout import Place
from everyshelf.core.databases.plan import plan_rows, renamed_columns
from everyshelf.core.databases.tokens import is_several
from everyshelf.core.errors import ConflictError, MissingError
from everyshelf.core.promotion.destination import (
    Beside,
    Destination,
    Fetch,
    Manifest,
    Placed,
    Progress,
    no_progress,
)


@dataclass
class _Staged:
    """A deployment held aside, and what was there when it was."""

    plan: Plan
    present: Manifest
    touched: list[str]


class DatabaseDestination(Destination):
    """One database. ``folder`` of the shelf holds its files; ``records``: patterns of the tables whose records come
    along; ``known``: paths that were put there before, whose form of records stays."""

    keeps_forms = True

    def __init__(
        self, database: Database, folder: str, *, records: Sequence[str] = (), known: Collection[str] = ()
    ) -> None:
        self._database, self._layout, self._chosen = database, Layout(folder), tuple(records)
        self._suffixes: dict[str, str] = {}
        self._staged: dict[str, _Staged] = {}
        self._learn(known)

    def _learn(self, paths: Collection[str]) -> None:
        for path in paths:
            place = self._layout.place(path)
            if place is not None and place.sort == "records":
                self._suffixes[place.name] = place.suffix

    def _is_chosen(self, table: str) -> bool:
        return any(fnmatchcase(table, pattern) for pattern in self._chosen)

    def takes(self, path: str) -> bool:
        place = self._layout.place(path)
        if place is None or (place.sort == "trigger" and not self._database.tells_triggers):
            return False
        return place.sort != "records" or self._is_chosen(place.name)

    # --- what is there --------------------------------------------------------------

    def present(self, progress: Progress = no_progress) -> Manifest:
        return self._present(None, progress)

    def _present(self, only: set[str] | None, progress: Progress = no_progress) -> Manifest:
        """What is there; with ``only`` just those paths."""
        found: Manifest = {}
        with self._database.reading():
            schema = self._database.schema()
            for done, (path, pieces) in enumerate(self._files(schema)):
                progress(done, 2 * len(schema.tables), path)
                if only is None or path in only:
                    found[path] = _placed(pieces())
        return found

    def _files(self, schema: Schema) -> Iterator[tuple[str, Callable[[], Iterator[bytes]]]]:
        for name, table in schema.tables.items():
            yield self._layout.path("table", name), lambda t=table: iter((table_file(t),))  # type: ignore[misc]
            if self._is_chosen(name) and not table.as_is:
                suffix = self._suffix(table)
                path = self._layout.path("records", name, suffix)
                yield path, lambda t=table, s=suffix: records_file(t, self._database.rows(t), s)  # type: ignore[misc]
        for name, sql in schema.views.items():
            yield self._layout.path("view", name), lambda s=sql: iter((_statement_file(s),))  # type: ignore[misc]
        for name, sql in schema.triggers.items():
            yield self._layout.path("trigger", name), lambda s=sql: iter((_statement_file(s),))  # type: ignore[misc]

    def _suffix(self, table: Table) -> str:
        if not table.key or self._has_nameless(table):
            return LINES
        if table.table not in self._suffixes:
            few = self._database.count(table) <= MOST_KEYED
            self._suffixes[table.table] = KEYED if few else LINES
        return self._suffixes[table.table]

    def _has_nameless(self, table: Table) -> bool:
        """Whether there are records whose key holds NULL, which some databases allow."""
        open_to_it = [name for name in table.key if not table.by_name[name].required]
        return bool(open_to_it) and any(
            self._database.count(table, filled=name) < self._database.count(table) for name in open_to_it
        )

    def current(self) -> str | None:
        return self._database.current()

    @contextlib.contextmanager
    def as_file(self, path: str) -> Iterator[Path]:
        with TemporaryDirectory(prefix="everyshelf-database-") as folder:
            file = Path(folder, PurePosixPath(path).name)
            place = self._layout.place(path)
            if place is not None and place.sort == "records":
                self._suffixes[place.name] = place.suffix
            with self._database.reading():
                pieces = next((p for found, p in self._files(self._database.schema()) if found == path), None)
                if pieces is None:
                    raise MissingError(f"{path} is not in the database", code="destination.missing")
                with file.open("wb") as opened:
                    opened.writelines(pieces())
            yield file

    def kept_as(self, path: str, data: bytes, beside: Beside) -> Placed | None:
        place = self._layout.place(path)
        if place is None:
            return None
        if place.sort == "table":
            table = self._table(path, place, data)
            return _placed(iter((table_file(self._database.told(table)),)))
        if place.sort == "records":
            table = self._table_of(path, place, beside)
            return _placed(kept_form(path, data, table, place.suffix, self._database.told_value))
        return _placed(iter((_statement_file(_statement(path, place, data)),)))

    def _table(self, path: str, place: Place, data: bytes) -> Table:
        table = read_table(path, data)
        if table.table != place.name:
            raise wrong(path, f"it tells of the table {table.table}: name the file after it")
        return table

    def _table_of(self, path: str, place: Place, beside: Beside) -> Table:
        schema_path = self._layout.path("table", place.name)
        data = beside(schema_path)
        if data is not None:
            return self._database.told(self._table(schema_path, place, data))
        raise wrong(path, f"there is no {schema_path}, which says what its columns are")

    # --- putting in place -------------------------------------------------------------

    def steps(self, present: Manifest, manifest: Manifest, fetch: Fetch) -> list[Step]:
        return self._planned(present, manifest, fetch).plan.steps

    def _planned(
        self, present: Manifest, manifest: Manifest, fetch: Fetch, progress: Progress = no_progress
    ) -> _Staged:
        touched = sorted(p for p in present.keys() | manifest.keys() if present.get(p) != manifest.get(p))
        with self._database.reading():
            before = self._database.schema()
            after = Schema(dict(before.tables), dict(before.views), dict(before.triggers))
            records: list[tuple[str, Place]] = []
            for path in touched:
                place = self._layout.place(path)
                if place is None:
                    continue
                if place.sort == "records":
                    records.append((path, place))
                else:
                    self._put_in(after, path, place, b"".join(fetch(path)) if path in manifest else None)
            rows: dict[str, tuple[int, RowPlan]] = {}
            emptied = []
            for done, (path, place) in enumerate(records):
                progress(done, len(records), path)
                if path in manifest:
                    rows[place.name] = self._row_plan(path, place, before, after, b"".join(fetch(path)))
                elif place.name in after.tables and not self._told_otherwise(place, manifest):
                    emptied.append(place.name)
                    rows[place.name] = 0, RowPlan(gone=list(self._database.rows(before.tables[place.name])))
            plan = plan_changes(before, after, rows, self._count(before))
            plan.steps += [
                Step("removed", "records", f"{name}.*", "the shelf no longer tells its records", lost=True)
                for name in emptied
            ]
        if plan.alters_tables and not self._database.alters_in_transaction:
            raise ConflictError(
                "this database cannot change tables and records in one transaction",
                code="database.no_transaction",
                hint="Change its tables by hand as the rehearsal says; records can be put there then.",
            )
        return _Staged(plan, present, touched)

    def _count(self, before: Schema) -> Callable[[str, str], int]:
        return lambda table, column: self._database.count(before.tables[table], filled=column)

    def _told_otherwise(self, place: Place, manifest: Manifest) -> bool:
        """Whether the records stay, told in the other form."""
        other = KEYED if place.suffix == LINES else LINES
        return self._layout.path("records", place.name, other) in manifest

    def _put_in(self, after: Schema, path: str, place: Place, data: bytes | None) -> None:
        held: dict[str, object] = {"table": after.tables, "view": after.views, "trigger": after.triggers}[place.sort]  # type: ignore[assignment]
        if data is None:
            held.pop(place.name, None)
        elif place.sort == "table":
            table = self._table(path, place, data)
            held[place.name] = _still_renaming(table, self._database.told(table), after.tables.get(place.name))
        else:
            held[place.name] = _statement(path, place, data)

    def _row_plan(self, path: str, place: Place, before: Schema, after: Schema, data: bytes) -> tuple[int, RowPlan]:
        table = after.tables.get(place.name)
        if table is None:
            raise wrong(path, f"there is no table {place.name}: tag its schema as well")
        old = before.tables.get(place.name)
        wanted = in_order(table, read_records(path, data, table, place.suffix, self._database.told_value))
        return plan_rows(old, table, self._database.rows(old) if old is not None else (), wanted)

    def stage(
        self, key: str, present: Manifest, manifest: Manifest, fetch: Fetch, progress: Progress = no_progress
    ) -> None:
        self._staged = {key: self._planned(present, manifest, fetch, progress)}

    def switch(self, key: str) -> None:
        if self.current() == key:
            return
        staged = self._staged.get(key)
        if staged is None:
            raise ConflictError(f"nothing is staged under {key}", code="destination.unstaged", hint="Promote again.")
        with self._database.changing() as changes:
            if self._database.schema() != staged.plan.before or self._moved(staged):
                raise ConflictError(
                    "the database was changed while the promotion was made ready",
                    code="destination.changed",
                    hint="Rehearse and promote again; nothing was changed.",
                )
            broken = set(changes.broken())
            staged.plan.carry_out(changes)
            if fresh := [text for text in changes.broken() if text not in broken]:
                raise ConflictError(
                    f"the database would not fit together: {fresh[0]}",
                    code="database.broken",
                    hint="Bring the missing record along, or remove what names it; nothing was changed.",
                )
            changes.record(key)

    def _moved(self, staged: _Staged) -> bool:
        there = self._present(set(staged.touched))
        return any(there.get(path) != staged.present.get(path) for path in staged.touched)

    def differences(self, key: str, manifest: Manifest, touched: Collection[str] | None = None) -> list[str]:
        if self.current() != key:
            return sorted(manifest)
        self._learn(manifest)
        there = self.present()
        self._staged.pop(key, None)
        return sorted(p for p in there.keys() | manifest.keys() if there.get(p) != manifest.get(p))

    def undo(self, key: str) -> None:
        """Nothing was written: what was staged is forgotten."""
        self._staged.pop(key, None)


def _still_renaming(said: Table, told: Table, there: Table | None) -> Table:
    """The table as the database will tell it, with the former names of columns that are still to be renamed."""
    renamed = renamed_columns(there, said) if there is not None else {}
    columns = tuple(replace(c, was=renamed.get(c.name, "")) for c in told.columns)
    return replace(told, columns=columns)


def _placed(pieces: Iterator[bytes]) -> Placed:
    digest, size = hashlib.sha256(), 0
    for piece in pieces:
        digest.update(piece)
        size += len(piece)
    return Placed(digest.hexdigest(), size)


def _statement_file(sql: str) -> bytes:
    return (sql.strip().removesuffix(";").rstrip() + ";\n").encode("utf-8", "surrogateescape")


def _statement(path: str, place: Place, data: bytes) -> str:
    try:
        text = data.decode().strip()
    except UnicodeDecodeError as error:
        raise wrong(path, "it is not UTF-8") from error
    sql = text.removesuffix(";").rstrip()
    words = sql.upper().split(None, 4)
    if words[:1] != ["CREATE"] or place.sort.upper() not in words[1:4]:
        raise wrong(path, f"it is not a CREATE {place.sort.upper()} statement")
    if place.sort == "view" and is_several(sql):
        raise wrong(path, "it is more than one statement")
    return sql
