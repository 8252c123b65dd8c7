"""Any database SQLAlchemy speaks to, restored in one transaction; proven with PostgreSQL.

How a database spells what it is given is not guessed: a table is made in a transaction that is taken back, and told as
it was found then. A view keeps the text it was made from in its comment. Triggers stay as they are and run.
"""

from __future__ import annotations

import base64
import contextlib
import hashlib
import json
import struct
import uuid
from collections.abc import Callable, Iterator, Mapping
from datetime import date, datetime, time
from decimal import Decimal, InvalidOperation
from typing import Any

import msgspec
import sqlalchemy as sa
from sqlalchemy.engine import Connection, make_url
from sqlalchemy.exc import ArgumentError, DBAPIError, NoSuchModuleError, SQLAlchemyError
from sqlalchemy.pool import NullPool

from everyshelf.core.databases import Changes, Database, Schema, Table
from everyshelf.core.databases.engine import DEPLOYMENTS, Row
from everyshelf.core.databases.plan import index_statement
from everyshelf.core.databases.schema import Column, normal
from everyshelf.core.errors import ConflictError, EveryShelfError, InvalidError, OutOfReachError, RefusedError
from everyshelf.destinations.sql_changes import SqlChanges, create_statement
from everyshelf.destinations.sql_schema import MADE_AS, sql_schema

_TRANSACTIONAL = ("postgresql", "mssql", "duckdb")
_SECONDS = 15
_REFUSED = ("28", "42501")  # SQLSTATE: invalid authorization, insufficient privilege
_OUT_OF_REACH = ("08", "53", "55P03", "57", "58")  # connection, resources, locks, operator, system
_WHOLE = {"SMALLINT": 15, "INTEGER": 31, "INT": 31, "BIGINT": 63}


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
            f"{address.partition('://')[0]!r} is no database this installation speaks to: {type(error).__name__}",
            code="environment.address",
            pointer="/address",
            hint="Write postgresql+psycopg://USER@HOST/NAME, or install its driver beside the service.",
        ) from error
    if url.password or any("pass" in name.lower() for name in url.query):
        raise InvalidError(
            "an address holds no password and no token",
            code="environment.address",
            pointer="/address",
            hint="Give the password by itself (--token): it is kept sealed.",
        )
    if not url.database:
        raise InvalidError(
            f"{address} names no database",
            code="environment.address",
            pointer="/address",
            hint="Write postgresql+psycopg://USER@HOST/NAME.",
        )
    return url.render_as_string()


class SqlDatabase(Database):
    """The database at ``address`` (a URL of SQLAlchemy's without a password)."""

    def __init__(self, address: str, password: str = "") -> None:
        url = make_url(address)
        self._name = f"{url.host or 'localhost'}/{url.database}"
        self._password = password
        self._dialect = url.get_backend_name()
        arguments: dict[str, Any] = {}
        if self._dialect == "postgresql":
            arguments = {"connect_timeout": _SECONDS, "options": f"-c timezone=UTC -c lock_timeout={_SECONDS}s"}
        with_password = url.set(password=password) if password else url
        self._engine = sa.create_engine(with_password, poolclass=NullPool, connect_args=arguments)
        self._connection: Connection | None = None
        self.alters_in_transaction = self._dialect in _TRANSACTIONAL
        self._told: dict[Table, Table] = {}

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
        if state.startswith(_REFUSED) or "authentication failed" in said:
            return RefusedError(
                f"{self._name} does not let the service in: {said}",
                code="destination.refused",
                hint="Give the environment a password that is known there: everyshelf env change NAME --token.",
            )
        out_of_reach = state.startswith(_OUT_OF_REACH) if state else isinstance(error, sa.exc.OperationalError)
        if error.connection_invalidated or out_of_reach:
            return OutOfReachError(f"{self._name} failed: {said}", code="destination.failed")
        if state.startswith("40"):
            return ConflictError(
                f"{self._name} was changed by somebody else at the same time",
                code="destination.changed",
                hint="Rehearse and promote again; nothing was changed.",
            )
        return self._refused(said)

    def _refused(self, said: str) -> ConflictError:
        return ConflictError(
            f"{self._name} does not take it: {said}",
            code="database.refused",
            hint="Mend the records or the schema on the shelf, or what is in the way there; nothing was changed.",
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
        wanted: Any = sa.select(*(sa.column(n) for n in names)).select_from(sa.table(table.table)).order_by(*order)
        with self._in_transaction("REPEATABLE READ") as connection:
            for row in connection.execute(wanted):
                yield {name: told(value) for name, value in zip(names, row, strict=True)}

    def _by_code(self, column: Column) -> Any:
        """Texts in the order of their characters' numbers, whatever language the database sorts by."""
        text = any(word in column.type.upper() for word in ("CHAR", "TEXT"))
        named = sa.column(column.name, sa.Text() if text else None)
        return sa.collate(named, "C") if text and self._dialect == "postgresql" else named

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
                    hint="Mend its schema on the shelf, commit, and tag again.",
                ) from error
            finally:
                attempt.rollback()
        told_indexes = tuple(msgspec.structs.replace(i, name=indexes[i.name].name) for i in found.indexes)
        return normal(
            msgspec.structs.replace(found, table=table.table, references=table.references, indexes=told_indexes)
        )

    def told_value(self, column: Column, value: Any) -> Any:
        return told_value(column, value)

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


