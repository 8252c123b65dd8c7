"""Share a few things among many people in turns, so that a person who asks for many does not delay the others."""

from __future__ import annotations

import threading
import time
from collections import OrderedDict, deque
from collections.abc import Iterator
from contextlib import contextmanager
from contextvars import ContextVar
from typing import Generic, TypeVar

from everyshelf.core.errors import BusyError

T = TypeVar("T")
# For whom this thread works; empty for nobody in particular.
_person: ContextVar[str] = ContextVar("everyshelf_person", default="")


def work_for(person: str) -> None:
    """Say for whom this thread works from now on."""
    _person.set(person)


class FairPool(Generic[T]):
    """Things of which each is used by one thread at a time. The one that was used last is given out first.

    People who wait take turns, each with the request that has waited longest.
    """

    def __init__(self, things: list[T], seconds: float | None = None) -> None:
        self._free = list(things)
        self._seconds = seconds
        self._changed = threading.Condition()
        self._waiting: OrderedDict[str, deque[object]] = OrderedDict()  # the person whose turn it is comes first

    @contextmanager
    def one(self) -> Iterator[T]:
        """One of them; raises ``BusyError`` if none is free in time."""
        thing = self._taken(_person.get())
        try:
            yield thing
        finally:
            with self._changed:
                self._free.append(thing)
                self._changed.notify_all()

    def _taken(self, person: str) -> T:
        ticket, end = object(), time.monotonic() + (self._seconds or 0)
        with self._changed:
            self._waiting.setdefault(person, deque()).append(ticket)
            try:
                while not (self._free and self._next() is ticket):
                    left = end - time.monotonic() if self._seconds is not None else None
                    if left is not None and left <= 0:
                        raise BusyError("everything that reads files is busy")
                    self._changed.wait(left)
                return self._free.pop()
            finally:
                self._leave(person, ticket)
                self._changed.notify_all()

    def _next(self) -> object:
        return next(iter(self._waiting.values()))[0]

    def _leave(self, person: str, ticket: object) -> None:
        """This one waits no more, and the next turn is another person's."""
        mine = self._waiting[person]
        mine.remove(ticket)
        if mine:
            self._waiting.move_to_end(person)
        else:
            del self._waiting[person]
