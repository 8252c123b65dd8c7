"""100,000 commits on one shelf: whether calls, and what the service holds, stay as they were.

Of each tenth, a thousand commits are made by four people over HTTP, each on a branch that is then merged; the others
are recorded in one go, as a fetch from Git does it (``BY_PEOPLE``: how many people make, of all). After each tenth the
same calls are asked of that shelf and of a small one, in turn: the machine changes its speed in an hour, and what grows
is what the one takes more than the other. The small one has as many artifacts, and only the commits of these looks.
"""

from __future__ import annotations

import os
import random
import statistics
import threading
import time
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field

import httpx
import psutil
from tests.support.factories import commit_files
from tests.support.service import Service

from bench.measure import Figure
from everyshelf.client import ChangeRequest, Client, ProblemError, ShelfClient

COMMITS = int(os.environ.get("COMMITS", "100000"))
BY_PEOPLE = int(os.environ.get("BY_PEOPLE", "10000"))
WINDOWS = 10
WRITERS = 4
ARTIFACTS = 1_000
LOOKED_AT = "looked/at.json"  # changed by the looks alone
ROUNDS = 25
DESCRIBED = 10  # commits


def memory_of(service: Service) -> float:
    """What all processes of a service take, in MB, shared pages counted once (Linux's proportional set size)."""
    first = psutil.Process(service.process.pid) if service.process is not None else psutil.Process()
    return sum(float(one.memory_full_info().pss) for one in [first, *first.children(recursive=True)]) / 2**20


def _path(number: int) -> str:
    return f"area-{number % 40:02d}/fares-{number:04d}.json"


