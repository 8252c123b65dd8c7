"""T23, T24, T25: origins of a workflow, a text and a row of a table after many versions; finding among 100,000
artifacts; uses of a column among 20,000.

The shelves are filled in one process, with the same functions that the jobs after a commit call; cold is the first call,
with nothing kept but the steps between versions.
"""

from __future__ import annotations

import os
import statistics
import subprocess
import tempfile
import time
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import httpx
from tests.support.service import Service

from bench.measure import Figure

_SETUP = """
import json, random, time
from django.contrib.auth.models import User
from everyshelf.service.rights import Caller
from everyshelf.service.shelves.actions import recording
from everyshelf.service.shelves.actions.committing import ChangeRequest, prepare_changes
from everyshelf.service.shelves.actions.contents import take_in
from everyshelf.service.shelves.actions.recording import CommitMessage
from everyshelf.service.shelves.actions.shelves import make_shelf
from everyshelf.service.shelves.models import ArtifactVersion, Commit
from everyshelf.service.web.job_kinds import load
load()
recording.start_job = lambda *_: None
caller = Caller(User.objects.get(username="owner"))
rng = random.Random(4)

class Line:
    def __init__(self, key):
        self.shelf, self.head = make_shelf(caller, key, "", key, False), None
    def commit(self, path, data, summary):
        content = take_in(self.shelf, [data], len(data)).id
        made = prepare_changes(
            caller, self.shelf, "main", self.head, [ChangeRequest(path, content)], CommitMessage(summary)
        ).record()
        self.head = made.uid
        return made
"""
_WORKFLOW = """
from everyshelf.service.origins.actions.keeping import keep_steps
line = Line("flows")
steps = [{"id": f"s{n}", "command": f"run {n}", "limit": n, "after": ["s0"]} for n in range(3340)]
begun = time.perf_counter()
for n in range(1000):
    for _ in range(4):
        steps[rng.randrange(len(steps))]["limit"] = n
    keep_steps(line.commit("p.json", json.dumps({"pipeline": "x", "steps": steps}).encode(), f"c{n}"), lambda: None)
from everyshelf.service.origins.models import KeptOrigins
KeptOrigins.objects.all().delete()
print((time.perf_counter() - begun) / 1000)
"""
_KEPT = """
from django.db.models import Sum
from django.db.models.functions import Length
from everyshelf.service.base.context import get_store
from everyshelf.service.origins.models import KeptOrigins, RowBlock, VersionStep
get_store().sync()
kept = ((VersionStep, "step"), (KeptOrigins, "origins"), (RowBlock, "rows"))
print(sum(model.objects.aggregate(s=Sum(Length(field)))["s"] or 0 for model, field in kept))
"""
_ROWS = """
from everyshelf.service.origins.actions.keeping import keep_steps
line = Line("table")
fares = [rng.randrange(100_000) for _ in range(200_000)]
for n in range(20):
    for _ in range(1000):
        fares[rng.randrange(len(fares))] = rng.randrange(100_000)
    data = "id,zone,fare\\n" + "".join(f"{k},Z{k % 97},{fare}\\n" for k, fare in enumerate(fares))
    keep_steps(line.commit("t.csv", data.encode(), f"c{n}"), lambda: None)
print(0)
"""
_TEXT = """
from everyshelf.service.origins.actions.keeping import keep_steps
line = Line("texts")
text = open(FOLDER + "/first").read().split("\\n")
for n in range(200):
    text = open(f"{FOLDER}/{n}", newline="").read()
    keep_steps(line.commit("t.txt", text.encode(), f"c{n}"), lambda: None)
from everyshelf.service.origins.models import KeptOrigins
KeptOrigins.objects.all().delete()
print(0, 0)
"""
_TABLE = """
from everyshelf.core.origins.steps import STEP_VERSION, packed
from everyshelf.core.origins.tables import RowChange, TablesStep, TableStep, blocks
from everyshelf.service.origins.models import RowBlock, VersionStep
line = Line("rows")
before = None
for n in range(100):
    commit = line.commit("t.csv", b"id,fare\\n%d,1\\n" % n, f"c{n}")
    version = commit.versions.get()
    ArtifactVersion.objects.filter(pk=version.pk).update(kind="dataset", size=400_000_000)
    table = TableStep(["id"], ["id", "fare"], cells={"fare": 10_000}, rows=(0, 0, 10_000))
    step = VersionStep.objects.create(
        version=version, form="rows", parent=before, reader=STEP_VERSION,
        step=packed(TablesStep({"": table} if before else {})),
    )
    keys = sorted(str(key) for key in rng.sample(range(10_000_000), 10_000))
    if n in (30, 60):
        keys = sorted({*keys, "4711"})
    rows = (RowChange(key, "changed", ["fare"], ["1"], [str(n)]) for key in keys)
    if before:
        RowBlock.objects.bulk_create(RowBlock(step=step, first=b.first, last=b.last, rows=b.rows) for b in blocks("", rows))
    before = version
from django.db.models import Sum
from django.db.models.functions import Length
print(0, RowBlock.objects.aggregate(s=Sum(Length("rows")))["s"])
"""
_FIND = """
import struct
from everyshelf.core.answers.find import PlaceText
from everyshelf.service.find.actions import heads, reading
from everyshelf.service.shelves.actions.contents import take_in_many
line = Line("many")
words = [f"word{n}" for n in range(3000)]
data = [b'{"number": %d}' % n for n in range(1000)]
body = b"".join(struct.pack(">Q", len(one)) + one for one in data)
ids = [info.id for info in take_in_many(line.shelf, [body], len(body))]
wanted = [ChangeRequest(f"area-{n % 317:03d}/artifact-{n:06d}.json", ids[n % 1000]) for n in range(100_000)]
prepare_changes(caller, line.shelf, "main", None, wanted, CommitMessage("All artifacts")).record()
heads.refresh_heads(line.shelf)
some = []
for n, version in enumerate(ArtifactVersion.objects.filter(shelf=line.shelf).select_related("shelf").iterator()):
    told = [
        PlaceText(f"/step:s{k}", "step", f"step {k}", "", f"command: {' '.join(rng.choices(words, k=6))} tide")
        for k in range(8)
    ]
    some.append((version, told))
    if len(some) == 1000:
        reading._write(some)
        some = []
reading._write(some)
heads.note_read(line.shelf)
print(0, 0)
"""
_USES = """
import struct
from everyshelf.service.shelves.actions.contents import take_in_many
from everyshelf.service.uses.actions.reading import read_state
line = Line("uses")
# 20 areas, each with a table of the same name; one table that all name; a column that thirty use, one that a tenth uses.
files = {"common/tides.csv": b"harbour,tide_window,height_m,berth\\nA,1,2,3\\n"}
files |= {f"area-{a:02d}/data/sailings.csv": b"id,delay,vessel\\n%d,2,K\\n" % a for a in range(20)}
for n in range(20_000 - len(files)):
    columns = ["harbour"] + ["tide_window"] * (n % 650 == 0) + ["height_m"] * (n % 10 == 0)
    steps = [
        {"id": "tides", "path": "common/tides.csv", "columns": columns},
        {"id": "sailings", "path": "../data/sailings.csv", "columns": ["delay"] * (n % 3 == 0) + ["vessel"]},
        {"id": f"write{n}", "command": f"run {n}", "after": ["tides", "sailings"]},
    ]
    files[f"area-{n % 20:02d}/pipelines/load-{n:05d}.json"] = json.dumps({"name": f"load {n}", "steps": steps}).encode()
paths = list(files)
wanted = []
for start in range(0, len(paths), 2000):
    some = paths[start : start + 2000]
    body = b"".join(struct.pack(">Q", len(files[path])) + files[path] for path in some)
    infos = take_in_many(line.shelf, [body], len(body))
    wanted += [ChangeRequest(path, info.id) for path, info in zip(some, infos, strict=True)]
made = prepare_changes(caller, line.shelf, "main", None, wanted, CommitMessage("All artifacts")).record()
begun = time.perf_counter()
read_state(line.shelf, made, made.root)
print(time.perf_counter() - begun, 0)
"""


