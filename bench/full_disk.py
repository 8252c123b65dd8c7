"""The disk is full at random moments, over all sorts of writing calls: what was acknowledged is there, nothing is answered
with an error of ours, and all goes on by itself once there is room.

The data folder lies on a small file system of its own. A file takes the room away and gives it back.
"""

from __future__ import annotations

import os
import random
import shutil
import subprocess
import tempfile
import time
from collections import Counter
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import httpx
from tests.support.service import Service

from bench.measure import Figure

_SIZE_MB = 160
_LEFT_BYTES = (0, 0, 4096, 50_000, 400_000, 3_000_000)


@dataclass
class Outcome:
    """Statuses seen while there was no room, and a line for everything that is not as it must be."""

    moments: int = 0
    statuses: Counter[int] = field(default_factory=Counter)
    wrong: list[str] = field(default_factory=list)


class SmallDisk:
    """A file system of some megabytes, and the file that fills it."""

    def __init__(self) -> None:
        self.folder = Path(tempfile.mkdtemp(prefix="es-small-"))
        done = subprocess.run(
            ["mount", "-t", "tmpfs", "-o", f"size={_SIZE_MB}m", "tmpfs", str(self.folder)], check=False
        )
        self.mounted = done.returncode == 0
        self._filler = self.folder / "filler"

    def fill(self, left: int) -> None:
        with self._filler.open("wb") as file:
            size = shutil.disk_usage(self.folder).free - left
            while size > 0:
                try:
                    os.posix_fallocate(file.fileno(), 0, size)
                except OSError:
                    size -= 16_384  # the service took some of it meanwhile
                else:
                    return

    def free(self) -> None:
        self._filler.unlink(missing_ok=True)

    def close(self) -> None:
        if self.mounted:
            subprocess.run(["umount", str(self.folder)], check=True)
        self.folder.rmdir()


class Calls:
    """Writing calls of every sort, and what of them was acknowledged."""

    def __init__(self, http: httpx.Client, key: str, rng: random.Random) -> None:
        self._http, self._base, self._rng = http, f"/api/v1/shelves/{key}", rng
        self.number = 0
        self.contents: dict[str, bytes] = {}
        self.branches: set[str] = set()
        self.tags: set[str] = set()
        self.committed: dict[str, str] = {}
        self.saved: dict[str, str] = {}
        self.head: str | None = None
        self.refused = ""
        self.last = ""

    def any(self) -> int:
        """Make one call; gives its status."""
        self.number += 1
        acts: list[Callable[[], int]] = [
            self.upload, self.upload, self.commit, self.commit, self.branch, self.tag, self.save, self.sign_in,
            self.promote,
        ]  # fmt: skip
        return self._rng.choice(acts)()

    def _send(self, method: str, path: str, body: Any) -> httpx.Response:
        answer = self._http.request(method, path, json=body)
        self.last = f"{method} {path} {body}: {answer.text[:400]}"
        return answer

    def upload(self) -> int:
        data = self._rng.randbytes(self._rng.choice([100, 5_000, 200_000]))
        answer = self._http.put(f"{self._base}/contents", content=data)
        if answer.status_code == 201:
            self.contents[answer.json()["id"]] = data
        return answer.status_code

    def commit(self) -> int:
        if not self.contents:
            return self.upload()
        path, content = f"f{self.number % 40}.bin", self._rng.choice(sorted(self.contents))
        body = {"branch": "main", "base": self.head, "summary": "x", "changes": [{"path": path, "content": content}]}
        answer = self._send("POST", f"{self._base}/commits", body)
        if answer.status_code == 201:
            self.head, self.committed[path] = answer.json()["commit"], content
        return 200 if answer.status_code == 400 and answer.json()["code"] == "commit.empty" else answer.status_code

    def branch(self) -> int:
        name = f"b{self.number}"
        answer = self._send("POST", f"{self._base}/branches", {"name": name})
        if answer.status_code == 201:
            self.branches.add(name)
        return answer.status_code

    def tag(self) -> int:
        if self.head is None:
            return 200
        name = f"t{self.number}"
        answer = self._send("POST", f"{self._base}/tags", {"name": name})
        if answer.status_code == 201:
            self.tags.add(name)
        return answer.status_code

    def save(self) -> int:
        if not self.contents:
            return 200
        path, content = f"d{self.number}.bin", self._rng.choice(sorted(self.contents))
        answer = self._send(
            "POST", f"{self._base}/drafts", {"branch": "main", "entries": [{"path": path, "content": content}]}
        )
        if answer.status_code == 200:
            self.saved[path] = content
        return answer.status_code

    def promote(self) -> int:
        if not self.tags:
            return 200
        answer = self._send(
            "POST", f"{self._base}/environments/dev/promote", {"tag": self._rng.choice(sorted(self.tags))}
        )
        self.refused = answer.text if answer.status_code == 403 else ""
        return answer.status_code

    def sign_in(self) -> int:
        body = {"name": "owner", "password": "a-password-for-tests"}
        return httpx.post(f"{self._http.base_url}/api/v1/session", json=body, timeout=60, trust_env=False).status_code

    def missing(self) -> list[str]:
        """What was acknowledged and is not there."""
        wrong = []
        for identity, data in self.contents.items():
            answer = self._http.get(f"{self._base}/contents/{identity}")
            if answer.status_code != 200 or answer.content != data:
                wrong.append(f"content {identity[:12]}: {answer.status_code}")
        branches = {b["name"] for b in self._http.get(f"{self._base}/branches?limit=1000").json()["items"]}
        tags = {t["name"] for t in self._http.get(f"{self._base}/tags?limit=1000").json()["items"]}
        wrong += [f"branch {name}" for name in self.branches - branches] + [f"tag {n}" for n in self.tags - tags]
        listed = self._http.get(f"{self._base}/artifacts", params={"limit": 1000}).json()["items"]
        there = {a["path"]: a["content"] for a in listed}
        wrong += [f"artifact {p}" for p, content in self.committed.items() if there.get(p) != content]
        drafts = self._http.get(f"{self._base}/drafts").json()
        pending = {e["path"]: e["content"] for d in drafts for e in d["entries"]}
        wrong += [f"save point of {p}" for p, content in self.saved.items() if pending.get(p) != content]
        return wrong


