"""The crash campaign: the whole process group is killed with -9 from outside, at random instants, while commits and
promotions run; then it starts again, and an independent judge looks at records and environments."""

from __future__ import annotations

import contextlib
import json
import random
import subprocess
import sys
import threading
import time
from dataclasses import dataclass, field
from pathlib import Path

from tests.support.service import Service

from bench.judge import fingerprint
from everyshelf.client import ChangeRequest, Client, ClientError, ShelfClient

JUDGE = Path(__file__).with_name("judge.py")
_FILES = 40


@dataclass
class Campaign:
    """One shelf, two tags, one environment; kills while a writer and a promoter are at work."""

    seed: int
    kills: int
    settings: dict[str, str] = field(default_factory=dict)
    longest_delay: float = 0.6  # seconds from the first promotion of a round to the kill, at most
    acknowledged: list[str] = field(default_factory=list)
    promoted: int = 0
    problems: list[str] = field(default_factory=list)

    def run(self) -> Campaign:
        """Everything; ``problems`` is empty if nothing acknowledged was lost and every environment was whole."""
        rng = random.Random(self.seed)
        service = Service(settings=self.settings)
        try:
            self._prepare(service)
            for kill in range(self.kills):
                self._round(service, rng.random() * self.longest_delay)
                self._judge(service, f"kill {kill + 1}")
            self._verify(service)
        finally:
            service.stop()
        return self

    def _verify(self, service: Service) -> None:
        try:
            result = self.shelf.wait(self.shelf.verify()).result or {}
        except ClientError as error:
            self.problems.append(f"verify failed: {error}\n{(service.data / 'log.txt').read_text()[-3000:]}")
        else:
            self.problems += result.get("problems", [])

    def _prepare(self, service: Service) -> None:
        client = service.client()
        client.make_shelf("crash", key="crash")
        self.shelf = client.shelf("crash")
        self.environment = self.shelf.make_environment("test")
        self.tags: dict[str, dict[str, str]] = {}
        for tag in ("one", "two"):
            files = {f"data/{tag if n % 3 else 'both'}-{n}.txt": f"{tag} {n} ".encode() * 3000 for n in range(_FILES)}
            files |= {"shared.bin": random.Random(5).randbytes(400_000)}
            here = {a.path for a in self.shelf.artifacts()}
            changes = [ChangeRequest(p, self.shelf.upload(d).id) for p, d in files.items()]
            changes += [ChangeRequest(p, None) for p in here - files.keys()]
            made = self.shelf.commit("main", self.shelf.branch("main").head, changes, f"state {tag}")
            self.acknowledged.append(made.commit)
            self.shelf.make_tag(tag)
            self.shelf.wait(self.shelf.promote(tag, "test"))
            found = fingerprint(Path(self.environment.address))
            assert found is not None and len(found) == len(files)
            self.tags[tag] = found

    def _round(self, service: Service, delay: float) -> None:
        stop = threading.Event()
        workers = [
            threading.Thread(target=self._commit_on, args=(service, stop)),
            threading.Thread(target=self._promote_on, args=(service, stop)),
        ]
        for worker in workers:
            worker.start()
        # Only once commits and promotions run is every instant one in which something can be cut short.
        promoted, committed = self.promoted, len(self.acknowledged)
        while all(worker.is_alive() for worker in workers):
            if self.promoted > promoted and len(self.acknowledged) > committed + 1:
                break
            time.sleep(0.01)
        time.sleep(delay)
        service.kill_group()
        stop.set()
        for worker in workers:
            worker.join()
        # Whole before anything could be repaired, and whole after the service took it up again.
        self._judge(service, "before the restart", records=False)
        service.start()

    def _shelf(self, service: Service) -> ShelfClient:
        return Client(service.address, service.token(), timeout_seconds=10).shelf("crash")

    def _commit_on(self, service: Service, stop: threading.Event) -> None:
        shelf, n = self._shelf(service), 0
        with contextlib.suppress(ClientError):
            head = shelf.branch("main").head
            while not stop.is_set():
                n += 1
                content = shelf.upload(f"{time.monotonic_ns()}".encode() * (9000 if n % 4 == 0 else 1)).id
                head = shelf.commit("main", head, [ChangeRequest(f"work/{n % 7}.txt", content)], f"commit {n}").commit
                self.acknowledged.append(head)

    def _promote_on(self, service: Service, stop: threading.Event) -> None:
        shelf, n = self._shelf(service), 0
        with contextlib.suppress(ClientError):
            while not stop.is_set():
                n += 1
                shelf.wait(shelf.promote("two" if n % 2 else "one", "test", overwrite_drift=True))
                self.promoted += 1

    def _judge(self, service: Service, moment: str, *, records: bool = True) -> None:
        record = {
            "commits": self.acknowledged if records else [],
            "environments": {"test": self.environment.address},
            "tags": self.tags,
        }
        path = service.data / "acknowledged.json"
        path.write_text(json.dumps(record))
        done = subprocess.run(
            [sys.executable, str(JUDGE), str(service.data), str(path)], capture_output=True, text=True, check=False
        )
        if done.returncode:
            self.problems += [f"{moment}: {line}" for line in (done.stdout + done.stderr).splitlines()[:5]]