# --- values -------------------------------------------------------------------------------


def told(value: Any) -> Any:
    """A value as the driver gives it, as JSON can hold it."""
    if isinstance(value, bytes | memoryview):
        return {"base64": base64.b64encode(bytes(value)).decode()}
    if isinstance(value, float) and value in (float("inf"), float("-inf")):
        return {"real": str(value)}
    if value is None or isinstance(value, bool | int | float | str | Mapping):
        return value
    if isinstance(value, datetime):
        return value.isoformat(" ")
    if isinstance(value, date | time):
        return value.isoformat()
    return [told(item) for item in value] if isinstance(value, list | tuple) else str(value)


def told_value(column: Column, value: Any) -> Any:
    """A value of a file as a database of types would tell it; raises ``ValueError`` for what it cannot hold."""
    full = column.type.upper()
    base = full.partition("(")[0].strip()
    if "JSON" in base or full.endswith("[]"):
        return value
    if base in ("BYTEA", "BLOB", "BINARY", "VARBINARY"):
        return _bytes(value)
    if base in _REALS:
        return _real(base, value)
    if isinstance(value, dict | list):
        raise ValueError(f"{value!r} is no value of {full or 'this column'}")
    if base in ("NUMERIC", "DECIMAL"):
        return _decimal(full, value)
    if base in _WHOLE:
        return _whole(base, value)
    return _OF_TEXTS.get(base.partition(" ")[0], str)(str(value))


def _whole(base: str, value: Any) -> int:
    number = int(value) if isinstance(value, float) else int(str(value))
    if number != value and str(number) != str(value):
        raise ValueError(f"{value!r} is no whole number")
    if not -(2 ** _WHOLE[base]) <= number < 2 ** _WHOLE[base]:
        raise ValueError(f"{number} is too large for {base}")
    return number


def _real(base: str, value: Any) -> Any:
    real = float(value["real"]) if isinstance(value, dict) and set(value) == {"real"} else float(value)
    if base == "REAL" and float(f"{struct.unpack('f', struct.pack('f', real))[0]:.6g}") != real:
        raise ValueError(f"REAL cannot hold {value} exactly; declare the column DOUBLE PRECISION")
    return told(real)


def _bytes(value: Any) -> Any:
    if not isinstance(value, dict) or set(value) != {"base64"}:
        raise ValueError('bytes are written {"base64": "…"}')
    return told(base64.b64decode(value["base64"], validate=True))


def _truth(text: str) -> bool:
    if text.lower() not in ("0", "1", "true", "false"):
        raise ValueError(f"{text!r} is neither true nor false")
    return text.lower() in ("1", "true")


_REALS = ("DOUBLE PRECISION", "FLOAT", "DOUBLE", "REAL")
_OF_TEXTS: dict[str, Callable[[str], Any]] = {
    "BOOLEAN": _truth,
    "DATE": lambda text: date.fromisoformat(text).isoformat(),
    "TIMESTAMP": lambda text: datetime.fromisoformat(text).isoformat(" "),
    "DATETIME": lambda text: datetime.fromisoformat(text).isoformat(" "),
    "TIME": lambda text: time.fromisoformat(text).isoformat(),
    "UUID": lambda text: str(uuid.UUID(text)),
}


def _decimal(full: str, value: Any) -> str:
    try:
        number = Decimal(str(value))
        digits = full.partition("(")[2].rstrip(")").split(",")
        if len(digits) == 2:
            scaled = number.quantize(Decimal(1).scaleb(-int(digits[1])))
            if scaled != number:
                raise ValueError(f"{value} has more digits than {full} keeps")
            number = scaled
    except InvalidOperation as error:
        raise ValueError(f"{value!r} is no number for {full}") from error
    return str(number)
