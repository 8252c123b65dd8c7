"""50 people at work for ten minutes: each looks, saves, commits, compares and merges; nobody meets an error of ours.

Once without a pause, which is more than two cores can do, and once as people work: after each act they read and think.
"""

from __future__ import annotations

import os
import random
import threading
import time
from collections import Counter
from collections.abc import Iterator
from dataclasses import dataclass, field

from tests.support.service import PASSWORD, Service

from bench.measure import Figure
from bench.soak import memory_of
from everyshelf.client import ChangeRequest, Client, ClientError, ProblemError, ShelfClient

PEOPLE = int(os.environ.get("PEOPLE", "50"))
MINUTES = float(os.environ.get("MINUTES", "10"))
PAUSE = 15.0  # seconds from one act to the next, on average


@dataclass
class _Seen:
    """What came back, over all people."""

    acts: Counter[str] = field(default_factory=Counter)
    refused: Counter[str] = field(default_factory=Counter)
    wrong: list[str] = field(default_factory=list)
    reads: list[float] = field(default_factory=list)  # seconds
    memory: list[float] = field(default_factory=list)  # MB of all processes of the service, by the minute
    lock: threading.Lock = field(default_factory=threading.Lock)


class _Person:
    def __init__(self, shelf: ShelfClient, name: str, seen: _Seen, seed: int, pause: float) -> None:
        self._pause = pause
        self._shelf, self._name, self._seen = shelf, name, seen
        self._branch = f"{name}/work"
        self._random = random.Random(seed)
        self._number = 0
        self._kept: dict[str, bytes] = {}

    def work(self, until: float) -> None:
        self._shelf.make_branch(self._branch)
        acts = [
            self._look,
            self._look,
            self._look,
            self._history,
            self._compare,
            self._commit,
            self._commit,
            self._merge,
        ]
        while time.monotonic() < until:
            act = self._random.choice(acts)
            if self._pause:
                time.sleep(self._random.expovariate(1 / self._pause))
                if time.monotonic() > until:
                    break
            try:
                act()
                with self._seen.lock:
                    self._seen.acts[act.__name__.strip("_")] += 1
            except ProblemError as error:
                with self._seen.lock:
                    self._seen.refused[error.code] += 1
                    if error.status >= 500:
                        self._seen.wrong.append(f"{self._name} {act.__name__}: {error.status} {error}")
            except ClientError as error:
                with self._seen.lock:
                    self._seen.wrong.append(f"{self._name} {act.__name__}: {error!r}")

    def _look(self) -> None:
        artifacts = self._shelf.artifacts()
        self._timed(artifacts)
        list(artifacts)

    def _history(self) -> None:
        self._timed(self._shelf.commits("main", 20))

    def _timed(self, pages: Iterator[object]) -> None:
        """Ask for the first page, and note how long that took."""
        begun = time.monotonic()
        next(pages, None)
        self._seen.reads.append(time.monotonic() - begun)

    def _compare(self) -> None:
        self._shelf.compare("main", self._branch)

    def _commit(self) -> None:
        self._number += 1
        path = f"{self._name}/{self._number % 12}.json"
        data = b'{"name": "%s", "value": %d}\n' % (self._name.encode(), self._random.randrange(10**6))
        content = self._shelf.upload(data).id
        self._shelf.commit(self._branch, self._shelf.branch(self._branch).head, [ChangeRequest(path, content)], "Work")
        self._kept[path] = data

    def _merge(self) -> None:
        self._shelf.merge(self._branch, "main", summary=f"What {self._name} did")

    def find_again(self) -> None:
        lost = [path for path, data in self._kept.items() if self._shelf.read(path, self._branch) != data]
        with self._seen.lock:
            self._seen.wrong += [f"{self._name}: {path} is not what was committed" for path in lost]


def crowd() -> Iterator[Figure]:
    """All of them on one shelf, one act after the other, then everything that was acknowledged is read."""
    seen = _crowd(0)
    yield _errors(seen, f"errors of ours while {PEOPLE} people work {MINUTES:g} minutes without a pause")


def people() -> Iterator[Figure]:
    """The same with a pause after each act: how long reading takes, and whether the memory stays as it is."""
    seen = _crowd(PAUSE)
    yield _errors(seen, f"errors of ours while {PEOPLE} people work {MINUTES:g} minutes, an act each {PAUSE:g} s")
    reads = sorted(seen.reads)
    middle, late = (1000 * reads[int(share * (len(reads) - 1))] for share in (0.5, 0.99))
    what = "99th percentile of a page of artifacts or of history, ms"
    yield Figure("B0", what, round(late), "100", late <= 100, f"median {middle:.0f} ms of {len(reads)}")
    first, last = seen.memory[len(seen.memory) // 3], seen.memory[-1]
    told = ", ".join(f"{one:.0f}" for one in seen.memory)
    yield Figure("B0", "memory at the end against after a third, ×", last / first, "1.1", last <= 1.1 * first, told)


def _crowd(pause: float) -> _Seen:
    service = Service()
    seen = _Seen()
    clients: list[Client] = []
    try:
        with service.client() as owner:
            shelf = owner.shelf(owner.make_shelf("A crowd").key)
            shelf.commit("main", None, [ChangeRequest("start.txt", shelf.upload(b"start\n").id)], "Begin")
            for number in range(PEOPLE):
                name = f"person{number}"
                owner.add_person(name, name.capitalize(), PASSWORD)
                shelf.set_member(name, "keeper")
        clients = [service.client(f"person{n}") for n in range(PEOPLE)]
        until = time.monotonic() + 60 * MINUTES
        crowd = [_Person(c.shelf(shelf.key), f"person{n}", seen, n, pause) for n, c in enumerate(clients)]
        threads = [threading.Thread(target=person.work, args=(until,)) for person in crowd]
        for thread in threads:
            thread.start()
        while time.monotonic() < until:
            time.sleep(min(60.0, max(0.0, until - time.monotonic())))
            seen.memory.append(memory_of(service))
        for thread in threads:
            thread.join()
        for person in crowd:
            person.find_again()
        if "locked" in service.log():
            seen.wrong.append("the log tells of a locked database")
    finally:
        for client in clients:
            client.close()
        service.stop()
    return seen


def _errors(seen: _Seen, what: str) -> Figure:
    for line in seen.wrong[:20]:
        print("       !", line[:300], flush=True)
    done = ", ".join(f"{count} {what}" for what, count in sorted(seen.acts.items()))
    refused = ", ".join(f"{count} × {what}" for what, count in sorted(seen.refused.items()))
    return Figure("B0", what, len(seen.wrong), "0", not seen.wrong, f"{done}; refused: {refused or 'nothing'}")
