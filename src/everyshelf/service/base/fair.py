"""Share a few things among many people in turns, so that a person who asks for many does not delay the others."""

from __future__ import annotations

import threading
import time
from collections import Counter, OrderedDict, deque
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from contextvars import ContextVar
from dataclasses import dataclass
from typing import Generic, TypeVar

from everyshelf.core.errors import BusyError

T = TypeVar("T")
# For whom this thread works; empty for nobody in particular.
_person: ContextVar[str] = ContextVar("everyshelf_person", default="")


def work_for(person: str) -> None:
    """Say for whom this thread works from now on."""
    _person.set(person)


@dataclass(frozen=True)
class Spares(Generic[T]):
    """More things, up to ``most``, for people who wait behind another person's long work.

    ``make`` is called after a wait of ``after_seconds`` and may be slow; a thing that is free sooner is used instead.
    ``close`` gets what nobody has used for ``kept_seconds``.
    """

    make: Callable[[], T]
    close: Callable[[T], None]
    most: int
    after_seconds: float = 0.1
    kept_seconds: float = 30.0


class FairPool(Generic[T]):
    """Things of which each is used by one thread at a time. The one that was used last is given out first.

    People who wait take turns, each with the request that has waited longest. With ``spares`` a person has no more of
    them at a time than there are without those: they are for the others.
    """

    def __init__(self, things: list[T], seconds: float | None = None, spares: Spares[T] | None = None) -> None:
        self._free = list(things)
        self._seconds, self._spares, self._own = seconds, spares, len(things)
        self._changed = threading.Condition()
        self._waiting: OrderedDict[str, deque[object]] = OrderedDict()  # the person whose turn it is comes first
        self._held: Counter[str] = Counter()
        self._extra: list[T] = []
        self._making = False
        self._last_used = 0.0
        self._closing: threading.Timer | None = None

    @contextmanager
    def one(self) -> Iterator[T]:
        """One of them; raises ``BusyError`` if none is free in time."""
        person = _person.get()
        thing = self._taken(person)
        try:
            yield thing
        finally:
            with self._changed:
                self._held.subtract([person])
                self._held += Counter()  # drops those who hold none
                self._put(thing)

    def _put(self, thing: T) -> None:
        if thing in self._extra:
            self._free.insert(0, thing)
            self._last_used = time.monotonic()
            if self._closing is None:
                self._close_later()
        else:
            self._free.append(thing)
        self._changed.notify_all()

    def _taken(self, person: str) -> T:
        ticket, begun = object(), time.monotonic()
        with self._changed:
            self._waiting.setdefault(person, deque()).append(ticket)
            try:
                while not (self._free and self._next() is ticket):
                    waited = time.monotonic() - begun
                    if self._seconds is not None and waited >= self._seconds:
                        raise BusyError("everything that reads files is busy")
                    if not self._free and self._may_make(person, waited):
                        self._making = True
                        threading.Thread(target=self._make, daemon=True, name="every-shelf-spare").start()
                    self._changed.wait(self._longest_wait(waited))
                self._held[person] += 1
                return self._free.pop()
            finally:
                self._leave(person, ticket)
                self._changed.notify_all()

    def _longest_wait(self, waited: float) -> float | None:
        ends = [self._seconds] if self._seconds is not None else []
        if self._spares is not None and waited < self._spares.after_seconds:
            ends.append(self._spares.after_seconds)
        return min(ends) - waited if ends else None

    def _may_have(self, person: str) -> bool:
        return self._spares is None or self._held[person] < self._own

    def _next(self) -> object:
        return next((tickets[0] for person, tickets in self._waiting.items() if self._may_have(person)), None)

    def _leave(self, person: str, ticket: object) -> None:
        """This one waits no more, and the next turn is another person's."""
        mine = self._waiting[person]
        mine.remove(ticket)
        if mine:
            self._waiting.move_to_end(person)
        else:
            del self._waiting[person]

    # --- spares -------------------------------------------------------------------------------

    def _may_make(self, person: str, waited: float) -> bool:
        spares = self._spares
        return (
            spares is not None
            and not self._making
            and waited >= spares.after_seconds
            and len(self._extra) < spares.most
            and self._may_have(person)
        )

    def _make(self) -> None:
        assert self._spares is not None
        try:
            made = self._spares.make()
            with self._changed:
                self._extra.append(made)
                self._put(made)
        except OSError:
            pass  # no process can be started now: the next one who waits tries again
        finally:
            self._making = False

    def _close_later(self) -> None:
        assert self._spares is not None
        self._closing = threading.Timer(self._spares.kept_seconds, self._close_unused)
        self._closing.daemon = True
        self._closing.start()

    def _close_unused(self) -> None:
        assert self._spares is not None
        with self._changed:
            self._closing = None
            if time.monotonic() - self._last_used < self._spares.kept_seconds:
                self._close_later()
                return
            unused = [thing for thing in self._free if thing in self._extra]
            for thing in unused:
                self._free.remove(thing)
                self._extra.remove(thing)
        for thing in unused:
            self._spares.close(thing)