def looking_back() -> Iterator[Figure]:
    """Each on a shelf of its own."""
    service = Service()
    try:
        yield from _workflow(service)
        yield from _text(service)
        yield from _row(service)
        yield from _find(service)
        yield from _uses(service)
    finally:
        service.stop()


def _timed(service: Service, address: str, calls: int) -> tuple[float, float, Any]:
    """Seconds of the first call, the median of those after it, and the last answer."""
    headers = {"Authorization": f"Bearer {service.token()}"}
    with httpx.Client(base_url=f"{service.address}/api/v1/", headers=headers, timeout=600) as client:
        client.get("session")
        taken = []
        for _ in range(calls + 1):
            begun = time.perf_counter()
            answer = client.get(address)
            taken.append(time.perf_counter() - begun)
            answer.raise_for_status()
    return taken[0], statistics.median(taken[1:]), answer.json()


def _workflow(service: Service) -> Iterator[Figure]:
    before = _sizes(service)
    each = float(service.run_python(_SETUP + _WORKFLOW).split()[-1])
    cold, again, answer = _timed(service, "shelves/flows/artifact/origins?path=p.json&limit=200", 9)
    detail = f"{answer['total']} parts, {answer['versions']} versions, a step kept in {each * 1000:.0f} ms"
    yield Figure(
        "T23", "origins of a workflow of 10,000 parts, 1,000 versions, cold, s", cold, "<= 1", cold <= 1, detail
    )
    yield Figure("T23", "the same again, kept, s", again, "<= 0.05", again <= 0.05, "")
    yield _kept(service, before, "of a workflow after 1,000 versions")


def _sizes(service: Service) -> tuple[int, int]:
    """Bytes kept for origins, and bytes of the store."""
    kept = int(service.run_python(_KEPT).split()[-1])
    return kept, sum(file.stat().st_size for file in (service.data / "segments").rglob("*") if file.is_file())


