"""Long work shared out among the processes of this machine, against one process that does it alone: verifying a store,
SHA-256 of files in place, and the origins of an artifact with many versions."""

from __future__ import annotations

import contextlib
import dataclasses
import json
import os
import random
import sqlite3
import statistics
import tempfile
import time
from collections.abc import Callable, Iterator
from functools import partial
from pathlib import Path
from unittest import mock

from tests.support.service import Service

from bench.measure import Figure
from everyshelf.client import ChangeRequest
from everyshelf.core.content.store import ContentStore
from everyshelf.service.base import spreading
from everyshelf.service.base.config import get_config
from everyshelf.service.base.spreading import in_batches, spread_out
from everyshelf.storage.checking import StoreAt, check_contents, check_in
from everyshelf.storage.outside.fingerprints import Wanted, digests_of
from everyshelf.storage.outside.folders import Folders

PROCESSES = len(os.sched_getaffinity(0))
_ROUNDS = 3
_SMALL, _LARGE, _LARGE_BYTES = 20_000, 40, 16 * 1024 * 1024
_FILES, _FILE_BYTES = 64, 16 * 1024 * 1024
_VERSIONS, _STEPS = 60, 2_500


def sharing() -> Iterator[Figure]:
    """Each worked out by one process and by as many as there are processors, in turn."""
    with tempfile.TemporaryDirectory(prefix="es-bench-") as folder:
        yield from _verifying(Path(folder, "store"))
        yield from _fingerprints(Path(folder, "files"))
    yield from _origins()


def _verifying(data: Path) -> Iterator[Figure]:
    rng = random.Random(1)
    store = ContentStore(data / "segments")
    sizes: dict[str, int] = {}
    for number in range(_SMALL):
        one = store.put(f"note {number} ".encode() * rng.randrange(20, 400))
        sizes[one.id] = one.size
    for _ in range(_LARGE):
        words = [rng.randbytes(3).hex().encode() for _ in range(4000)]
        one = store.put_stream(b" ".join(rng.choices(words, k=150_000)) for _ in range(_LARGE_BYTES // 1_050_000))
        sizes[one.id] = one.size
    store.close()
    held = ContentStore(data / "segments")
    batches = in_batches(sizes, lambda identity: sizes[identity])
    at = StoreAt(str(data), 0, "")

    def work() -> None:
        wrong = 0
        for _, found in spread_out(
            check_contents,
            [(at, batch) for batch in batches],
            _nobody,
            needs="the data folder",
            here=lambda _, batch, told: check_in(held, batch, told),
        ):
            wrong += len(found.wrong)
        if wrong:
            raise RuntimeError(f"{wrong} contents are damaged")

    yield _figure("verifying", data, work, f"{len(sizes):,} contents, {sum(sizes.values()) >> 20} MB")


def _fingerprints(folder: Path) -> Iterator[Figure]:
    folder.mkdir()
    piece = random.Random(2).randbytes(_FILE_BYTES)
    for number in range(_FILES):
        (folder / str(number)).write_bytes(piece)
    place = Folders((folder,))
    wanted = [Wanted(found.address, found.stamp) for found in place.listed(str(folder))]
    work = [(partial(Folders, (folder,)), batch) for batch in in_batches(wanted, lambda one: one.stamp.size)]

    def all_of_them() -> None:
        found = [one for _, some in spread_out(digests_of, work, _nobody) for one in some]
        if len(found) != _FILES or len(set(found)) != 1 or not found[0]:
            raise RuntimeError("files were not read")

    told = f"{_FILES} files, {_FILES * _FILE_BYTES >> 20} MB, as they lie in memory"
    yield _figure("fingerprints of files", folder.parent, all_of_them, told)


def _nobody(_: int) -> None:
    """No one is told."""


def _figure(what: str, data: Path, work: Callable[[], None], told: str) -> Figure:
    taken: dict[int, list[float]] = {1: [], PROCESSES: []}
    for _ in range(_ROUNDS):
        for processes, times in taken.items():
            config = dataclasses.replace(get_config(), data=data, processes=processes, dask="")
            with mock.patch.object(spreading, "get_config", lambda config=config: config):
                begun = time.perf_counter()
                work()
                times.append(time.perf_counter() - begun)
    alone, shared = (statistics.median(times) for times in taken.values())
    return _told(what, alone, shared, told)


def _told(what: str, alone: float, shared: float, told: str) -> Figure:
    detail = f"{alone:.1f} and {shared:.1f} s; {told}"
    return Figure("23", f"{what} by {PROCESSES} processes, × as fast as by one", alone / shared, "told", True, detail)


def _origins() -> Iterator[Figure]:
    """Of the parts of a workflow: the job compares all versions. (Tables are compared by two processors each, so on two
    there is nothing to share.)"""
    taken = {}
    for processes in (1, PROCESSES):
        service = Service(settings={"EVERYSHELF_PROCESSES": str(processes)})
        try:
            taken[processes] = _asked(service)
        finally:
            service.stop()
    alone, shared = taken.values()
    yield _told("origins of the parts of a pipeline", alone, shared, f"{_VERSIONS} versions of {_STEPS:,} steps")


def _asked(service: Service) -> float:
    client = service.client()
    shelf = client.shelf(client.make_shelf("Sailings", key="sailings").key)
    rng = random.Random(3)
    steps = [
        {"name": f"step-{n}", "type": "Copy", "dependsOn": [f"step-{n - 1}"] if n else [], "settings": {"rows": n}}
        for n in range(_STEPS)
    ]
    for number in range(_VERSIONS):
        for step in rng.sample(steps, 20):
            step["settings"] = {"rows": rng.randrange(10**6)}
        content = shelf.upload(json.dumps({"name": "load", "activities": steps}, indent=1).encode()).id
        head = shelf.branch("main").head
        shelf.commit("main", head, [ChangeRequest("load.json", content)], f"Version {number}")
    with contextlib.closing(sqlite3.connect(service.data / "records.sqlite")) as records:
        while records.execute("SELECT count(*) FROM jobs_job WHERE state IN ('waiting', 'running')").fetchone()[0]:
            time.sleep(0.2)
    service.run_python(
        "from everyshelf.service.origins.models import KeptOrigins, VersionStep\n"
        "from everyshelf.service.shelves.models import CachedComparison\n"
        "[kept.objects.all().delete() for kept in (KeptOrigins, VersionStep, CachedComparison)]\n"
    )
    begun = time.perf_counter()
    if not shelf.origins("load.json").parts:  # waits for the job
        raise RuntimeError("nothing is known of its parts")
    return time.perf_counter() - begun
