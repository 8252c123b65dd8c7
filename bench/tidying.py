"""The store tidied over and over while people commit new versions, send what they never commit, and the service is
killed with -9: nothing that was acknowledged may be missing or different, and ``verify`` finds nothing."""

from __future__ import annotations

import contextlib
import hashlib
import random
import sqlite3
import threading
import time
from collections.abc import Iterator
from dataclasses import dataclass, field
from typing import Any

from tests.support.service import Service

from bench.measure import Figure
from everyshelf.client import ChangeRequest, Client, ClientError, Job, ProblemError

_WRITERS = 3
_ROWS = 9000
_KILL_WITHIN_SECONDS = 2.5
_KILLS_OF_ONE = 25  # by one campaign: the longer it is, the more there is to tidy and to read again


@dataclass
class Campaign:
    """One installation under load; ``kills``: how often it is killed. ``undone``: jobs that a kill cut short."""

    seed: int
    kills: int
    acknowledged: list[tuple[str, str, str]] = field(default_factory=list)  # commit, path, SHA-256
    problems: list[str] = field(default_factory=list)
    tidied: int = 0
    deltas: int = 0
    removed: int = 0
    let_go: int = 0
    _abandoned: set[str] = field(default_factory=set)

    def run(self) -> Campaign:
        """Everything; ``problems`` is empty if nothing acknowledged was lost."""
        self._rng = random.Random(self.seed)
        self._service = Service(settings=self.settings())
        try:
            self._service.client().make_shelf("Load", key="load")
            for number in range(self.kills + 1):
                self._round(killed=number < self.kills)
            for _ in range(3):
                self._tidy(self._service.client())
            self.judge()
        finally:
            self._service.stop()
        return self

    def settings(self) -> dict[str, str]:
        """Of the service."""
        return {"EVERYSHELF_WORKERS": "2"}

    def _round(self, *, killed: bool) -> None:
        stop = threading.Event()
        threads = [threading.Thread(target=self._write, args=(stop, writer), daemon=True) for writer in range(_WRITERS)]
        threads.append(threading.Thread(target=self._keep_at_work, args=(stop,), daemon=True))
        for thread in threads:
            thread.start()
        before = len(self.acknowledged)
        while len(self.acknowledged) < before + 6:  # people have begun
            if not any(one.is_alive() for one in threads[:_WRITERS]):
                raise AssertionError("whoever commits ended; see what was printed above")
            time.sleep(0.01)
        self.before_the_end(killed=killed)
        if killed:
            self._service.kill_group()
        stop.set()
        for thread in threads:
            thread.join()
        if killed:
            self._service.start()
        self.after_the_end()

    def before_the_end(self, *, killed: bool) -> None:
        """What happens while people are at work, until they are stopped or the service is killed."""
        time.sleep(self._rng.random() * _KILL_WITHIN_SECONDS)

    def after_the_end(self) -> None:
        """What happens before the next round."""

    def _write(self, stop: threading.Event, writer: int) -> None:
        """New versions of a table of one's own, and now and then something sent and never committed: of another it may
        be committed later, when it is about to be removed."""
        rng = random.Random(f"{self.seed} {writer} {len(self.acknowledged)}")
        client = self._service.client()
        shelf, table, unused = client.shelf("load"), _table(rng), list[bytes]()
        while not stop.is_set():
            try:
                for _ in range(rng.randrange(1, 60)):
                    table[rng.randrange(_ROWS)] = b"%d,%d,%.6f\n" % (rng.randrange(10**6), writer, rng.random())
                data, path = b"".join(table), f"w{writer}/fares.csv"
                if unused and rng.random() < 0.4:
                    data, path = unused.pop(), f"w{writer}/late-{rng.randrange(10**6)}.bin"
                    self._abandoned.discard(hashlib.sha256(data).hexdigest())
                head = shelf.branch("main").head
                made = shelf.commit("main", head, [ChangeRequest(path, _held(shelf, data))], "more", merge=True)
                self.acknowledged.append((made.commit, path, hashlib.sha256(data).hexdigest()))
                if rng.random() < 0.3:
                    unused.append(rng.randbytes(rng.choice((3000, 400_000))))
                    self._abandoned.add(shelf.upload(unused[-1]).id)
            except ClientError as error:
                if isinstance(error, ProblemError) and error.status == 500:
                    self.problems.append(f"a commit of writer {writer} was answered with {error}")
                time.sleep(0.05)  # it was killed, or another was quicker

    def _keep_at_work(self, stop: threading.Event) -> None:
        client = self._service.client()
        while not stop.is_set():
            with contextlib.suppress(ClientError, sqlite3.Error):
                self.work(client)
                self._age()

    def work(self, client: Client) -> None:
        """What is done over and over beside those who commit."""
        self._tidy(client)

    def _tidy(self, client: Client) -> None:
        done = self.done(client, client.tidy_storage())
        if done is None:
            return
        self.tidied += 1
        self.deltas += done["deltas"]
        self.removed += done["removed"]
        self.let_go += done["contents"]

    def done(self, client: Client, job: Job) -> dict[str, Any] | None:
        """The result of a job, or None for one that was cut short; another failure is a problem."""
        try:
            return client.wait(job).result or {}
        except ProblemError as error:
            if not self.may_end(error.code):
                self.problems.append(f"{job.kind} ended with {error}")
            return None

    def may_end(self, code: str) -> bool:
        """Whether a job may end with this."""
        return code in ("content.busy", "job.cancelled")

    def _age(self) -> None:
        """Let the time of grace pass of what was found unused and is not being used: hours in a moment."""
        records = sqlite3.connect(self._service.data / "records.sqlite", timeout=20)
        with contextlib.closing(records), records:
            records.executemany(
                "UPDATE shelves_shelfcontent SET unreached_since = '2026-01-01' "
                "WHERE unreached_since NOT NULL AND content = ?",
                [(identity,) for identity in list(self._abandoned)],
            )

    def judge(self) -> None:
        """Read everything back, and verify."""
        shelf = self._service.client().shelf("load")
        for commit, path, digest in self.acknowledged:
            try:
                found = hashlib.sha256(shelf.read(path, f"commit:{commit}")).hexdigest()
            except ClientError as error:
                self.problems.append(f"{path} of {commit[:8]} cannot be read: {error}")
                continue
            if found != digest:
                self.problems.append(f"{path} of {commit[:8]} is not what was committed")
        told = shelf.wait(shelf.verify()).result or {}
        self.problems += told["problems"]