def campaign(moments: int, seed: int) -> Outcome | None:
    """None where no small file system can be mounted."""

    outcome, rng = Outcome(), random.Random(seed)
    disk = SmallDisk()
    if not disk.mounted:
        disk.close()
        return None
    service = None
    try:
        (disk.folder / "data").mkdir()
        service = Service(disk.folder / "data")
        with service.client() as client:
            key = client.make_shelf("Full").key
            client.shelf(key).make_environment("dev")
        token = service.token()
        http = httpx.Client(
            base_url=service.address, headers={"Authorization": f"Bearer {token}"}, timeout=120, trust_env=False
        )
        calls = Calls(http, key, rng)
        for _ in range(6):
            calls.any()
        for moment in range(moments):
            if moment % 3:
                _wait_for(disk.folder / "data" / "reserve")
            disk.fill(rng.choice(_LEFT_BYTES))
            for _ in range(rng.randrange(2, 7)):
                status = calls.any()
                outcome.statuses[status] += 1
                if status >= 500 and status != 507:
                    outcome.wrong.append(f"moment {outcome.moments}: answered {status}")
            disk.free()
            outcome.moments += 1
            for _ in range(2):
                if (status := calls.any()) not in (200, 201, 202, 409):
                    outcome.wrong.append(
                        f"moment {outcome.moments}: {status} although there is room again, {calls.last[:900]}"
                    )
        outcome.wrong += calls.missing()
        if service.process is None or service.process.poll() is not None:
            outcome.wrong.append("the service ended")
        http.close()
    finally:
        if service is not None:
            service.stop()
        disk.free()
        shutil.rmtree(disk.folder / "data", ignore_errors=True)
        (disk.folder / "data.key").unlink(missing_ok=True)
        disk.close()
    return outcome


def _wait_for(path: Path) -> None:
    """Until the service has made its reserve again."""
    for _ in range(300):
        if path.exists():
            return
        time.sleep(0.1)


def full_disk() -> Iterator[Figure]:
    """300 moments without room."""
    outcome = campaign(int(os.environ.get("MOMENTS", "300")), int(os.environ.get("SEED", "1")))
    what = "wrong after 300 moments without room on the disk"
    if outcome is None:
        yield Figure("A5", what, 0, "0", True, "NOT MEASURED: no small file system can be mounted here")
        return
    for line in outcome.wrong[:40]:
        print("       !", line, flush=True)
    answers = ", ".join(f"{count} × {status}" for status, count in sorted(outcome.statuses.items()))
    yield Figure("A5", what, len(outcome.wrong), "0", not outcome.wrong, f"{outcome.moments} moments; {answers}")
