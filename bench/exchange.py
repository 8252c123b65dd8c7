"""The exchange with Git, through the service, each against the ``git`` program doing the same on the same history."""

from __future__ import annotations

import random
import shutil
import subprocess
import time
from collections.abc import Callable, Iterator
from pathlib import Path
from tempfile import TemporaryDirectory
from typing import Any

import httpx
from tests.support.git import TOKEN, GitServer, run_git
from tests.support.service import Service

from bench.measure import Figure
from everyshelf.client import ShelfClient

COMMITS, ARTIFACTS, CHANGED = 5_000, 10_000, 3


def history(commits: int = COMMITS, artifacts: int = ARTIFACTS) -> Iterator[bytes]:
    """A stream for ``git fast-import``: tables of a hundred rows in a hundred folders, three changed by each commit."""
    rng = random.Random(5)
    paths = [b"d%02d/f%05d.csv" % (n % 100, n) for n in range(artifacts)]
    for number in range(commits):
        who = b"Oskar Berg <oskar@port.example> %d +0100" % (1_700_000_000 + number * 60)
        summary = b"commit %05d" % number
        yield b"commit refs/heads/main\nauthor %s\ncommitter %s\ndata %d\n%s\n" % (who, who, len(summary), summary)
        for path in paths if number == 0 else rng.sample(paths, CHANGED):
            data = b"route,fare\n" + b"".join(b"R%d,%d\n" % (k, rng.randrange(1000)) for k in range(100))
            yield b"M 100644 inline %s\ndata %d\n%s\n" % (path, len(data), data)
        yield b"\n"


def exchange() -> Iterator[Figure]:
    """Sending and fetching 5,000 commits of 10,000 artifacts, one more commit, clone and push."""
    with TemporaryDirectory(prefix="es-exchange-") as home:
        service = Service()
        try:
            yield from _exchange(service, Path(home))
        finally:
            service.stop()


def _exchange(service: Service, home: Path) -> Iterator[Figure]:
    place = service.repositories
    there, empty = place / "there.git", place / "empty.git"
    for bare in (there, empty):
        run_git("init", "-q", "--bare", "-b", "main", str(bare), folder=place)
    (home / "stream").write_bytes(b"".join(history()))
    imported = _timed(lambda: _import(there, home / "stream"))
    against = _timed(lambda: _clone_and_export(there, home / "clone.git"))
    client = service.client()
    shelf = client.shelf(client.make_shelf("Exchange").key)
    shelf.make_git_link("there", str(there), way="both")
    fetched = _timed(lambda: shelf.wait(shelf.fetch_git_link("there")))
    # The machine changes its speed from minute to minute: the program is measured before and after.
    against = (against + _timed(lambda: _clone_and_export(there, home / "again.git"))) / 2
    yield _ratio(
        "T26", "fetch 5,000 commits of 10,000 artifacts, against git clone and fast-export", fetched, against, 4
    )
    _settle(service)
    client.wait(client.tidy_storage())  # so that it does not begin by itself beside what is measured
    yield from _limits(service, shelf.key, against)
    shutil.rmtree(service.data / "git")  # so that each commit is mapped
    shelf.make_git_link("empty", str(empty), way="send")
    sent = _timed(lambda: shelf.wait(shelf.send_git_link("empty")))
    run_git("init", "-q", "--bare", "-b", "main", "other.git", folder=home)
    imported = (imported + _timed(lambda: _import(home / "other.git", home / "stream"))) / 2
    yield _ratio("T26", "send them, against git fast-import of the same stream", sent, imported, 3)
    same = run_git("rev-parse", "main", folder=there).stdout == run_git("rev-parse", "main", folder=empty).stdout
    yield Figure("T26", "ids there and back are equal", int(same), "1", same, "")
    most = max(_peaks(service.process.pid if service.process is not None else 0))
    yield Figure("T26", "memory of the largest process meanwhile, MB", round(most), "300", most <= 300, "")
    yield from _one_more(service, shelf, empty)
    yield from _clone_and_push(service, shelf, home)