def _table(rng: random.Random) -> list[bytes]:
    return [b"%d,%d,%.6f\n" % (n, n % 40, rng.random()) for n in range(_ROWS)]


def _held(shelf: object, data: bytes) -> str:
    """The content's id; sent only if the shelf says that it lacks it, as a desk does."""
    identity = hashlib.sha256(data).hexdigest()
    if shelf.missing([identity]):  # type: ignore[attr-defined]
        shelf.upload(data)  # type: ignore[attr-defined]
    return identity


def tidying(kills: int = 200) -> Iterator[Figure]:
    """Nothing acknowledged is lost while the store is tidied and the service killed; each campaign is judged by itself."""
    done: list[Campaign] = []
    for seed in range(23, 23 + kills // _KILLS_OF_ONE):
        done.append(Campaign(seed, _KILLS_OF_ONE).run())
        kept, lost = sum(len(one.acknowledged) for one in done), sum(len(one.problems) for one in done)
        print(f"     … {len(done) * _KILLS_OF_ONE} kills, {kept} commits acknowledged, {lost} problems", flush=True)
        for problem in done[-1].problems[:20]:
            print("       !", problem, flush=True)
    problems = sum(len(one.problems) for one in done)
    told = (
        f"{sum(len(one.acknowledged) for one in done)} commits acknowledged, {sum(one.tidied for one in done)} runs, "
        f"{sum(one.deltas for one in done)} deltas, {sum(one.let_go for one in done)} contents let go of, "
        f"{sum(one.removed for one in done)} pieces removed"
    )
    yield Figure(
        "23", f"problems after {len(done) * _KILLS_OF_ONE} kills while tidying", problems, "0", not problems, told
    )
