"""T1, T2, T7, T8, T21 and the memory of a large upload; see docs/performance.md for what they mean."""

from __future__ import annotations

import hashlib
import os
import shutil
import subprocess
import sys
import tempfile
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import numpy as np
import zstandard
from tests.support.service import PASSWORD, Service

from bench.measure import Figure, interleave
from everyshelf.client import ChangeRequest, ShelfClient
from everyshelf.core.content.store import ContentStore

INGEST_BYTES = 512 * 1024 * 1024
NOISE_BYTES = 256 * 1024 * 1024
UPLOAD_BYTES = 1024 * 1024 * 1024
MANY = 100_000


def csv_bytes(size: int) -> bytes:
    """A table of sailings of about ``size`` bytes, from a fixed seed."""
    rng = np.random.default_rng(1)
    rows = 200_000
    ids, delay, fare, place = (
        rng.integers(0, 10**6, rows),
        rng.random(rows) * 40,
        rng.random(rows) * 90,
        rng.integers(0, 50, rows),
    )
    block = "".join(
        f"{n},{ids[n]},2026-03-{place[n] % 28 + 1:02d}T{place[n] % 24:02d}:10,{delay[n]:.2f},{fare[n]:.2f},harbour-{place[n]}\n"
        for n in range(rows)
    ).encode()
    pieces, total, k = [], 0, 0
    while total < size:
        pieces.append(block.replace(b"harbour", b"pier%03d" % k))
        total, k = total + len(pieces[-1]), k + 1
    return b"".join(pieces)[:size]


def ingest() -> Iterator[Figure]:
    """T1: cut, hash, compress, append, fsync against one zstd stream over the same bytes."""
    data = csv_bytes(INGEST_BYTES)

    def rival() -> None:
        zstandard.ZstdCompressor(level=1).compress(data)

    def limit() -> None:
        """What no store with SHA-256 ids and zstd-1 chunks can beat on two cores: the two alone, side by side."""
        with ThreadPoolExecutor(2) as pool:
            hashed = pool.submit(lambda: hashlib.sha256(data).digest())
            packed = pool.submit(rival)
            hashed.result(), packed.result()

    taken = interleave({"ours": lambda: _stored(data), "zstd": rival, "limit": limit})
    ratio = taken["zstd"] / taken["ours"]
    speed = f"{len(data) / taken['ours'] / 1e6:.0f} against {len(data) / taken['zstd'] / 1e6:.0f} MB/s"
    yield Figure(
        "T1", "ingest of a 512 MB CSV, speed against single-stream zstd-1", ratio, ">= 1.0", ratio >= 1.0, speed
    )
    within = taken["limit"] / taken["ours"]
    detail = f"SHA-256 beside zstd-1 and nothing else: {taken['zstd'] / taken['limit']:.2f} x zstd-1 alone"
    yield Figure("T1", "the same against hashing and compressing alone", within, ">= 0.70", within >= 0.70, detail)


def ingest_of_noise() -> Iterator[Figure]:
    """T2: bytes that nothing compresses, cut, hashed, tried, appended and synced, against hashing them alone."""
    data = np.random.default_rng(2).bytes(NOISE_BYTES)

    def rival() -> None:
        hashlib.sha256(data).digest()

    taken = interleave({"ours": lambda: _stored(data), "sha256": rival})
    ratio = taken["sha256"] / taken["ours"]
    speeds = f"{len(data) / taken['ours'] / 1e6:.0f} against {len(data) / taken['sha256'] / 1e6:.0f} MB/s"
    what = "ingest of 256 MB that do not compress, speed against SHA-256"
    yield Figure("T2", what, ratio, ">= 0.3", ratio >= 0.3, speeds)


def _stored(data: bytes) -> None:
    """Store one content in a new store, and drop the store."""
    view, folder = memoryview(data), Path(tempfile.mkdtemp(prefix="es-bench-"))
    store = ContentStore(folder)
    store.put_stream(view[i : i + (1 << 20)] for i in range(0, len(view), 1 << 20))  # type: ignore[misc]
    store.sync()
    store.close()
    shutil.rmtree(folder)


def fill(service: Service, key: str, count: int, *, one_folder: bool) -> ShelfClient:
    """A new shelf of ``count`` small artifacts with fifty contents, in 317 folders or all in one."""
    client = service.client()
    client.make_shelf(key, key=key)
    shelf = client.shelf(key)
    contents = [shelf.upload(b'{"number": %d}' % n).id for n in range(50)]
    head = None
    for start in range(0, count, 50_000):
        changes = [
            ChangeRequest(
                f"artifact-{n:06d}.json" if one_folder else f"area-{n % 317:03d}/artifact-{n:06d}.json",
                contents[n % 50],
            )
            for n in range(start, min(count, start + 50_000))
        ]
        head = shelf.commit("main", head, changes, f"{len(changes)} artifacts").commit
    return shelf


class _Committer:
    def __init__(self, shelf: ShelfClient, path: str) -> None:
        self.shelf, self.path, self.made = shelf, path, 0
        self.head = shelf.branch("main").head

    def prepare(self) -> None:
        self.made += 1
        self.content = self.shelf.upload(b'{"changed": %d}' % self.made).id

    def __call__(self) -> None:
        self.head = self.shelf.commit("main", self.head, [ChangeRequest(self.path, self.content)], "one change").commit