def _limits(service: Service, key: str, against: float) -> Iterator[Figure]:
    """What of fetching no other way of reading Git could save: to hold, all the rest has to fit into what it leaves."""
    code = f"from bench.records_alone import *; print(seconds_of({key!r}), contents_seconds())"
    records, contents = map(float, service.run_python(code).split())
    for what, seconds in (
        ("the records alone, through the ORM", records),
        ("the contents and folders alone, hashed, compressed, written", contents),
        ("both", records + contents),
    ):
        ratio = round(seconds / against, 2)
        yield Figure("T26", f"of this, {what}, ×", ratio, "4", ratio <= 4, f"{seconds:.1f} s")


def _one_more(service: Service, shelf: ShelfClient, empty: Path) -> Iterator[Figure]:
    from tests.support.factories import commit_files

    commit_files(shelf, {"d00/f00000.csv": b"route,fare\nR1,1\n"}, "One more")
    sent = _timed(lambda: shelf.wait(shelf.send_git_link("empty")))
    yield Figure("T26", "send one more commit, s", round(sent, 2), "1", sent <= 1, "")


def _clone_and_push(service: Service, shelf: ShelfClient, home: Path) -> Iterator[Figure]:
    address = f"{service.address.replace('//', f'//owner:{service.token()}@')}/git/{shelf.key}.git"
    (folder,) = (service.data / "git").glob("*.git")
    server = GitServer(folder.parent)
    other = f"{server.address.replace('//', f'//everyshelf:{TOKEN}@')}/{folder.name}"
    ours, theirs = [], []
    try:
        for turn in range(3):
            theirs.append(_timed(lambda turn=turn: run_git("clone", "-q", other, f"theirs{turn}", folder=home)))  # type: ignore[misc]
            ours.append(_timed(lambda turn=turn: run_git("clone", "-q", address, f"ours{turn}", folder=home)))  # type: ignore[misc]
    finally:
        server.close()
    yield _ratio(
        "T27", "clone of the shelf, against git http-backend with the same repository", min(ours), min(theirs), 1.3
    )
    clone = home / "ours0"
    (clone / "d00/f00000.csv").write_bytes(b"route,fare\nR1,2\n")
    run_git("commit", "-q", "-a", "-m", "Pushed", folder=clone)
    pushed = _timed(lambda: run_git("push", "-q", "origin", "main", folder=clone))
    yield Figure("T27", "push of one commit, s", round(pushed, 2), "1", pushed <= 1, "")


def _settle(service: Service) -> None:
    """Cancel what is said of each version, which takes minutes, and wait until no job waits or runs."""
    service.run_python(
        "from everyshelf.service.jobs.models import Job\nJob.objects.filter(kind='describe').update(cancel_asked=True)"
    )
    queue = {"waiting": 1, "running": 0}
    while queue["waiting"] or queue["running"]:
        time.sleep(1)
        queue = httpx.get(f"{service.address}/healthz", timeout=60).json()["queue"]


def _import(bare: Path, stream: Path) -> None:
    with stream.open("rb") as given:
        subprocess.run(["git", "fast-import", "--quiet"], cwd=bare, stdin=given, check=True)


def _clone_and_export(there: Path, to: Path) -> None:
    run_git("clone", "-q", "--bare", "--no-local", str(there), str(to), folder=to.parent)
    subprocess.run(["git", "fast-export", "--all"], cwd=to, stdout=subprocess.DEVNULL, check=True)


def _timed(work: Callable[[], Any]) -> float:
    begun = time.monotonic()
    work()
    return time.monotonic() - begun


def _ratio(target: str, what: str, seconds: float, against: float, limit: float) -> Figure:
    ratio = seconds / against
    return Figure(
        target, f"{what}, ×", round(ratio, 2), f"{limit}", ratio <= limit, f"{seconds:.1f} against {against:.1f} s"
    )


def _peaks(first: int) -> Iterator[float]:
    """The most memory that each process of the service had, in MB."""
    for status in Path("/proc").glob("[0-9]*/status"):
        try:
            said = dict(line.split(":", 1) for line in status.read_text().splitlines() if ":" in line)
            if int(said["PPid"]) == first and "VmHWM" in said:
                yield int(said["VmHWM"].split()[0]) / 1024
        except (OSError, ValueError):
            continue
