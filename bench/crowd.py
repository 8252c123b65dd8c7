"""50 people at work for ten minutes: each looks, saves, commits, compares and merges; nobody meets an error of ours."""

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
from everyshelf.client import ChangeRequest, Client, ClientError, ProblemError, ShelfClient

PEOPLE = int(os.environ.get("PEOPLE", "50"))
MINUTES = float(os.environ.get("MINUTES", "10"))


@dataclass
class _Seen:
    """What came back, over all people."""

    acts: Counter[str] = field(default_factory=Counter)
    refused: Counter[str] = field(default_factory=Counter)
    wrong: list[str] = field(default_factory=list)
    lock: threading.Lock = field(default_factory=threading.Lock)


class _Person:
    def __init__(self, shelf: ShelfClient, name: str, seen: _Seen, seed: int) -> None:
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
        self._find_again()

    def _look(self) -> None:
        list(self._shelf.artifacts())

    def _history(self) -> None:
        list(self._shelf.commits("main", 20))

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

    def _find_again(self) -> None:
        lost = [path for path, data in self._kept.items() if self._shelf.read(path, self._branch) != data]
        with self._seen.lock:
            self._seen.wrong += [f"{self._name}: {path} is not what was committed" for path in lost]


def crowd() -> Iterator[Figure]:
    """All of them on one shelf, then everything that was acknowledged is read."""
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
        people = [_Person(c.shelf(shelf.key), f"person{n}", seen, n) for n, c in enumerate(clients)]
        threads = [threading.Thread(target=person.work, args=(until,)) for person in people]
        for thread in threads:
            thread.start()
        for thread in threads:
            thread.join()
        if "locked" in service.log():
            seen.wrong.append("the log tells of a locked database")
    finally:
        for client in clients:
            client.close()
        service.stop()
    for line in seen.wrong[:20]:
        print("       !", line[:300], flush=True)
    done = ", ".join(f"{count} {what}" for what, count in sorted(seen.acts.items()))
    refused = ", ".join(f"{count} × {what}" for what, count in sorted(seen.refused.items()))
    what = f"errors of ours while {PEOPLE} people work {MINUTES:g} minutes"
    yield Figure("B0", what, len(seen.wrong), "0", not seen.wrong, f"{done}; refused: {refused or 'nothing'}")
