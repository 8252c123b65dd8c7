"""One act, one transaction.

A writing request is one act: a commit, what it takes up of a draft, the merge it finishes, the branch it deletes, its
entry in the log, the jobs it starts and the answer kept for its idempotency key are recorded together or not at all.

Reading, comparing and merging take long, and SQLite has one writer. So the transaction of an act begins with its first
write and not with the request:

1. ``Act`` is opened by the base of all views around a request that may write.
2. Use cases work out what they need, then write inside ``one_act()``. The first of these begins the transaction of the
   act; those that follow are savepoints in it. A write outside of any ``one_act()`` begins it, too.
3. The view's answer is made. If it is one, the transaction is committed with it; after an error it is rolled back,
   unless the error says that what was written shall stay (``keeps``): a merge that waits for its conflicts to be
   settled is kept, and answered with 409.

Caches are written ``aside``: they belong to no act. Where no act is open (jobs, the first start), ``one_act()`` is a
transaction of its own.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import contextmanager
from contextvars import ContextVar
from typing import Any

from django.core.exceptions import ObjectDoesNotExist
from django.db import connection, transaction
from django.db.models import Model

from everyshelf.core.errors import ConflictError
from everyshelf.service.base.turns import turns

_WRITES = ("INSERT", "UPDATE", "DELETE", "REPLACE")
_current: ContextVar[Act | None] = ContextVar("act", default=None)


class Act:
    """The transaction of one writing request. ``first`` is called at its beginning and may end it with an error."""

    def __init__(self, first: Callable[[], None]) -> None:
        self._first = first
        self._transaction: Any = None
        self._beginning = False
        self._aside = 0
        self.failed = False

    @property
    def begun(self) -> bool:
        """Whether anything was written."""
        return self._transaction is not None

    def begin(self) -> None:
        """Begin the transaction, if it has not begun."""
        if self._transaction is None and not self._aside:
            self._beginning = True
            turns.let_go()
            try:
                begun = transaction.atomic()
                begun.__enter__()
            finally:
                self._beginning = False
            self._transaction = begun
            self._first()

    def end(self) -> None:
        """Commit what was written, or roll it back if the act failed."""
        ending, self._transaction = self._transaction, None
        if ending is not None:
            if self.failed:
                transaction.set_rollback(True)
            ending.__exit__(None, None, None)

    def _watch(self, execute: Any, sql: str, params: Any, many: bool, context: Any) -> Any:
        word = sql[:8].lstrip().partition(" ")[0].upper()
        if self._transaction is None and not self._aside and not self._beginning:
            if word == "BEGIN":
                raise RuntimeError("a transaction begins outside of its act; use one_act() or aside()")
            if word in _WRITES:
                self.begin()
        return execute(sql, params, many, context)


@contextmanager
def open_act(first: Callable[[], None]) -> Iterator[Act]:
    """The act of a request; whoever opens it ends it."""
    act = Act(first)
    token = _current.set(act)
    try:
        with connection.execute_wrapper(act._watch):
            try:
                yield act
            except BaseException:
                act.failed = True
                raise
            finally:
                if act.begun:  # ended by an error nobody translated
                    act.failed = True
                    act.end()
    finally:
        _current.reset(token)


def current_act() -> Act | None:
    """The act that is open in this thread, or None."""
    return _current.get()


@contextmanager
def one_act() -> Iterator[None]:
    """All writes inside are recorded together or not at all, with all others of the same act."""
    act = _current.get()
    if act is not None:
        act.begin()
    with transaction.atomic():
        yield


def as_now(record: Model) -> None:
    """Read a record again, inside of the act that changes it. One that was read before the act began may have been
    changed by another person since, and saving it would take their change back. Raises ``ConflictError`` (act.removed)
    if it is gone."""
    try:
        record.refresh_from_db()
    except ObjectDoesNotExist as error:
        raise ConflictError(
            f"{getattr(record, 'name', record)} was removed while you changed it",
            code="act.removed",
            hint="Make it again, if it is still needed.",
        ) from error


@contextmanager
def aside() -> Iterator[None]:
    """Writes inside belong to no act: caches, and notes about them. Where an act has begun they share its fate."""
    act = _current.get()
    if act is not None:
        act._aside += 1
    try:
        yield
    finally:
        if act is not None:
            act._aside -= 1
