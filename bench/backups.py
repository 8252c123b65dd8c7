"""Backups taken while people commit, each restored and compared with an independent record of what had been acknowledged
before it began; and backups that are killed with -9 at random instants."""

from __future__ import annotations

import contextlib
import hashlib
import json
import os
import random
import shutil
import subprocess
import sys
import tempfile
import threading
import time
from collections.abc import Iterator
from dataclasses import dataclass, field
from pathlib import Path

from tests.support.service import Service

from bench.measure import Figure
from everyshelf.client import ChangeRequest, ClientError

JUDGE = Path(__file__).with_name("judge.py")
_WRITERS = 3
_SIZES = (200, 4_000, 60_000, 700_000)


@dataclass
class Campaign:
    """One installation under load; every ``serve_every``-th restored folder is served, verified and read back."""

    seed: int
    backups: int
    cut_short: int
    serve_every: int = 5
    acknowledged: list[tuple[str, str, str]] = field(default_factory=list)  # commit, path, SHA-256
    problems: list[str] = field(default_factory=list)
    served: int = 0
    added: int = 0

    def run(self) -> Campaign:
        """Everything; ``problems`` is empty if nothing acknowledged was missing and no backup was half there."""
        self._folder = Path(tempfile.mkdtemp(prefix="es-backups-"))
        self._rng = random.Random(self.seed)
        service = Service()
        stop = threading.Event()
        try:
            service.client().make_shelf("Load", key="load")
            writers = [threading.Thread(target=self._write, args=(service, stop, writer)) for writer in range(_WRITERS)]
            for writer in writers:
                writer.start()
            for number in range(self.backups):
                self._wait_for_more(writers)
                self._backed_up(service, number)
            for _ in range(self.cut_short):
                self._killed(service)
            self._backed_up(service, 0)
            stop.set()
            for writer in writers:
                writer.join()
        finally:
            stop.set()
            service.stop()
            shutil.rmtree(self._folder, ignore_errors=True)
        return self

    def _write(self, service: Service, stop: threading.Event, writer: int) -> None:
        shelf, rng, number = service.client().shelf("load"), random.Random(self.seed * 10 + writer), 0
        while not stop.is_set():
            data = rng.randbytes(rng.choice(_SIZES))
            path, number = f"w{writer}/{number % 20}.bin", number + 1
            with contextlib.suppress(ClientError):
                head = shelf.branch("main").head
                made = shelf.commit("main", head, [ChangeRequest(path, shelf.upload(data).id)], "more", merge=True)
                self.acknowledged.append((made.commit, path, hashlib.sha256(data).hexdigest()))

    def _wait_for_more(self, writers: list[threading.Thread]) -> None:
        before = len(self.acknowledged)
        while len(self.acknowledged) < before + 4 and all(writer.is_alive() for writer in writers):
            time.sleep(0.01)

    def _command(self, *words: str) -> subprocess.Popen[str]:
        return subprocess.Popen(
            [sys.executable, "-m", "everyshelf.cli.main", "backup", *words],
            stdout=subprocess.PIPE,
            stderr=subprocess.STDOUT,
            text=True,
            start_new_session=True,
            env={**os.environ, "EVERYSHELF_DATA": ""},
        )

    def _done(self, *words: str) -> str:
        process = self._command(*words)
        said, _ = process.communicate()
        if process.returncode:
            self.problems.append(f"backup {words[0]} ended with {process.returncode}: {said}")
        return said

    def _backed_up(self, service: Service, number: int) -> None:
        before = list(self.acknowledged)
        kept, restored = self._folder / "kept", self._folder / "restored"
        told = self._done("make", str(kept), "--data", str(service.data), "--json")
        if self.problems:
            return
        self.added += json.loads(told)["added"]
        self._done("check", str(kept))
        self._done("restore", "--unsigned", str(kept), "--into", str(restored))
        if not self.problems:
            self._judge(restored, before)
            if number % self.serve_every == 0:
                self._serve(restored, before)
        shutil.rmtree(restored, ignore_errors=True)
        restored.with_name("restored.key").unlink(missing_ok=True)

    def _judge(self, restored: Path, before: list[tuple[str, str, str]]) -> None:
        record = self._folder / "record.json"
        record.write_text(json.dumps({"commits": [commit for commit, _, _ in before], "environments": {}, "tags": {}}))
        judged = subprocess.run(
            [sys.executable, str(JUDGE), str(restored), str(record)], capture_output=True, text=True, check=False
        )
        self.problems += (judged.stdout + judged.stderr).split("\n") if judged.returncode else []

    def _serve(self, restored: Path, before: list[tuple[str, str, str]]) -> None:
        """What a service that was started on it says, and every byte of the last version of each path."""
        self.served += 1
        service = Service(restored)
        try:
            shelf = service.client().shelf("load")
            found = shelf.wait(shelf.verify()).result or {}
            self.problems += found.get("problems", [])
            for commit, path, digest in before[-60:]:
                if hashlib.sha256(shelf.read(path, f"commit:{commit}")).hexdigest() != digest:
                    self.problems.append(f"{path} of {commit[:8]} has other bytes")
        except ClientError as error:
            self.problems.append(f"the restored service: {error}")
        finally:
            service.stop()

    def _killed(self, service: Service) -> None:
        """A backup that is cut short leaves the moments before it whole."""
        kept = self._folder / "kept"
        process = self._command("make", str(kept), "--data", str(service.data))
        time.sleep(self._rng.random() * 1.2)
        with contextlib.suppress(ProcessLookupError):
            os.killpg(process.pid, 9)
        process.communicate()
        self._done("check", str(kept))


def backups() -> Iterator[Figure]:
    """100 backups under load and 100 that are killed, in campaigns of ten."""
    problems: list[str] = []
    acknowledged = served = 0
    for seed in range(10):
        done = Campaign(seed, backups=10, cut_short=10).run()
        problems += done.problems
        acknowledged, served = acknowledged + len(done.acknowledged), served + done.served
        print(f"     … {10 * (seed + 1)} backups, {acknowledged} commits, {len(problems)} problems", flush=True)
        for problem in done.problems[:10]:
            print("       !", problem, flush=True)
    detail = f"{acknowledged} commits acknowledged, {served} restored folders served and verified"
    yield Figure("B100", "problems after 100 backups under load, 100 killed", len(problems), "0", not problems, detail)
