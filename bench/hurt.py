"""Forty pushes, queries, uploads and requests that are made to hurt, one after the other: how much memory the service takes,
how long other people wait meanwhile, and what it still holds a minute later."""

from __future__ import annotations

import contextlib
import multiprocessing
import os
import queue
import threading
import time
from collections.abc import Callable, Iterator
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, field
from functools import partial
from operator import attrgetter
from pathlib import Path

import httpx
from tests.core.test_hostile_files import CASES
from tests.support.factories import commit_files
from tests.support.packs import commit, deep, delta_bomb, object_id, push_body, tree, tree_bomb, whole
from tests.support.service import PASSWORD, Service

from bench.measure import Figure
from everyshelf.client import Client, ProblemError, ShelfClient, UnreachableError

_MB = 1024 * 1024
_MOST_MB = 500.0
_MOST_SLOWER = 3.0
_SECONDS = 60.0  # how long one act may go on before the next begins, and how long memory may take to come back
_LOOK_SECONDS = 0.25
_FREED_MB = 100.0
_LEAST_WAITS = 200  # of the other person, for a percentile: those while it lasts, and right after

FILES = [
    "bomb.xlsx",
    "laughs.xlsx",
    "wide.ods",
    "tall.ods",
    "deep.docx",
    "nest.zip",
    "many.zip",
    "claims.png",
    "bomb.png",
    "deep.onnx",
    "bomb.pkl",
    "deep.pkl",
    "marks.pkl",
    "aliases.yaml",
    "deep.json",
    "laughs.xml",
    "bomb.csv.gz",
    "columns.csv",
    "same.json",
    "bomb.zip",
]

QUERIES = {
    "every row with every row": "SELECT count(*) FROM range(1000000) a, range(1000000) b",
    "a list of a hundred million": "SELECT list(range) FROM range(100000000)",
    "a text of a gigabyte": "SELECT repeat('x', 1000000000)",
    "a text for each row": "SELECT repeat('x', 1000000) FROM range(100000)",
    "sorting a thousand million": "SELECT range FROM range(1000000000) ORDER BY hash(range)",
    "groups without end": "SELECT range, count(*) FROM range(1000000000) GROUP BY range",
    "a table that calls itself": "WITH RECURSIVE t(n) AS (SELECT 1 UNION ALL SELECT n + 1 FROM t) SELECT max(n) FROM t",
    "windows over all": "SELECT max(s) FROM (SELECT sum(range) OVER (ORDER BY hash(range)) s FROM range(300000000))",
    "five thousand conditions": "SELECT 1 WHERE " + " OR ".join(["true"] * 5_000),
    "brackets": "SELECT " + "(" * 5_000 + "1" + ")" * 5_000,
}


@dataclass
class Act:
    """What one act came to. ``most``: MB above idle at its worst; ``left``: MB above idle a minute later at the latest;
    ``slower``: how many times as long the slowest hundredth of another person's requests took."""

    name: str
    most: float = 0.0
    left: float = 0.0
    slower: float = 0.0
    answer: str = ""


class _OtherPerson:
    """Reads a shelf all the time, in a process of its own: what this one sends must not hold them up."""

    def __init__(self, address: str, token: str, shelf: str) -> None:
        context = multiprocessing.get_context("spawn")
        self._waits: multiprocessing.Queue[float] = context.Queue()
        self._process = context.Process(target=_read, args=(address, token, shelf, self._waits), daemon=True)

    def __enter__(self) -> _OtherPerson:
        self._process.start()
        return self

    def __exit__(self, *_: object) -> None:
        self._process.kill()
        self._process.join()

    def take(self, least: int = 0, seconds: float = 0.0) -> list[float]:
        """Seconds of each request since the last call; waits up to ``seconds`` for as many as ``least``."""
        taken: list[float] = []
        end = time.monotonic() + seconds
        while True:
            with contextlib.suppress(queue.Empty):
                while True:
                    taken.append(self._waits.get_nowait())
            if len(taken) >= least or time.monotonic() > end:
                return taken
            time.sleep(0.2)


def _read(address: str, token: str, key: str, waits: multiprocessing.Queue[float]) -> None:
    shelf = Client(address, token).shelf(key)
    while True:
        for ask in (lambda: list(shelf.commits(limit=20)), lambda: shelf.outline("1.csv")):
            start = time.monotonic()
            with contextlib.suppress(ProblemError, UnreachableError):
                ask()
            waits.put(time.monotonic() - start)
        time.sleep(0.05)


