"""Any database SQLAlchemy speaks to, restored in one transaction; proven with PostgreSQL.

How a database spells what it is given is not guessed: a table is made in a transaction that is taken back, and told as
it was found then. A view keeps the text it was made from in its comment. Triggers stay as they are.
"""

from __future__ import annotations

import contextlib
import hashlib
import json
import uuid
from collections.abc import Iterator
from typing import Any

import msgspec
import sqlalchemy as sa
from sqlalchemy.engine import Connection, make_url
from sqlalchemy.exc import ArgumentError, DBAPIError, NoSuchModuleError, SQLAlchemyError
from sqlalchemy.pool import NullPool

from everyshelf.core.databases import Changes, Database, Schema, Table
from everyshelf.core.databases.engine import DEPLOYMENTS, Row
from everyshelf.core.databases.schema import Column, normal
from everyshelf.core.databases.statements import index_statement
from everyshelf.core.databases.values import UnfitError
from everyshelf.core.errors import ConflictError, EveryShelfError, InvalidError, OutOfReachError, RefusedError
from everyshelf.destinations.reach import Reach
from everyshelf.destinations.sql_changes import SqlChanges, create_statement
from everyshelf.destinations.sql_schema import MADE_AS, sql_schema
from everyshelf.destinations.sql_values import comes_as_text, sorts_alike, told, told_value

_TRANSACTIONAL = ("postgresql", "mssql", "duckdb")
_SECONDS = 15
# No option that names a file of the service's machine, another host or another program.
_OPTIONS = ("application_name", "client_encoding", "connect_timeout", "sslmode")
_PORTS = {"postgresql": 5432, "mysql": 3306, "mariadb": 3306, "mssql": 1433, "oracle": 1521}
_REFUSED = ("28", "42501")  # SQLSTATE: invalid authorization, insufficient privilege
_OUT_OF_REACH = ("08", "53", "55P03", "57", "58")  # connection, resources, locks, operator, system


def is_sql_address(address: str) -> bool:
    """Whether an address is one of a database that is reached over a network."""
    scheme = address.partition("://")[0] if "://" in address else ""
    return bool(scheme) and not scheme.startswith("sqlite")


def checked_sql_address(address: str) -> str:
    """The address in its one form; raises ``InvalidError`` for what cannot be reached that way."""
    try:
        url = make_url(address)
        url.get_dialect()
        sa.create_engine(url, poolclass=NullPool)
    except (ArgumentError, NoSuchModuleError, ImportError, ValueError) as error:
        raise InvalidError(
            f"{address.partition('://')[0]!r} is not a database this installation speaks to: {type(error).__name__}",
            code="environment.address",
            pointer="/address",
            hint="Write postgresql+psycopg://USER@HOST/NAME, or install its driver beside the service.",
        ) from error
    odd = sorted(name for name in url.query if name not in _OPTIONS and "pass" not in name.lower())
    if odd:
        raise InvalidError(
            f"the option {odd[0]!r} is not allowed in the address of a database",
            code="environment.address",
            pointer="/address",
            hint=f"Allowed are {', '.join(_OPTIONS)}.",
        )
    if url.password or any("pass" in name.lower() for name in url.query):
        raise InvalidError(
            "an address holds no password and no token",
            code="environment.address",
            pointer="/address",
            hint="Give the password by itself (--token): it is kept sealed.",
        )
    if not url.database or not url.host:
        raise InvalidError(
            f"{address} names no {'database' if url.host else 'host'}",
            code="environment.address",
            pointer="/address",
            hint="Write postgresql+psycopg://USER@HOST/NAME.",
        )
    return url.render_as_string()


