"""T1 to T3 and T9 as they are met: whole files sent to a service and fetched from it, beside cold processes that do what
their rivals do with the same files; and two large states compared over HTTP."""

from __future__ import annotations

import shutil
import statistics
import subprocess
import sys
import tempfile
import time
from collections import defaultdict
from collections.abc import Callable, Iterator
from pathlib import Path

import numpy as np
from tests.support.service import Service

from bench.figures import INGEST_BYTES, NOISE_BYTES, csv_bytes, fill
from bench.measure import Figure
from bench.soak import settle
from everyshelf.client import ChangeRequest, ShelfClient

ROUNDS, MANY, CHANGED = 3, 100_000, 100
_PACK = """
import os, sys, zstandard
with open(sys.argv[1], "rb") as source, open(sys.argv[2], "wb") as target:
    zstandard.ZstdCompressor(level=1).copy_stream(source, target)
    target.flush()
    os.fsync(target.fileno())
"""
_UNPACK = """
import sys, zstandard
with open(sys.argv[1], "rb") as source, open(sys.argv[2], "wb") as target:
    zstandard.ZstdDecompressor().copy_stream(source, target)
"""
_HASH = """
import hashlib, sys
with open(sys.argv[1], "rb") as source:
    print(hashlib.file_digest(source, "sha256").hexdigest())
"""


def stored_as_run() -> Iterator[Figure]:
    """All of them, through one service."""
    folder = Path(tempfile.mkdtemp(prefix="es-bench-sent-"))
    service = Service()
    try:
        with service.client() as client:
            client.make_shelf("Sent", key="sent")
            yield from _sent_and_fetched(client.shelf("sent"), folder)
        many = fill(service, "many", MANY, one_folder=False)
        settle(service)
        yield from _compared(many)
    finally:
        service.stop()
        shutil.rmtree(folder, ignore_errors=True)


def _sent_and_fetched(shelf: ShelfClient, folder: Path) -> Iterator[Figure]:
    table, noise, packed, back = (folder / name for name in ("t.csv", "noise.bin", "t.zst", "back"))
    table.write_bytes(csv_bytes(INGEST_BYTES))
    noise.write_bytes(np.random.default_rng(3).bytes(NOISE_BYTES))
    times: dict[str, list[float]] = defaultdict(list)
    sent: list[str] = []

    def take(name: str, act: Callable[[], object]) -> None:
        start = time.perf_counter()
        act()
        times[name].append(time.perf_counter() - start)

    for number in range(ROUNDS):
        for path in (table, noise):
            _make_new(path, number)
        take("pack", lambda: _process(_PACK, table, packed))
        take("send", lambda: sent.append(shelf.upload(table).id))
        take("fetch", lambda: shelf.download_content(sent[-1], back))
        take("unpack", lambda: _process(_UNPACK, packed, back))
        take("hash", lambda: _process(_HASH, noise))
        take("send noise", lambda: shelf.upload(noise))
    taken = {name: statistics.median(seconds) for name, seconds in times.items()}
    for name, what, ours, rival in (
        ("T1", "a CSV of 512 MB sent, speed against a process that compresses it (zstd-1)", "send", "pack"),
        ("T2", "256 MB that do not compress sent, against a process that hashes them", "send noise", "hash"),
        ("T3", "the CSV fetched into a file, against a process that decompresses it", "fetch", "unpack"),
    ):
        detail = f"{taken[ours]:.1f} against {taken[rival]:.1f} s, wall clock, over HTTP"
        yield Figure(name, f"as run: {what}", taken[rival] / taken[ours], "told", True, detail)


def _process(code: str, *paths: Path) -> None:
    subprocess.run([sys.executable, "-c", code, *map(str, paths)], check=True, stdout=subprocess.DEVNULL)


def _make_new(path: Path, number: int) -> None:
    """Change some bytes of each chunk, so that none of it is stored already."""
    with path.open("r+b") as file:
        for at in range(0, path.stat().st_size, 8 * 1024):
            file.seek(at)
            file.write(b"%06d" % number)


def _compared(shelf: ShelfClient) -> Iterator[Figure]:
    """T9: 100 changes among 100,000 artifacts; what the comparison of the states says, whose artifacts are compared too."""
    names = [entry.path for entry in shelf.artifacts("main")][:: MANY // CHANGED]
    head = shelf.branch("main").head
    content = shelf.upload(b'{"number": "another"}').id
    made = shelf.commit("main", head, [ChangeRequest(name, content) for name in names], "A hundred changes").commit
    taken = []
    for _ in range(5):
        start = time.perf_counter()
        compared = shelf.compare(f"commit:{head}", f"commit:{made}")
        taken.append((time.perf_counter() - start) * 1000)
        assert len(compared.artifacts) == CHANGED
    detail = f"again: {statistics.median(taken[1:]):.0f} ms; over HTTP, the contents compared, too"
    yield Figure("T9", "as run: 100 changes among 100,000 artifacts compared, ms", taken[0], "told", True, detail)
