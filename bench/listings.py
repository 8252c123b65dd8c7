"""T22: listings of a shelf of 100,000 artifacts and 10,000 commits against one of 100, sixteen callers at once.

The shelves are recorded in one process before the service looks at them; their commits count as described, as they are
on any shelf once its jobs are done.
"""

from __future__ import annotations

import http.client
import os
import statistics
import threading
import time
from collections.abc import Iterator
from pathlib import Path

from tests.support.service import Service

from bench.measure import Figure

CALLERS = 16
CALLS = 480
_FILL = """
import struct
from django.contrib.auth.models import User
from everyshelf.service.jobs.models import Job
from everyshelf.service.rights import Caller
from everyshelf.service.shelves.actions.branches import make_branch
from everyshelf.service.shelves.actions.committing import ChangeRequest, prepare_changes
from everyshelf.core.history.trees import Entry
from everyshelf.service.base.context import get_trees
from everyshelf.service.shelves.actions.contents import get_size, take_in_many
from everyshelf.service.shelves.actions.recognising import kinds_of
from everyshelf.service.shelves.actions import recording
from everyshelf.service.shelves.actions.recording import CommitMessage, rules_at
from everyshelf.service.shelves.actions.shelves import make_shelf
from everyshelf.service.shelves.models import ArtifactVersion
from everyshelf.service.web.job_kinds import load
load()
recording.start_job = lambda *_: None  # the jobs would be at work for an hour, and at what is measured
caller = Caller(User.objects.get(username="owner"))

def put(shelf, data):
    ids = []
    for start in range(0, len(data), 1000):
        part = data[start:start + 1000]
        body = b"".join(struct.pack(">Q", len(one)) + one for one in part)
        ids += [info.id for info in take_in_many(shelf, [body], len(body))]
    return ids

def fill(key, count, commits, folders):
    shelf = make_shelf(caller, key, "", key, False)
    ids = put(shelf, [b'{"number": %d}' % n for n in range(5000)])
    wanted = [ChangeRequest(f"area-{n % folders:03d}/artifact-{n:06d}.json", ids[n % 5000]) for n in range(count)]
    head = prepare_changes(caller, shelf, "main", None, wanted, CommitMessage("All artifacts")).record()
    changed = put(shelf, [b'{"changed": %d}' % n for n in range(commits)])
    for n in range(commits):
        path = wanted[(n * 7919) % count].path if n % 40 else wanted[1].path
        head = prepare_changes(caller, shelf, "main", head.uid, [ChangeRequest(path, changed[n])], CommitMessage(f"Change {n}")).record()
        if n % 200 == 0:
            make_branch(caller, shelf, f"try/{n}", "main", "")
    Job.objects.all().delete()
    ArtifactVersion.objects.filter(headline="").update(headline="number 1 to 2", effect="alters")

import time
shelf = make_shelf(caller, "new", "", "new", False)
ids = put(shelf, [b'{"number": %d, "text": "%s"}' % (n, b"tide " * (n % 200)) for n in range(25000)])
wanted = [ChangeRequest(f"area-{n % 211:03d}/artifact-{n:06d}.json", one) for n, one in enumerate(ids)]
begun = time.perf_counter()
prepare_changes(caller, shelf, "main", None, wanted, CommitMessage("All artifacts")).record()
taken = time.perf_counter() - begun
entries = {c.path: Entry(c.path.rpartition("/")[2], "artifact", c.content, get_size(shelf, c.content)) for c in wanted}
begun = time.perf_counter()
kinds_of(entries, rules_at(get_trees().empty))
print(taken, time.perf_counter() - begun)

fill("few", 100, 10000, 10)
fill("many", 100000, 10000, 317)
"""
_ADDRESSES = {
    "a folder": "artifacts?folder=area-001",
    "an artifact": "artifact?path=area-001/artifact-000001.json",
    "history of 250 versions": "artifact/history?limit=250&path=area-001/artifact-000001.json",
    "references": "artifact/references?path=area-001/artifact-000001.json",
    "50 branches": "branches",
    "50 commits": "commits?limit=50",
}


def listings() -> Iterator[Figure]:
    """p99 of each call, its growth with the size of the shelf, calls a second, and the memory of the processes."""
    service = Service()
    seconds, recognising = map(float, service.run_python(_FILL).split())
    detail = f"telling the kinds of the files alone: {recognising:.1f}"
    yield Figure("T22", "commit of 25,000 new artifacts in the service, s", seconds, "<= 5", seconds <= 5, detail)
    token = service.token()
    least = sorted(_asked(service, token, "/healthz"))
    nothing = f"the shortest answer there is, as often: {least[int(len(least) * 0.99)] * 1000:.0f}"
    rates = []
    for what, address in _ADDRESSES.items():
        times: dict[str, list[float]] = {"few": [], "many": []}
        for _ in range(3):
            for key, seen in times.items():
                begun = time.perf_counter()
                seen.extend(_asked(service, token, f"/api/v1/shelves/{key}/{address}"))
                if (what, key) == ("an artifact", "many"):
                    rates.append(CALLS / (time.perf_counter() - begun))
        # The first round fills what is kept; it is not counted.
        settled = {key: sorted(seen[CALLS:]) for key, seen in times.items()}
        p99 = {key: seen[int(len(seen) * 0.99)] * 1000 for key, seen in settled.items()}
        median = {key: statistics.median(seen) * 1000 for key, seen in settled.items()}
        detail = f"median {median['many']:.0f} against {median['few']:.0f} ms on a shelf of 100; {nothing}"
        yield Figure(
            "T22", f"{what} among 100,000 artifacts, p99, ms", p99["many"], "<= 100", p99["many"] <= 100, detail
        )
        growth = median["many"] / median["few"]
        yield Figure("T22", f"{what}: growth from 100 to 100,000", growth, "<= 1.2", growth <= 1.2, "medians")
    rate = statistics.median(rates)
    yield Figure(
        "T22", "small reads a second, 16 callers, two cores", rate, ">= 400", rate >= 400, f"{os.cpu_count()} cores"
    )
    peak = max(_resident_mb(service))
    yield Figure("T22", "memory of the largest process afterwards, MB", peak, "<= 300", peak <= 300, "")
    service.stop()


def _asked(service: Service, token: str, address: str) -> list[float]:
    """Seconds of each of so many calls; every caller keeps its connection."""
    times: list[float] = []
    lock = threading.Lock()

    def call() -> None:
        connection = http.client.HTTPConnection("127.0.0.1", service.port)
        for _ in range(CALLS // CALLERS):
            start = time.perf_counter()
            connection.request("GET", address, headers={"Authorization": f"Bearer {token}"})
            answer = connection.getresponse()
            answer.read()
            assert answer.status == 200, address
            with lock:
                times.append(time.perf_counter() - start)
        connection.close()

    callers = [threading.Thread(target=call) for _ in range(CALLERS)]
    for caller in callers:
        caller.start()
    for caller in callers:
        caller.join()
    return times


def _resident_mb(service: Service) -> list[float]:
    assert service.process is not None
    found = []
    for entry in Path("/proc").iterdir():
        if entry.name.isdigit() and os.getpgid(int(entry.name)) == service.process.pid:
            lines = (entry / "status").read_text().splitlines()
            found += [int(line.split()[1]) / 1000 for line in lines if line.startswith("VmRSS")]
    return found