class SqlDatabase(Database):
    """The database at ``address`` (a URL of SQLAlchemy's without a password)."""

    tells_triggers = False

    def __init__(self, address: str, password: str = "", reach: Reach | None = None) -> None:
        url = make_url(address)
        self._reach = reach or Reach()
        self._name = f"{url.host or 'localhost'}/{url.database}"
        self._password = password
        self._dialect = url.get_backend_name()
        arguments: dict[str, Any] = {}
        if self._dialect == "postgresql":
            arguments = {
                "connect_timeout": _SECONDS,
                "options": f"-c timezone=UTC -c datestyle=ISO -c intervalstyle=postgres -c lock_timeout={_SECONDS}s",
            }
        with_password = url.set(password=password) if password else url
        self._engine = sa.create_engine(with_password, poolclass=NullPool, connect_args=arguments)
        self._host, self._port = url.host or "", url.port or _PORTS.get(self._dialect, 0)
        sa.event.listen(self._engine, "do_connect", self._aim)
        self._connection: Connection | None = None
        self.alters_in_transaction = self._dialect in _TRANSACTIONAL
        self._told: dict[Table, Table] = {}
        self._forms: dict[tuple[str, str], Any] = {}

    def _aim(self, dialect: Any, record: Any, arguments: list[Any], named: dict[str, Any]) -> None:
        """Connect to the address that was checked; libpq takes it beside the name, which is left for TLS (34.1.2)."""
        address = self._reach.resolved(self._host, self._port)
        if self._dialect == "postgresql":
            named["hostaddr"] = address

    # --- reading ------------------------------------------------------------------

    @contextlib.contextmanager
    def _in_transaction(self, level: str) -> Iterator[Connection]:
        """A transaction; errors of the database in our words, without values and without the password."""
        if self._connection is not None:
            yield self._connection
            return
        try:
            with self._engine.connect() as plain:
                isolated = self._dialect == "postgresql"
                connection = plain.execution_options(isolation_level=level) if isolated else plain
                with connection.begin():
                    self._connection = connection
                    try:
                        yield connection
                    finally:
                        self._connection = None
        except DBAPIError as error:
            raise self._in_our_words(error) from error
        except SQLAlchemyError as error:
            raise self._refused(type(error).__name__) from error

    def _in_our_words(self, error: DBAPIError) -> EveryShelfError:
        diagnosis = getattr(error.orig, "diag", None)
        said = getattr(diagnosis, "message_primary", None) or str(error.orig).strip().partition("\n")[0]
        said = said.replace(self._password, "•••") if self._password else said
        state = str(getattr(error.orig, "sqlstate", None) or "")
        said = said.partition(":")[0] if state.startswith("22") else said  # behind it stands the value
        if state.startswith(_REFUSED) or "authentication failed" in said:
            return RefusedError(
                f"{self._name} does not let the service in: {said}",
                code="destination.refused",
                hint="Give the environment a password that is known there: everyshelf env change NAME --token.",
            )
        out_of_reach = state.startswith(_OUT_OF_REACH) if state else isinstance(error, sa.exc.OperationalError)
        if error.connection_invalidated or out_of_reach:
            return OutOfReachError(f"{self._name} failed: {said}", code="destination.failed")
        if state == "23503":
            table = getattr(diagnosis, "table_name", None) or "a table"
            return ConflictError(
                f"the database would not fit together: a record of {table} names one that is not there",
                code="database.broken",
                hint="Bring the missing record along, or remove what names it; nothing was changed.",
            )
        if state.startswith("40"):
            return ConflictError(
                f"{self._name} was changed by someone else at the same time",
                code="destination.changed",
                hint="Rehearse and promote again; nothing was changed.",
            )
        return self._refused(said)

    def _refused(self, said: str) -> ConflictError:
        return ConflictError(
            f"{self._name} does not take it: {said}",
            code="database.refused",
            hint="Fix the records or the schema on the shelf, or what is in the way there; nothing was changed.",
        )

    @contextlib.contextmanager
    def reading(self) -> Iterator[None]:
        with self._in_transaction("REPEATABLE READ"):
            yield

    def schema(self) -> Schema:
        with self._in_transaction("REPEATABLE READ") as connection:
            return sql_schema(connection)

    def count(self, table: Table, *, filled: str = "") -> int:
        what = sa.func.count(sa.column(filled)) if filled else sa.func.count()
        with self._in_transaction("REPEATABLE READ") as connection:
            return int(connection.execute(sa.select(what).select_from(sa.table(table.table))).scalar_one())

    def rows(self, table: Table) -> Iterator[Row]:
        names = table.filled
        order: list[Any] = [self._by_code(table.by_name[name]) for name in table.key]
        told_by: list[Any] = [self._as_read(table.by_name[name]) for name in names]
        wanted: Any = sa.select(*told_by).select_from(sa.table(table.table)).order_by(*order)
        with self._in_transaction("REPEATABLE READ") as connection:
            for row in connection.execute(wanted):
                yield {name: told(value) for name, value in zip(names, row, strict=True)}

    def _as_read(self, column: Column) -> Any:
        """A column as values are read from it, in the form in which they are told."""
        named: Any = sa.column(column.name)
        as_text = comes_as_text(column.type) if self._dialect == "postgresql" else ""
        texts: Any = sa.ARRAY(sa.Text()) if as_text.endswith("[]") else sa.Text()
        return sa.cast(named, texts).label(column.name) if as_text else named

    def _by_code(self, column: Column) -> Any:
        """What is told as a text in the order of its characters' numbers, whatever the database sorts by."""
        named: Any = sa.column(column.name)
        if self._dialect != "postgresql" or sorts_alike(column.type):
            return named
        return sa.collate(sa.cast(named, sa.Text()), "C")

    def current(self) -> str | None:
        with self._in_transaction("REPEATABLE READ") as connection:
            if not sa.inspect(connection).has_table(DEPLOYMENTS):
                return None
            number: Any = sa.column("number")
            key: Any = sa.column("key")
            newest = sa.select(key).select_from(sa.table(DEPLOYMENTS)).order_by(number.desc()).limit(1)
            found: str | None = connection.execute(newest).scalar()
            return found

    def close(self) -> None:
        self._engine.dispose()

    # --- how it would tell what it is given -----------------------------------------

    def told(self, table: Table) -> Table:
        """As it was found after it was made, in a transaction that was taken back."""
        known = self._told.get(table)
        if known is None:
            known = self._told[table] = self._in_their_order(self._tried(normal(table)), table)
        return known

    def _in_their_order(self, table: Table, said: Table) -> Table:
        """Columns stay in the order in which they came to be: those that are there, then new ones."""
        with self._in_transaction("REPEATABLE READ") as connection:
            inspector = sa.inspect(connection)
            there = [c["name"] for c in inspector.get_columns(table.table)] if inspector.has_table(table.table) else []
        former = {c.name: c.was for c in said.columns if c.was in there and c.name not in there}
        places = {name: number for number, name in enumerate(there)}
        last = len(places)
        columns = sorted(table.columns, key=lambda c: places.get(former.get(c.name, c.name), last))
        return msgspec.structs.replace(table, columns=tuple(columns))

    def _tried(self, table: Table) -> Table:
        if table.as_is or self._dialect != "postgresql":
            return table
        # Foreign keys are told as they are given, so the table can stand alone.
        alone = msgspec.structs.replace(table, references=(), indexes=())
        name = f"everyshelf_try_{uuid.uuid4().hex[:12]}"
        indexes = {f"{name}_{n:04}": index for n, index in enumerate(table.indexes)}
        with self._in_transaction("REPEATABLE READ") as connection:
            attempt = connection.begin_nested()
            try:
                statements = [create_statement(alone, name, temporary=True)]
                statements += [index_statement(index, name, called) for called, index in indexes.items()]
                for statement in statements:
                    connection.exec_driver_sql(statement.replace("%", "%%"))
                found = sql_schema(connection, only=name).tables[name]
            except DBAPIError as error:
                said = getattr(getattr(error.orig, "diag", None), "message_primary", None) or "it is refused"
                raise InvalidError(
                    f"table {table.table}: {said}",
                    code="database.file",
                    hint="Fix its schema on the shelf, commit, and tag again.",
                ) from error
            finally:
                attempt.rollback()
        told_indexes = tuple(msgspec.structs.replace(i, name=indexes[i.name].name) for i in found.indexes)
        return normal(
            msgspec.structs.replace(found, table=table.table, references=table.references, indexes=told_indexes)
        )

    def told_value(self, column: Column, value: Any) -> Any:
        return told_value(column, value, self._asked)

    def _asked(self, type_: str, value: str) -> Any:
        """How the database tells a value of a type of which we know nothing."""
        if self._dialect != "postgresql":
            return value
        if (type_, value) not in self._forms:
            query = sa.text(f"SELECT CAST(CAST(:value AS {type_}) AS TEXT)")
            with self._in_transaction("REPEATABLE READ") as connection:
                attempt = connection.begin_nested()
                try:
                    self._forms[type_, value] = connection.execute(query, {"value": value}).scalar_one()
                except DBAPIError as error:
                    raise UnfitError(f"it is no {type_}") from error
                finally:
                    attempt.rollback()
        return self._forms[type_, value]

    # --- changing ---------------------------------------------------------------------

    @contextlib.contextmanager
    def changing(self) -> Iterator[Changes]:
        with self._in_transaction("SERIALIZABLE") as connection:
            yield SqlChanges(connection, self._dialect, self._described)

    def _described(self, connection: Connection, name: str, made_as: str) -> None:
        """Keep the text a view was made from in its comment, with what the database makes of it."""
        found = sa.inspect(connection).get_view_definition(name) or ""
        kept = json.dumps({MADE_AS: made_as, "found": hashlib.sha256(found.encode()).hexdigest()})
        quoted = self._engine.dialect.identifier_preparer.quote_identifier(name)
        kind: Any = sa.String()
        text = kind.literal_processor(self._engine.dialect)
        connection.exec_driver_sql(f"COMMENT ON VIEW {quoted} IS {text(kept)}".replace("%", "%%"))