def _kept(service: Service, before: tuple[int, int], what: str) -> Figure:
    kept, stored = (after - first for after, first in zip(_sizes(service), before, strict=True))
    detail = f"{kept / 1e6:.2f} of {stored / 1e6:.1f} MB"
    ratio = kept / stored
    return Figure(
        "T23",
        f"size of what is kept for origins, against the stored versions {what}",
        ratio,
        "<= 0.1",
        ratio <= 0.1,
        detail,
    )


def _text(service: Service) -> Iterator[Figure]:
    import random

    rng = random.Random(9)
    lines = [f"line {n} of {rng.randrange(10**9)}" for n in range(100_000)]
    with tempfile.TemporaryDirectory() as folder:
        repository = Path(folder, "repository")
        _git(Path(folder), "init", "-q", "repository")
        for number in range(200):
            for _ in range(100):
                lines[rng.randrange(len(lines))] = f"changed {number} {rng.randrange(10**9)}"
            lines.insert(rng.randrange(len(lines)), f"added {number} {rng.randrange(10**9)}")
            text = "\n".join(lines) + "\n"
            Path(folder, str(number)).write_text(text)
            Path(repository, "t.txt").write_text(text)
            _git(repository, "add", "t.txt")
            _git(repository, "commit", "-qm", f"c{number}")
        Path(folder, "first").write_text("")
        before = _sizes(service)
        service.run_python(_SETUP + f"FOLDER = {folder!r}\n" + _TEXT)
        begun = time.perf_counter()
        blamed = _git(repository, "blame", "--porcelain", "t.txt")
        by_git = time.perf_counter() - begun
    cold, again, answer = _timed(service, "shelves/texts/artifact/origins?path=t.txt&form=lines&limit=5000", 5)
    detail = f"{cold:.2f} against {by_git:.2f} s, again {again:.2f} s; {answer['total']} runs, {blamed.count('author ')} commits named by Git"
    yield Figure("T24", "origins of a text of 100,000 lines, 200 commits, s", cold, "<= 2", cold <= 2, detail)
    ratio = cold / by_git
    yield Figure("T24", "against git blame of the same history", ratio, "<= 1 x", ratio <= 1, detail)
    yield _kept(service, before, "of a text after 200 versions")


def _git(folder: Path, *arguments: str) -> str:
    names = {f"GIT_{who}_{what}": "bench" for who in ("AUTHOR", "COMMITTER") for what in ("NAME", "EMAIL")}
    done = subprocess.run(
        ["git", *arguments], cwd=folder, check=True, capture_output=True, text=True, env={**os.environ, **names}
    )
    return done.stdout


def _row(service: Service) -> Iterator[Figure]:
    _, kept = service.run_python(_SETUP + _TABLE).split()[-2:]
    cold, again, answer = _timed(service, "shelves/rows/artifact/forms?path=t.csv&row=4711&column=fare", 9)
    detail = (
        f"{len(answer['forms'])} forms, again {again * 1000:.0f} ms; {int(kept) / 1e6:.1f} MB for 990,000 changed rows"
    )
    yield Figure("T23", "one row of ten million after 100 versions, s", cold, "<= 0.3", cold <= 0.3, detail)
    before = _sizes(service)
    service.run_python(_SETUP + _ROWS)
    yield _kept(service, before, "of a table of 200,000 rows after 20 versions, 1,000 rows changed by each")


def _find(service: Service) -> Iterator[Figure]:
    service.run_python(_SETUP + _FIND)
    for told, words, most in (
        ("a rare pair of words", "word17 word2901", 0.2),
        ("a beginning", "word29", 0.2),
        ("a word that all hold", "tide", 0.2),
    ):
        first, again, answer = _timed(service, f"find?words={words.replace(' ', '+')}", 9)
        slowest = max(first, again)
        detail = f"first {first * 1000:.0f} ms, then {again * 1000:.0f} ms; {answer['total']} found"
        yield Figure("T25", f"find among 100,000 artifacts: {told}, s", slowest, "<= 0.2", slowest <= most, detail)


def _uses(service: Service) -> Iterator[Figure]:
    read = float(service.run_python(_SETUP + _USES).split()[-2])
    _timed(
        service, "shelves/uses/artifact/outline?path=area-00/data/sailings.csv", 1
    )  # a reading process has read a table before, as in use
    for told, path, part in (
        ("that thirty use", "common/tides.csv", "tide_window"),
        ("that a tenth uses", "common/tides.csv", "height_m"),
        ("that none uses, of a table that all name", "common/tides.csv", "berth"),
        ("of the last of twenty tables of one name", "area-19/data/sailings.csv", "delay"),
    ):
        first, again, answer = _timed(service, f"shelves/uses/artifact/uses?path={path}&part={part}", 9)
        slowest = max(first, again)
        detail = (
            f"first {first * 1000:.0f} ms, then {again * 1000:.0f} ms; {len(answer['used_by'])} users listed; "
            f"all read in {read:.0f} s"
        )
        yield Figure(
            "T25", f"uses of a column among 20,000 artifacts, {told}, s", slowest, "<= 0.2", slowest <= 0.2, detail
        )