@dataclass
class _Writer:
    """One person, who changes artifacts that the others leave alone, and merges that after each tenth."""

    shelf: ShelfClient
    number: int
    artifacts: int
    made: list[str] = field(default_factory=list)  # acknowledged, oldest first
    problems: list[str] = field(default_factory=list)

    def work(self, count: int) -> None:
        branch = f"writer-{self.number}"
        try:
            head = str(self.shelf.make_branch(branch).head)
            for _ in range(count):
                head = self._commit(branch, head)
            self._merge(branch)
            self.shelf.delete_branch(branch)
        except Exception as error:
            self.problems.append(f"{branch}: {error!r}")

    def _merge(self, branch: str) -> None:
        while True:
            try:
                self.shelf.merge(branch, "main", summary=f"What {branch} did")
                return
            except ProblemError as error:
                if error.code != "branch.moved":  # by another, who merged at the same moment
                    raise

    def _commit(self, branch: str, head: str) -> str:
        at = (len(self.made) * 7 % (self.artifacts // WRITERS)) * WRITERS + self.number
        data = b'{"writer": %d, "commit": %d}\n' % (self.number, len(self.made))
        change = ChangeRequest(_path(at), self.shelf.upload(data).id)
        made = str(self.shelf.commit(branch, head, [change], f"Commit {len(self.made)}").commit)
        self.made.append(made)
        return made


@dataclass
class Soak:
    """The figures of one run, filled by ``run``."""

    commits: int = COMMITS
    by_people: int = BY_PEOPLE
    artifacts: int = ARTIFACTS
    windows: int = WINDOWS
    rounds: int = ROUNDS
    problems: list[str] = field(default_factory=list)
    memory: list[float] = field(default_factory=list)  # MB, by window
    against_small: list[dict[str, float]] = field(default_factory=list)  # by window, of each call
    milliseconds: list[dict[str, float]] = field(default_factory=list)

    def run(self) -> Soak:
        """Fill the shelf window by window, look at it after each, and read at the end what was acknowledged."""
        service = Service()
        clients = [service.client() for _ in range(WRITERS)]
        try:
            shelf = _new_shelf(clients[0], "soak", self.artifacts)
            writers = [
                _Writer(client.shelf(shelf.key), number, self.artifacts) for number, client in enumerate(clients)
            ]
            for window in range(self.windows):
                self._fill(service, writers, window)
                self._look(service, shelf, window)
            for writer in writers:
                self.problems += writer.problems
            self.problems += _missing(shelf, writers)
            if "locked" in service.log():
                self.problems.append("the log tells of a locked database")
        finally:
            for client in clients:
                client.close()
            service.stop()
        return self

    def _fill(self, service: Service, writers: list[_Writer], window: int) -> None:
        by_people = self.by_people // self.windows
        at_once = self.commits // self.windows - by_people
        service.run_python(f"from bench.filling import *; record_many('soak', {at_once}, {window})")
        threads = [threading.Thread(target=writer.work, args=(by_people // WRITERS,)) for writer in writers]
        for thread in threads:
            thread.start()
        for thread in threads:
            thread.join()

    def _look(self, service: Service, shelf: ShelfClient, window: int) -> None:
        with service.client() as client:
            if not window:
                _new_shelf(client, "small", self.artifacts)
            shelves = {"soak": shelf, "small": client.shelf("small")}
            settle(service)
            taken = _interleaved(shelves, self.rounds)
            for key in [*shelves] * 3:
                settle(service)
                what = f"{DESCRIBED} commits until all is said of them"
                taken[key].setdefault(what, []).append(_timed(lambda key=key: _described(service, shelves[key])))  # type: ignore[misc]
        median = {key: {what: statistics.median(times) for what, times in one.items()} for key, one in taken.items()}
        self.milliseconds.append({what: 1000 * seconds for what, seconds in median["soak"].items()})
        self.against_small.append({what: median["soak"][what] / median["small"][what] for what in median["small"]})
        self.memory.append(memory_of(service))
        told = ", ".join(f"{what} {ratio:.2f}" for what, ratio in self.against_small[-1].items())
        done = (window + 1) * (self.commits // self.windows)
        print(f"     … {done} commits; against a small shelf: {told}; {self.memory[-1]:.0f} MB", flush=True)


def _new_shelf(client: Client, key: str, artifacts: int) -> ShelfClient:
    shelf = client.shelf(client.make_shelf(key, key=key).key)
    files = {_path(number): b'{"number": %d}\n' % number for number in range(artifacts)}
    commit_files(shelf, {**files, LOOKED_AT: b"{}\n"}, "All artifacts")
    return shelf


def _interleaved(shelves: dict[str, ShelfClient], rounds: int) -> dict[str, dict[str, list[float]]]:
    """Seconds of each call of each shelf. A commit comes before the others, as on a shelf where people work."""
    taken: dict[str, dict[str, list[float]]] = {key: {} for key in shelves}
    order = list(shelves)
    for number in range(rounds):
        random.Random(number).shuffle(order)
        for key in order:
            for what, seconds in _timed_calls(shelves[key]):
                if number:  # the first round fills what is kept
                    taken[key].setdefault(what, []).append(seconds)
    return taken


def _timed_calls(shelf: ShelfClient) -> Iterator[tuple[str, float]]:
    begun = shelf.branch("main").head
    yield "commit", _timed(lambda: _commit(shelf))
    yield "history", _timed(lambda: next(iter(shelf.commits("main", 50))))
    yield "folder", _timed(lambda: next(iter(shelf.artifacts(folder="area-03"))))
    yield "artifact", _timed(lambda: shelf.artifact(_path(43)))
    yield "branches", _timed(lambda: list(shelf.branches()))
    yield "compare", _timed(lambda: shelf.compare(f"commit:{begun}", "main"))


def _commit(shelf: ShelfClient) -> None:
    content = shelf.upload(b'{"looked": %d}\n' % time.time_ns()).id
    shelf.commit("main", shelf.branch("main").head, [ChangeRequest(LOOKED_AT, content)], "While looking")


def _described(service: Service, shelf: ShelfClient) -> None:
    for _ in range(DESCRIBED):
        _commit(shelf)
    settle(service)


def _timed(call: Callable[[], object]) -> float:
    begun = time.perf_counter()
    call()
    return time.perf_counter() - begun


def settle(service: Service) -> None:
    """Wait until no job waits or runs."""
    queue = {"waiting": 1, "running": 0}
    while queue["waiting"] or queue["running"]:
        time.sleep(0.1)
        queue = httpx.get(f"{service.address}/healthz", timeout=60).json()["queue"]


def _missing(shelf: ShelfClient, writers: list[_Writer]) -> list[str]:
    """What was acknowledged and is not in the line of the main branch, in the order in which each person made it."""
    of_whom = {commit: writer.number for writer in writers for commit in writer.made}
    there: dict[int, list[str]] = {writer.number: [] for writer in writers}
    for one in shelf.commits("main"):
        if one.commit in of_whom:
            there[of_whom[one.commit]].append(one.commit)
    return [
        f"writer-{writer.number} has {len(there[writer.number])} of {len(writer.made)} commits, or in another order"
        for writer in writers
        if there[writer.number][::-1] != writer.made
    ]


def soak() -> Iterator[Figure]:
    """The growth of each call from a small shelf to one of 100,000 commits, and of the memory."""
    done = Soak().run()
    for line in done.problems[:20]:
        print("       !", line[:300], flush=True)
    what = f"{done.commits:,} commits: acknowledged and missing, problems"
    yield Figure(
        "B0", what, len(done.problems), "0", not done.problems, f"{done.by_people:,} of them by {WRITERS} people"
    )
    for call, ratio in done.against_small[-1].items():
        told = f"{done.milliseconds[-1][call]:.0f} ms; after the first tenth {done.against_small[0][call]:.2f} x"
        yield Figure("B0", f"{call} on it against a small shelf, x", ratio, "<= 1.5", ratio <= 1.5, told)
    first, last = done.memory[len(done.memory) // 3], done.memory[-1]
    told = ", ".join(f"{one:.0f}" for one in done.memory)
    yield Figure("B0", "memory at the end against after a third, x", last / first, "1.1", last <= 1.1 * first, told)