@dataclass
class Hurt:
    """A service, a shelf, a stranger's acts, and another person who reads a shelf of their own all the time."""

    acts: list[Act] = field(default_factory=list)

    def run(self, only: str = "") -> Hurt:
        """All acts, or those with a word in their name."""
        self._service = Service()
        try:
            with self._service.client() as client:
                self._set_up(client)
                token = self._service.token()
                with _OtherPerson(self._service.address, token, self._other.info().key) as self._person:
                    time.sleep(20)
                    self._person.take()
                    usual, idle = min(self._slowest_alone() for _ in range(3)), self._held()
                    print(f"     … usually {usual * 1000:.0f} ms", flush=True)
                    for name, act in self._all(client).items():
                        if only in name:
                            self.acts.append(self._judged(name, act, usual, idle))
                            print(f"     … {self.acts[-1]}", flush=True)
        finally:
            self._service.stop()
        return self

    def _set_up(self, client: Client) -> None:
        client.add_person("mallory", "Mallory", PASSWORD)
        self._shelf = self._service.client("mallory").shelf(self._service.client("mallory").make_shelf("Hurt").key)
        self._other = client.shelf(client.make_shelf("Other").key)
        for n in range(30):
            commit_files(self._other, {f"{n % 7}.csv": f"id,fare\n1,{n}\n".encode()}, f"Change {n}")
        table = b"id,fare\n" + b"".join(b"%d,%d\n" % (n, n % 7) for n in range(1000))
        commit_files(self._shelf, {"fares.csv": table}, "First")

    # --- the acts -----------------------------------------------------------------------------

    def _all(self, client: Client) -> dict[str, Callable[[], str]]:
        acts: dict[str, Callable[[], str]] = {f"file {name}": partial(self._file, name) for name in FILES}
        acts |= {f"query: {name}": partial(self._query, sql) for name, sql in QUERIES.items()}
        acts |= {
            "push: a delta that makes gigabytes": lambda: self._push(delta_bomb()),
            "push: trees for ten thousand million files": lambda: self._objects(tree_bomb(10, 10)),
            "push: folders 3,000 deep": lambda: self._objects(deep(3000)),
            "push: a message of 50 MB": lambda: self._objects(_message(50 * _MB)),
            "push: a file of 600 MB": lambda: self._objects(_large(600 * _MB)),
            "request: a commit of 60 MB of JSON": self._large_commit,
            "request: twenty uploads of 40 MB at once": self._uploads,
            "request: all of it as a zip, twenty times at once": lambda: self._at_once(f"{self._base}/zip", 20),
            "request: 5,000 ranges of a file": self._ranges,
            "request: a hundred comparisons at once": lambda: self._at_once(f"{self._base}/compare?from=main", 100),
        }
        return acts

    @property
    def _base(self) -> str:
        return f"/api/v1/shelves/{self._shelf.info().key}"

    def _file(self, name: str) -> str:
        data = CASES[name]
        for version in (data, data + b"\n"):
            commit_files(self._shelf, {name: version}, name)
        asked: list[Callable[[ShelfClient], object]] = [
            lambda s: s.outline(name),
            lambda s: s.compare_artifact(name, "version:1", "version:2"),
            lambda s: s.rows(name),
            lambda s: s.drawing(name),
            lambda s: s.unfolded(name),
        ]
        return ", ".join(_answered(partial(ask, self._shelf)) for ask in asked)

    def _query(self, sql: str) -> str:
        """Ask, wait for the job if there is one, and cancel it when the time of the act is over."""
        end, address = time.monotonic() + _SECONDS * 0.9, f"{self._service.address}{self._base}/query"
        answer = httpx.get(address, params={"sql": sql}, headers=self._headers(), timeout=_SECONDS).json()
        uid = answer.get("job")
        if uid is None:
            return str(answer.get("code", "answered"))
        client = self._service.client("mallory")
        while not (job := client.job(uid)).ended:
            if time.monotonic() > end:
                return f"a job, {client.cancel(uid).state}"
            time.sleep(0.5)
        return f"a job, {job.state}: {(job.problem or {}).get('detail', '')}"

    def _objects(self, objects: list[tuple[str, bytes]]) -> str:
        return self._push(whole(objects), object_id(*objects[-1]))

    def _push(self, pack: bytes, tip: str = "1" * 40) -> str:
        answer = httpx.post(
            f"{self._service.address}/git/{self._shelf.info().key}.git/git-receive-pack",
            content=push_body("refs/heads/hurt", "0" * 40, tip, pack),
            headers={"Content-Type": "application/x-git-receive-pack-request"},
            auth=("mallory", self._service.token("mallory")),
            timeout=_SECONDS,
        )
        return f"{answer.status_code} {answer.text[-60:]!r}"

    def _headers(self) -> dict[str, str]:
        return {"Authorization": f"Bearer {self._service.token('mallory')}"}

    def _large_commit(self) -> str:
        change = {"path": "x" * 200, "content": "0" * 64}
        answer = httpx.post(
            f"{self._service.address}{self._base}/commits",
            json={"branch": "main", "base": None, "summary": "s", "changes": [change] * 200_000},
            headers=self._headers(),
            timeout=_SECONDS,
        )
        return f"{answer.status_code} {answer.text[:60]!r}"

    def _uploads(self) -> str:
        with ThreadPoolExecutor(20) as pool:
            done = list(pool.map(lambda n: _answered(lambda: self._shelf.upload(bytes([n]) * 40 * _MB)), range(20)))
        return f"{done.count('answered')} taken"

    def _at_once(self, address: str, times: int) -> str:
        def ask(_: int) -> int:
            with httpx.stream(
                "GET", f"{self._service.address}{address}", headers=self._headers(), timeout=_SECONDS
            ) as answer:
                for _piece in answer.iter_raw():
                    pass
                return answer.status_code

        with ThreadPoolExecutor(times) as pool:
            found = list(pool.map(ask, range(times)))
        return ", ".join(f"{found.count(code)} x {code}" for code in sorted(set(found)))

    def _ranges(self) -> str:
        asked = "bytes=" + ",".join(f"{n}-{n + 1}" for n in range(5000))
        address = f"{self._service.address}{self._base}/artifact/file?path=fares.csv"
        return str(httpx.get(address, headers={**self._headers(), "Range": asked}).status_code)

    def _slowest_alone(self) -> float:
        time.sleep(15)
        return _slowest(self._person.take())

    # --- the judge ----------------------------------------------------------------------------

    def _judged(self, name: str, act: Callable[[], str], usual: float, idle: float) -> Act:
        found = Act(name)
        self._person.take()
        said: list[str] = []
        running = threading.Thread(target=lambda: said.append(_by_another(act)), daemon=True)
        running.start()
        end = time.monotonic() + _SECONDS
        while running.is_alive() and time.monotonic() < end:
            found.most = max(found.most, self._held() - idle)
            time.sleep(_LOOK_SECONDS)
        found.slower = _slowest(self._person.take(_LEAST_WAITS, 30)) / usual
        found.answer = said[0][:160] if said else "still at work"
        end = time.monotonic() + _SECONDS
        while (left := self._held() - idle) > _FREED_MB and time.monotonic() < end:
            found.most = max(found.most, left)
            time.sleep(1)
        found.left = left
        return found

    def _held(self) -> float:
        """MB of memory of all processes of the service, what they share counted once (proc(5), Pss)."""
        assert self._service.process is not None
        return sum(_pss(pid) for pid in _family(self._service.process.pid)) / 1024