def commits_and_branches(service: Service) -> Iterator[Figure]:
    """T7 and T8: one change, or one branch, in a shelf of 100,000 artifacts against the same in one of 100."""
    few = fill(service, "few", 100, one_folder=False)
    many = fill(service, "many", MANY, one_folder=False)
    wide = fill(service, "wide", MANY, one_folder=True)
    committers = {
        "few": _Committer(few, "area-042/artifact-000042.json"),
        "many": _Committer(many, "area-042/artifact-000042.json"),
        "wide": _Committer(wide, "artifact-000042.json"),
    }
    times: dict[str, list[float]] = {name: [] for name in committers}
    for _ in range(15):
        for committer in committers.values():
            committer.prepare()
        for name, seconds in interleave({n: c.__call__ for n, c in committers.items()}, rounds=1).items():
            times[name].append(seconds)
    median = {name: sorted(taken)[len(taken) // 2] for name, taken in times.items()}
    for name, what in (("many", "in folders"), ("wide", "all in one folder")):
        ratio = median[name] / median["few"]
        detail = f"{median[name] * 1000:.0f} against {median['few'] * 1000:.0f} ms over HTTP"
        yield Figure(
            "T7", f"commit of one change among 100,000 {what}, against 100", ratio, "<= 2.0", ratio <= 2.0, detail
        )
    yield from _branches(few, many)


def _branches(few: ShelfClient, many: ShelfClient) -> Iterator[Figure]:
    made = iter(range(10_000))

    def branch(shelf: ShelfClient) -> None:
        for _ in range(10):
            shelf.delete_branch(shelf.make_branch(f"try/{next(made)}").name)

    taken = interleave({"few": lambda: branch(few), "many": lambda: branch(many)}, rounds=9)
    ratio = taken["many"] / taken["few"]
    detail = f"{taken['many'] * 100:.1f} against {taken['few'] * 100:.1f} ms for making and dropping one"
    yield Figure("T8", "branch of a shelf of 100,000 against one of 100", ratio, "<= 1.2", ratio <= 1.2, detail)


def command_line(service: Service) -> Iterator[Figure]:
    """T21: the start of the command line, and states of a desk of 1,000 unchanged artifacts; medians in ms."""
    home = Path(tempfile.mkdtemp(prefix="es-bench-"))
    environment = {**os.environ, "EVERYSHELF_CONFIG": str(home), "EVERYSHELF_PASSWORD": PASSWORD}
    command = [str(Path(sys.executable).parent / "everyshelf")]

    def run(*arguments: str, cwd: Path = home) -> None:
        subprocess.run([*command, *arguments], cwd=cwd, env=environment, check=True, capture_output=True)

    client = service.client()
    client.make_shelf("thousand", key="thousand")
    shelf = client.shelf("thousand")
    contents = [shelf.upload(b'{"number": %d}' % n).id for n in range(50)]
    shelf.commit(
        "main", None, [ChangeRequest(f"a/artifact-{n:04d}.json", contents[n % 50]) for n in range(1000)], "all"
    )
    run("connect", service.address, "--name", "owner")
    run("take", "thousand", "desk")
    for file in (home / "desk").rglob("*.json"):
        os.utime(file, (1_700_000_000, 1_700_000_000))  # long settled, as on any other day
    run("pending", cwd=home / "desk")
    taken = interleave({"help": lambda: run("--help"), "pending": lambda: run("pending", cwd=home / "desk")}, rounds=11)
    for name, what, limit in (
        ("help", "everyshelf --help", 150),
        ("pending", "everyshelf pending, 1,000 unchanged artifacts", 400),
    ):
        value = taken[name] * 1000
        yield Figure("T21", f"{what}, ms", value, f"<= {limit} ms", value <= limit, "")
    shutil.rmtree(home)


def upload_memory(service: Service) -> Iterator[Figure]:
    """Peak memory of the web process while 1 GB is sent to it."""
    service.client().make_shelf("memory", key="memory")
    shelf = service.client().shelf("memory")
    block = csv_bytes(16 * 1024 * 1024)

    def pieces() -> Iterator[bytes]:
        for n in range(UPLOAD_BYTES // len(block)):
            yield block.replace(b"harbour", b"pier%03d" % n)[: len(block)]

    shelf.upload(pieces())
    peak = max(_peak_mb(pid) for pid in _web_processes(service))
    yield Figure("mem", "peak memory of the service during a 1 GB upload, MB", peak, "< 200 MB", peak < 200, "")


def _web_processes(service: Service) -> list[int]:
    assert service.process is not None
    group, found = service.process.pid, []
    for entry in Path("/proc").iterdir():
        ours = entry.name.isdigit() and os.getpgid(int(entry.name)) == group
        if ours and b".worker" not in (entry / "cmdline").read_bytes():
            found.append(int(entry.name))
    return found


def _peak_mb(pid: int) -> float:
    status = Path(f"/proc/{pid}/status").read_text()
    return next(int(line.split()[1]) / 1000 for line in status.splitlines() if line.startswith("VmHWM"))
