"""Law 3 of the exchange with Git: fetches, sends, crashes, lost answers and repetitions in any order come to the same
state, with nothing twice and nothing lost."""

from __future__ import annotations

import csv
import io
import json
import os
import shutil
import tempfile
import time
import unittest
from contextlib import suppress
from pathlib import Path

from hypothesis import HealthCheck, Phase, given, settings
from hypothesis import strategies as st

from everyshelf.client import ChangeRequest, Job, ProblemError, ShelfClient, UnreachableError
from tests.support.git import TOKEN, GitServer, run_git
from tests.support.laws import SHARE
from tests.support.service import Service

_EXAMPLES = 25 if SHARE >= 1 else 2
_MOST_STEPS = 14
_ROUNDS = 6
_LOSING = """#!/bin/sh
# The push was taken; whoever pushed hears nothing of it.
if [ -f lose ]; then rm lose; kill -9 $PPID; fi
"""

ACTS = st.sampled_from(["commit", "commit", "send", "fetch", "lost answer", "crash in send", "crash in fetch"])
STEP = st.tuples(ACTS, st.sampled_from(["one", "two", "git"]), st.integers(0, 500))


class _World:
    """Two shelves on services of their own, and a person with Git, round one repository. Each commit changes a row or
    a cell that no other does."""

    def __init__(self, services: dict[str, Service], server: GitServer, parts: str) -> None:
        self.services, self.parts = services, parts
        self.bare = server.make(f"converge-{os.urandom(4).hex()}")
        hook = self.bare / "hooks" / "post-receive"
        hook.parent.mkdir(exist_ok=True)
        hook.write_text(_LOSING)
        hook.chmod(0o755)
        self.values = ["0"] * _MOST_STEPS
        self.done: list[str] = ["First"]
        called = f"Converge {self.bare.name.encode().hex()}"
        self.keys = {name: service.client().make_shelf(called).key for name, service in services.items()}
        self.change("one", {"fares.csv": self.table(), "look.ipynb": self.notebook()}, "First")
        for name in services:
            address = f"{server.address}/{self.bare.name}"
            self.shelf(name).make_git_link("office", address, user="everyshelf", token=TOKEN, parts=parts)
        self.exchange("one", "send")
        self.exchange("two", "fetch")
        self.clone = self.bare.with_suffix(".clone")
        run_git("clone", "-q", str(self.bare), str(self.clone), folder=server.root)

    def shelf(self, name: str) -> ShelfClient:
        return self.services[name].client().shelf(self.keys[name])

    def table(self) -> bytes:
        rows = "".join(f"Z{n},{value}\n" for n, value in enumerate(self.values) if n % 2 == 0)
        return f"zone,fare\n{rows}".encode()

    def notebook(self) -> bytes:
        cells = [
            {"cell_type": "code", "id": f"c{n}", "metadata": {}, "outputs": [], "source": [f"x = {value}"]}
            for n, value in enumerate(self.values)
            if n % 2
        ]
        return json.dumps({"cells": cells, "metadata": {}, "nbformat": 4, "nbformat_minor": 5}, indent=1).encode()

    @staticmethod
    def edited(path: str, data: bytes, item: int, value: str) -> bytes:
        if path == "fares.csv":
            return data.replace(b"Z%d,0\n" % item, f"Z{item},{value}\n".encode())
        if path.endswith(".py"):
            return f"x = {value}".encode()
        whole = json.loads(data)
        whole["cells"][item // 2]["source"] = [f"x = {value}"]
        return json.dumps(whole, indent=1).encode()

    def change(self, name: str, files: dict[str, bytes], summary: str) -> None:
        shelf = self.shelf(name)
        changes = [ChangeRequest(path, shelf.upload(data).id) for path, data in files.items()]
        shelf.commit("main", shelf.branch("main").head, changes, summary)

    # --- steps -----------------------------------------------------------------------

    def commit(self, who: str, item: int) -> None:
        value, path = f"{item}{who}", "fares.csv" if item % 2 == 0 else "look.ipynb"
        self.values[item] = value
        self.done.append(value)
        if who != "git":
            self.change(who, {path: self.edited(path, self.shelf(who).read(path), item, value)}, value)
            return
        run_git("pull", "-q", "--ff-only", folder=self.clone)
        if path == "look.ipynb" and self.parts != "none":
            path = f"look.ipynb.unfolded/cells/{item // 2 + 1:03}.py"
        file = self.clone / path
        file.write_bytes(self.edited(path, file.read_bytes(), item, value))
        run_git("commit", "-q", "-a", "-m", value, folder=self.clone)
        run_git("push", "-q", folder=self.clone)

    def begin(self, who: str, act: str) -> Job:
        shelf = self.shelf(who)
        return shelf.send_git_link("office") if act == "send" else shelf.fetch_git_link("office")

    def exchange(self, who: str, act: str) -> None:
        self.shelf(who).wait(self.begin(who, act))

    def lose_answer(self, who: str) -> None:
        (self.bare / "lose").touch()
        with suppress(ProblemError):
            self.exchange(who, "send")
        (self.bare / "lose").unlink(missing_ok=True)

    def crash(self, who: str, act: str, after_ms: int) -> None:
        """The service is killed at some moment of the act, and started again."""
        job = self.begin(who, act)
        time.sleep(after_ms / 1000)
        self.services[who].kill_group()
        self.services[who].start()
        with suppress(ProblemError, UnreachableError):
            self.shelf(who).wait(job)

    def step(self, act: str, who: str, number: int, item: int) -> None:
        if act == "commit":
            self.commit(who, item)
        elif who != "git" and act == "lost answer":
            self.lose_answer(who)
        elif who != "git" and act.startswith("crash"):
            self.crash(who, act.rpartition(" ")[2], number)
        elif who != "git":
            self.exchange(who, act)

    # --- the end ---------------------------------------------------------------------

    def settle_down(self) -> None:
        """Both fetch and send until a round changes nothing; then both have to be in step."""
        before: list[str] = []
        for _ in range(_ROUNDS):
            for name in self.services:
                for act in ("fetch", "send"):
                    self.exchange(name, act)
            now = [run_git("rev-parse", "main", folder=self.bare).stdout]
            now += [self.shelf(name).branch("main").head or "" for name in self.services]
            links = {name: self.shelf(name).git_link("office").link for name in self.services}
            if now == before and all(link.state == "in step" for link in links.values()):
                return
            before = now
        raise AssertionError(links)


class ConvergeTests(unittest.TestCase):
    """Judged by Git and the standard library."""

    services: dict[str, Service]
    server: GitServer

    @classmethod
    def setUpClass(cls) -> None:
        place = Path(tempfile.mkdtemp(prefix="es-converge-"))
        cls.addClassCleanup(shutil.rmtree, place, ignore_errors=True)
        cls.server = GitServer(place)
        cls.addClassCleanup(cls.server.close)
        cls.services = {}
        for name in ("one", "two"):
            cls.services[name] = Service()
            cls.addClassCleanup(cls.services[name].stop)

    @settings(
        max_examples=_EXAMPLES,
        derandomize=SHARE < 1,
        deadline=None,
        phases=(Phase.explicit, Phase.generate),  # an example takes seconds: what was found is told as it was found
        suppress_health_check=list(HealthCheck),
    )
    @given(steps=st.lists(STEP, min_size=8, max_size=_MOST_STEPS), parts=st.sampled_from(["none", "beside", "instead"]))
    def test_any_order_comes_to_the_same(self, steps: list[tuple[str, str, int]], parts: str) -> None:
        world = _World(self.services, self.server, parts)
        for item, (act, who, number) in enumerate(steps):
            world.step(act, who, number, item)
        world.settle_down()
        tip = run_git("rev-parse", "main", folder=world.bare).stdout.strip()
        run_git("fsck", "--strict", folder=world.bare)
        log = run_git("log", "--format=%s", "main", folder=world.bare).stdout.splitlines()
        for value in world.done:
            self.assertEqual(log.count(value), 1, f"{value} in {log}")
        for name in world.services:
            shelf = world.shelf(name)
            said = [commit.summary for commit in shelf.commits()]
            for value in world.done:
                self.assertEqual(said.count(value), 1, f"{value} on {name}")
            self.assertEqual([branch.name for branch in shelf.branches()], ["main"])
            rows = {row["zone"]: row["fare"] for row in csv.DictReader(io.StringIO(shelf.read("fares.csv").decode()))}
            cells = ["".join(cell["source"]) for cell in json.loads(shelf.read("look.ipynb"))["cells"]]
            self.assertEqual(rows, {f"Z{n}": value for n, value in enumerate(world.values) if n % 2 == 0})
            self.assertEqual(cells, [f"x = {value}" for n, value in enumerate(world.values) if n % 2])
            if parts == "none":
                self.assertEqual(shelf.git_commits(1).items[0].git, tip)


if __name__ == "__main__":
    unittest.main()
