"""What every request and job of this process shares: the content store, the trees over it, and reading workers."""

from __future__ import annotations

import functools
import shutil
import threading
import weakref
from collections.abc import Iterator
from contextlib import contextmanager
from typing import Any

from everyshelf.core.content.outside import NothingOutside, Outside
from everyshelf.core.content.store import ContentStore
from everyshelf.core.content.stores import MAIN, in_store
from everyshelf.core.history.trees import Trees
from everyshelf.core.reading.forking import ForkServer
from everyshelf.core.reading.worker import Worker
from everyshelf.service.base.config import get_config
from everyshelf.service.base.fair import FairPool, Spares
from everyshelf.service.base.turns import turns
from everyshelf.storage.home import HomePlace, open_place

_READERS = 2
_NICE = 5
_MOST_SPARES = 3  # for people who would wait for others' long answers
_RECOGNISING_SECONDS = 10.0
_UNPACKING_SECONDS = 3600.0
_PATIENCE_SECONDS = 60.0


# What reads data that lies outside the store: a capability above this floor says it when it is loaded.
_outside: list[Outside] = [NothingOutside()]


def read_outside_with(outside: Outside) -> None:
    """Have the store of this process read data in place with ``outside``; before the store is used."""
    _outside[0] = outside


@functools.cache
def get_store() -> ContentStore:
    """The content store of this process."""
    return ContentStore(get_place(), outside=_outside[0], nice=_NICE)


@functools.cache
def get_place() -> HomePlace:
    """Where this process finds segments."""
    config = get_config()
    return open_place(config.data, config.store_cache_bytes)


@functools.cache
def get_trees() -> Trees:
    """Folder trees over the content store. The empty folder, which they write first, is not for whoever asks first."""
    with in_store(MAIN):
        return Trees(get_store())


def reading_process(**settings: Any) -> Worker:
    """One that gives way to what answers requests; ``settings`` as for ``Worker``."""
    made = Worker(scratch=get_config().scratch, nice=_NICE, fork_server=_fork_server[0], **settings)
    with _lock:
        _made.add(made)
    return made


_made: weakref.WeakSet[Worker] = weakref.WeakSet()
_lock = threading.Lock()


def rest_readers() -> None:
    """Let reading processes that nobody asked for a while give back what they hold; call it from time to time."""
    with _lock:
        made = list(_made)
    for worker in made:
        worker.rest()


# Forks the reading processes of a service; without one (``everyshelf admin``, tests) each is started as a program.
_fork_server: list[ForkServer | None] = [None]


def fork_readers_with(fork_server: ForkServer) -> None:
    """Have ``fork_server`` fork the reading processes of this process and of those it forks."""
    _fork_server[0] = fork_server


_most_readers = [0]


def have_readers(count: int) -> None:
    """Let this process have so many reading processes at most; before the first is used."""
    _most_readers[0] = count


@functools.cache
def _all_readers() -> list[Worker]:
    count = _most_readers[0] or max(1, _READERS // get_config().workers)
    return [reading_process() for _ in range(count)]


@functools.cache
def _readers() -> FairPool[Worker]:
    """Someone who waits for an answer is told when it takes too long; a job waits as long as it takes."""
    if _most_readers[0]:
        return FairPool(_all_readers())
    return FairPool(_all_readers(), _PATIENCE_SECONDS, _spares())


@functools.cache
def _queriers() -> FairPool[Worker]:
    return FairPool([reading_process()], _PATIENCE_SECONDS, _spares())


def _spares() -> Spares[Worker]:
    def made() -> Worker:
        worker = reading_process()
        worker.start()
        worker.recognise([("ready", b"", 0)])  # answered once it has loaded what it needs
        return worker

    return Spares(made, Worker.close, _MOST_SPARES)


@contextmanager
def querier() -> Iterator[Worker]:
    """As ``reader``, for a query: pages do not wait for those."""
    with turns.given_back(), _queriers().one() as worker:
        yield worker


@functools.cache
def _recognisers() -> FairPool[Worker]:
    def made() -> Worker:
        return reading_process(deadline_seconds=_RECOGNISING_SECONDS)

    return FairPool([made()], None if _most_readers[0] else _PATIENCE_SECONDS, Spares(made, Worker.close, 1))


@contextmanager
def recogniser() -> Iterator[Worker]:
    """A reading process that says of which kind files are: commits do not wait for comparisons."""
    with _recognisers().one() as worker:
        yield worker


@contextmanager
def reader() -> Iterator[Worker]:
    """A reading process for one call; waits while all are busy, and gives its turn to others in the meantime. Raises
    ``BusyError`` where a request has waited too long."""
    with turns.given_back(), _readers().one() as worker:
        yield worker


def start_readers() -> None:
    """Start the reading processes of this process, which takes some tenths of a second each in the background."""
    for worker in _all_readers():
        worker.start()


@contextmanager
def unpacker() -> Iterator[Worker]:
    """A reading process for one parcel, which may be large: it takes the time that its bytes take, and nobody waits."""
    worker = reading_process(deadline_seconds=_UNPACKING_SECONDS)
    try:
        with turns.given_back():
            yield worker
    finally:
        worker.close()


def clear_scratch() -> None:
    """Remove what an earlier process left half-written."""
    folder = get_config().scratch
    shutil.rmtree(folder, ignore_errors=True)
    folder.mkdir(parents=True, exist_ok=True)
