"""T3, T6, T9 and the number of segments: what the content store costs."""

from __future__ import annotations

import hashlib
import os
import random
import shutil
import statistics
import tempfile
import time
from collections.abc import Callable, Iterator
from pathlib import Path

import zstandard

from bench.figures import csv_bytes
from bench.measure import Figure, interleave
from everyshelf.core.content.ids import content_id
from everyshelf.core.content.records import WHOLE, Record
from everyshelf.core.content.store import ContentStore
from everyshelf.core.history.trees import Entry, Trees

RESTORED_BYTES = 256 * 1024 * 1024
SEGMENTS = 10_000
SMALL = 20_000
WIDE = 100_000


def storage() -> Iterator[Figure]:
    """All of them."""
    yield from restore()
    yield from small_contents()
    yield from many_segments()
    yield from wide_folder()


def restore() -> Iterator[Figure]:
    """T3: verified content back out of a freshly opened store, against zstd-1 decompression of the same bytes."""
    folder = Path(tempfile.mkdtemp(prefix="es-bench-"))
    data = csv_bytes(RESTORED_BYTES)
    with_chunks = ContentStore(folder)
    info = with_chunks.put_stream(data[i : i + (1 << 20)] for i in range(0, len(data), 1 << 20))
    with_chunks.close()
    packed = zstandard.ZstdCompressor(level=1).compress(data)

    def ours() -> None:
        store = ContentStore(folder)
        size = sum(len(piece) for piece in store.iter_range(info.id))
        assert size == len(data)
        store.close()

    def rival() -> None:
        assert len(zstandard.ZstdDecompressor().decompress(packed)) == len(data)

    taken = interleave({"ours": ours, "zstd": rival}, rounds=7)
    shutil.rmtree(folder)
    ratio = taken["zstd"] / taken["ours"]
    speeds = f"{len(data) / taken['ours'] / 1e6:.0f} against {len(data) / taken['zstd'] / 1e6:.0f} MB/s"
    yield Figure("T3", "verified restore of 256 MB, speed against zstd-1", ratio, ">= 0.8", ratio >= 0.8, speeds)


def small_contents() -> Iterator[Figure]:
    """T6: 20,000 small contents stored and synced, against a file for each; both are on the disk at the end."""
    rng = random.Random(6)
    contents = [(b'{"sailing": %d, ' % n) + rng.randbytes(2_000).hex().encode()[:4_070] for n in range(SMALL)]

    def ours(folder: Path) -> None:
        store = ContentStore(folder)
        for data in contents:
            store.put(data)
        store.sync()
        store.close()

    def rival(folder: Path, *, each: bool) -> None:
        for part in range(256):
            (folder / f"{part:02x}").mkdir()
        for number, data in enumerate(contents):
            with (folder / f"{number % 256:02x}" / f"{number}").open("wb") as file:
                file.write(data)
                if each:
                    file.flush()
                    os.fsync(file.fileno())
        os.sync()

    cases: dict[str, Callable[[Path], None]] = {
        "ours": ours,
        "files": lambda folder: rival(folder, each=False),
        "synced": lambda folder: rival(folder, each=True),
    }
    times: dict[str, list[float]] = {name: [] for name in cases}
    for _ in range(5):
        for name in random.sample(list(cases), len(cases)):
            with tempfile.TemporaryDirectory(prefix="es-bench-") as folder:
                os.sync()
                start = time.perf_counter()
                cases[name](Path(folder))
                times[name].append(time.perf_counter() - start)
    taken = {name: statistics.median(seconds) for name, seconds in times.items()}
    for name, what, target in (
        ("synced", "a file for each, each synced before the next, as one that is acknowledged has to be", 5.0),
        ("files", "a file for each, all synced at once at the end", None),
    ):
        ratio = taken[name] / taken["ours"]
        seconds = f"{taken[name]:.2f} against {taken['ours']:.2f} s; {what}"
        told = "told" if target is None else f">= {target}"
        holds = target is None or ratio >= target
        yield Figure("T6", f"{SMALL:,} contents of 4 KB stored, speed against files", ratio, told, holds, seconds)