def _by_another(act: Callable[[], str]) -> str:
    """What an act comes to. Who makes it works elsewhere: what sending takes of this machine is not to slow others
    down, so this thread, and each that it starts, gives way (setpriority(2))."""
    os.setpriority(os.PRIO_PROCESS, threading.get_native_id(), 19)
    return _answered(act, said_too=True)


def _answered(ask: Callable[[], object], *, said_too: bool = False) -> str:
    try:
        found = ask()
    except ProblemError as error:
        return error.code
    except (UnreachableError, httpx.HTTPError) as error:
        return type(error).__name__
    return str(found) if said_too else "answered"


def _slowest(waits: list[float]) -> float:
    """The 99th percentile; without a wait, that of one that does not end."""
    ordered = sorted(waits)
    return ordered[int(len(ordered) * 0.99)] if ordered else _SECONDS


def _family(pid: int) -> Iterator[int]:
    yield pid
    for task in Path(f"/proc/{pid}/task").glob("*/children"):
        with contextlib.suppress(OSError):
            for child in task.read_text().split():
                yield from _family(int(child))


def _pss(pid: int) -> int:
    with contextlib.suppress(OSError, ValueError):
        for line in Path(f"/proc/{pid}/smaps_rollup").read_text().splitlines():
            if line.startswith("Pss:"):
                return int(line.split()[1])
    return 0


def _message(size: int) -> list[tuple[str, bytes]]:
    *below, _ = deep(1)
    return [*below, ("commit", commit(object_id(*below[-1]), "x" * size))]


def _large(size: int) -> list[tuple[str, bytes]]:
    blob = ("blob", bytes(size))
    folder = ("tree", tree([("100644", "zeros.bin", object_id(*blob))]))
    return [blob, folder, ("commit", commit(object_id(*folder)))]


def hurt(only: str = "") -> Iterator[Figure]:
    """Memory, others' waiting, and what is left, over all acts."""
    acts = Hurt().run(only).acts
    for what, name, most in (
        ("MB above idle at most", "most", _MOST_MB),
        ("others' 99th percentile, times as long as without", "slower", _MOST_SLOWER),
        ("MB above idle a minute later", "left", _FREED_MB),
    ):
        worst = max(acts, key=attrgetter(name))
        value = getattr(worst, name)
        yield Figure(
            "hurt", f"{what}, {len(acts)} acts made to hurt", value, f"<= {most:.0f}", value <= most, worst.name
        )
