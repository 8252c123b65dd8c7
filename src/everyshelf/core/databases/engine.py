"""The small interface of a program that keeps databases."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Iterable, Iterator, Mapping
from contextlib import AbstractContextManager, nullcontext
from dataclasses import dataclass, field
from typing import Any

from everyshelf.core.databases.schema import Column, Schema, Table, normal

# Column -> value as JSON holds it (see ``values``); a column without a default that is NULL may be left out.
Row = dict[str, Any]
# The table in which a database remembers what was put into it; it is none of the database's own.
DEPLOYMENTS = "everyshelf_deployments"


@dataclass
class RowPlan:
    """What happens to the records of one table; ``gone`` of a table without a key is all that is there. ``exchanges``:
    records that change may take from each other what has to be unique."""

    gone: list[Row] = field(default_factory=list)
    fresh: list[Row] = field(default_factory=list)
    changed: list[Row] = field(default_factory=list)
    exchanges: bool = False

    def __bool__(self) -> bool:
        return bool(self.gone or self.fresh or self.changed)


class Changes(ABC):
    """What is done in one transaction: all of it, or nothing if anything raises."""

    def loosened(self, before: Schema, after: Schema, rows: Mapping[str, RowPlan]) -> AbstractContextManager[None]:
        """While it lasts, foreign keys need not hold; afterwards all of ``after`` do, or it raises."""
        return nullcontext()

    @abstractmethod
    def create(self, table: Table) -> None:
        """A new table, without its indexes and triggers; its foreign keys may follow when nothing is loose any more."""

    @abstractmethod
    def drop(self, table: Table) -> None:
        """A table with everything in it."""

    @abstractmethod
    def alter(self, old: Table, new: Table, *, refill: bool) -> None:
        """Make a table what ``new`` says, its records kept; with ``refill`` they follow anyway, and need not be."""

    @abstractmethod
    def constrain(self, old: Table, new: Table) -> None:
        """What can only be asked of a table once its records are there."""

    @abstractmethod
    def run(self, statement: str) -> None:
        """One statement that makes an index, a view or a trigger."""

    @abstractmethod
    def forget(self, sort: str, name: str, table: str = "") -> None:
        """Remove an index, a view or a trigger (``sort``), if it is still there; ``table``: the one it is on."""

    @abstractmethod
    def remove(self, table: Table, rows: Iterable[Row]) -> None:
        """Records, by their key; every record of a table without one."""

    @abstractmethod
    def put(self, table: Table, rows: Iterable[Row], *, replacing: bool) -> None:
        """Records; ``replacing`` ones of the same key, which keep the values of columns that are not named."""

    @abstractmethod
    def broken(self) -> list[str]:
        """Foreign keys that name nothing, in words."""

    @abstractmethod
    def record(self, key: str) -> None:
        """Remember that what was put there is the deployment ``key``."""


class Database(ABC):
    """One database. Raises ``OutOfReachError`` where it does not answer, ``RefusedError`` where it does not let the
    service in, ``ConflictError`` (database.refused) where it does not take what it is given."""

    # Whether tables can be altered in the transaction in which records are put.
    alters_in_transaction = True
    # Whether its triggers are files of the shelf.
    tells_triggers = True

    @abstractmethod
    def reading(self) -> AbstractContextManager[None]:
        """While it lasts, everything read is of one moment."""

    @abstractmethod
    def schema(self) -> Schema:
        """Everything but the records."""

    @abstractmethod
    def count(self, table: Table, *, filled: str = "") -> int:
        """How many records there are; of those that have a value in the column ``filled``, if one is named."""

    @abstractmethod
    def rows(self, table: Table) -> Iterator[Row]:
        """All records in the order of the key."""

    @abstractmethod
    def current(self) -> str | None:
        """The deployment that was put there last, or None."""

    @abstractmethod
    def changing(self) -> AbstractContextManager[Changes]:
        """One transaction; nobody else changes anything while it lasts."""

    def told(self, table: Table) -> Table:
        """A table as this database would tell it once it is there."""
        return normal(table)

    def told_value(self, column: Column, value: Any) -> Any:
        """A value of that column as this database would tell it; raises ``ValueError`` for what it cannot hold."""
        return value

    @abstractmethod
    def close(self) -> None:
        """Let go of the connection."""