def many_segments() -> Iterator[Figure]:
    """A look for an id among 10,000 sealed segments, and the files that stay open after a read from each."""
    folder = Path(tempfile.mkdtemp(prefix="es-bench-"))
    store = ContentStore(folder)
    ids = []
    for number in range(SEGMENTS):
        for part in range(4):
            identity = bytes.fromhex(content_id(b"%d/%d" % (number, part)))
            store.segments.append(Record(identity, WHOLE, 0, 4, b"what"))
            ids.append(identity)
        store.segments.close()
    store.close()
    start = time.perf_counter()
    store = ContentStore(folder)
    opening = time.perf_counter() - start
    absent = [bytes.fromhex(content_id(b"absent %d" % n)) for n in range(2_000)]
    looks = []
    for identity in ids[::20] + absent:
        start = time.perf_counter()
        store.segments.find(identity)
        looks.append(time.perf_counter() - start)
    for identity in ids[:: 4 * 7]:
        where = store.segments.find(identity)
        assert where is not None
        store.segments.read(where)
    files = len(os.listdir("/proc/self/fd"))
    shutil.rmtree(folder)
    micro = statistics.median(looks) * 1e6
    detail = f"99th percentile {sorted(looks)[-len(looks) // 100] * 1e6:.0f}; opening the store {opening:.1f} s"
    yield Figure("seg", "look for an id in 10,000 segments, µs", micro, "<= 50", micro <= 50, detail)
    yield Figure("seg", "open files after reading from 1,400 segments", files, "<= 64", files <= 64, "of the process")


def wide_folder() -> Iterator[Figure]:
    """T9: 100 changes among 100,000 entries of one folder, compared with nothing read before."""
    folder = Path(tempfile.mkdtemp(prefix="es-bench-"))
    store = ContentStore(folder)
    trees = Trees(store)
    entry = {n: content_id(b"%d" % n) for n in range(WIDE)}
    names = [f"artifact-{n:06d}.json" for n in range(WIDE)]
    before = trees.apply(trees.empty, {name: Entry(name, "artifact", entry[n], 20) for n, name in enumerate(names)})
    changed: dict[str, Entry | None] = {
        names[n]: Entry(names[n], "artifact", entry[n - 1], 20) for n in range(500, WIDE, WIDE // 100)
    }
    after = trees.apply(before, changed)
    store.close()
    times: list[float] = []
    again: list[float] = []
    hashing: list[float] = []
    blocks = 0
    for _ in range(9):
        reading = _Noting(folder)
        trees = Trees(reading)
        for spent in (times, again):
            start = time.process_time()
            assert len(list(trees.changes(before, after))) == len(changed)
            spent.append(time.process_time() - start)
        start, blocks = time.process_time(), len(reading.contents)
        for content in reading.contents:
            hashlib.sha256(content).digest()
        hashing.append(time.process_time() - start)
    shutil.rmtree(folder)
    ms = statistics.median(times) * 1000
    detail = f"SHA-256 of the {blocks} blocks it reads alone: {statistics.median(hashing) * 1000:.0f}"
    yield Figure("T9", "100 changes among 100,000 entries of one folder, cold, ms", ms, "<= 50", ms <= 50, detail)
    ms = statistics.median(again) * 1000
    yield Figure("T9", "the same, of folders that were read before, ms", ms, "<= 25", ms <= 25, "processor time")


class _Noting(ContentStore):
    """A store that notes what is read from it."""

    def __init__(self, folder: Path) -> None:
        super().__init__(folder)
        self.contents: list[bytes] = []

    def read(self, identity: str) -> bytes:
        data = super().read(identity)
        self.contents.append(data)
        return data
