"""Two services, a person with Git, and a person in the console change the same four artifacts, in any order."""

from __future__ import annotations

import csv
import io
import json
import os
import random
import shutil
import subprocess
import sys
import tempfile
import unittest
from pathlib import Path
from typing import Any

from everyshelf.client import ChangeRequest, ProblemError, Saving, ShelfClient
from tests.support.git import run_git
from tests.support.laws import SHARE
from tests.support.service import Service, shared_service

_STEPS = 200 if SHARE >= 1 else 12
_ITEMS = 16  # of each artifact: three for each of the four alone, the last four for all
_ACTORS = ("here", "console", "there", "git")
_SHARED = 4
_PATHS = ("flow.json", "fares.csv", "look.ipynb", "board.json")


def _first(path: str) -> bytes:
    return _written(path, ["0"] * _ITEMS)


def _written(path: str, values: list[str]) -> bytes:
    """An artifact with these values: a pipeline, a table, a notebook or an app."""
    if path == "flow.json":
        steps = [{"id": f"s{n}", "run": value, "after": [f"s{n - 1}"] if n else []} for n, value in enumerate(values)]
        return json.dumps({"steps": steps}, indent=1).encode()
    if path == "fares.csv":
        return ("zone,fare\n" + "".join(f"Z{n},{value}\n" for n, value in enumerate(values))).encode()
    if path == "look.ipynb":
        cells = [
            {"cell_type": "code", "id": f"c{n}", "metadata": {}, "outputs": [], "source": [f"x = {value}"]}
            for n, value in enumerate(values)
        ]
        return json.dumps({"cells": cells, "metadata": {}, "nbformat": 4, "nbformat_minor": 5}, indent=1).encode()
    controls = [{"name": f"field{n}", "type": "input", "label": value} for n, value in enumerate(values)]
    return json.dumps({"screens": [{"name": "Board", "controls": controls}]}, indent=1).encode()


def _read(path: str, data: bytes) -> list[str]:
    if path == "fares.csv":
        return [row["fare"] for row in csv.DictReader(io.StringIO(data.decode()))]
    found = json.loads(data)
    if path == "flow.json":
        return [step["run"] for step in found["steps"]]
    if path == "look.ipynb":
        return ["".join(cell["source"]).removeprefix("x = ") for cell in found["cells"]]
    return [control["label"] for control in found["screens"][0]["controls"]]


class TogetherTests(unittest.TestCase):
    """Everything arrives everywhere; what goes together is combined, the rest waits; nothing is lost."""

    def setUp(self) -> None:
        self.rng = random.Random(11)
        self.home = Path(tempfile.mkdtemp(prefix="es-together-"))
        self.addCleanup(shutil.rmtree, self.home, ignore_errors=True)
        one = shared_service()
        place = one.repositories
        other = Service(settings={"EVERYSHELF_REPOSITORIES": f"{place}/*"})
        self.addCleanup(other.stop)
        self.bare = Path(tempfile.mkdtemp(prefix="together-", dir=place))
        run_git("init", "-q", "--bare", "-b", "main", str(self.bare), folder=self.home)
        self.shelves: list[ShelfClient] = []
        for service in (one, other):
            client = service.client()
            self.addCleanup(client.close)
            self.shelves.append(client.shelf(client.make_shelf(f"Together {os.urandom(4).hex()}").key))
        self.here, self.there = self.shelves

    def link(self) -> None:
        self.here.make_git_link("office", str(self.bare))
        self.there.make_git_link("office", str(self.bare))

    # --- what each of them does -----------------------------------------------------

    def edit(self, actor: str, path: str, item: int, value: str) -> None:
        if actor == "git":
            file = self.clone / path
            file.write_bytes(self.changed(path, file.read_bytes(), item, value))
            run_git("commit", "-q", "-a", "-m", f"{path} {item}: {value}", folder=self.clone)
            return
        shelf = self.there if actor == "there" else self.here
        data = self.changed(path, shelf.read(path), item, value)
        content = shelf.upload(data).id
        if actor == "console":  # what the page does: save into the draft, commit the draft
            shelf.save("main", [Saving(path, content)])
            shelf.commit_draft("main", f"{path} {item}: {value}")
        else:
            shelf.commit("main", shelf.branch("main").head, [ChangeRequest(path, content)], f"{path} {item}: {value}")

    @staticmethod
    def changed(path: str, data: bytes, item: int, value: str) -> bytes:
        values = _read(path, data)
        values[item] = value
        return _written(path, values)

    def exchange(self, who: str) -> None:
        if who == "git":
            done = run_git("pull", "-q", "--no-rebase", "--no-edit", folder=self.clone, code=None)
            if done.returncode:
                self.settle_in_git()
            run_git("push", "-q", folder=self.clone, code=None)
            return
        shelf = self.there if who == "there" else self.here
        for act in self.rng.sample([shelf.fetch_git_link, shelf.send_git_link], 2):
            shelf.wait(act("office"))
        self.settle(shelf)

    def settle_in_git(self) -> None:
        """What our merge driver could not decide: one side, as a person would take it."""
        unmerged = {line.split("\t")[1] for line in run_git("ls-files", "-u", folder=self.clone).stdout.splitlines()}
        for path in unmerged:
            text = (self.clone / path).read_text()
            kept = self.rng.choice(("target", "source"))
            lines, side = [], ""
            for line in text.splitlines(keepends=True):
                if line.startswith("<<<<<<< target"):
                    side = "target"
                elif line.startswith("=======") and side:
                    side = "source"
                elif line.startswith(">>>>>>> source"):
                    side = ""
                elif not side or side == kept:
                    lines.append(line)
            (self.clone / path).write_text("".join(lines))
        run_git("add", "-A", folder=self.clone)
        run_git("commit", "-q", "--no-edit", folder=self.clone)

    def settle(self, shelf: ShelfClient) -> None:
        for merge in shelf.merges():
            take = self.rng.choice(("target", "source"))
            shelf.settle(merge.id, [{"path": None, "conflict": None, "take": take}])
            try:
                shelf.finish_merge(merge.id)
            except ProblemError as error:
                if error.status != 409:  # the branch went on: it is merged again
                    raise
                shelf.abandon_merge(merge.id)

    # --- the test -----------------------------------------------------------------------

    def test_nothing_is_lost(self) -> None:
        changes = [ChangeRequest(path, self.here.upload(_first(path)).id) for path in _PATHS]
        self.here.commit("main", None, changes, "First")
        self.link()
        self.here.wait(self.here.send_git_link("office"))
        self.there.wait(self.there.fetch_git_link("office"))
        run_git("clone", "-q", str(self.bare), "clone", folder=self.home)
        self.clone = self.home / "clone"
        command = [sys.executable, "-P", "-m", "everyshelf.cli.main", "git-tools", "install"]
        subprocess.run(command, cwd=self.clone, check=True, capture_output=True)
        written: dict[tuple[str, int], dict[str, str]] = {}
        for step in range(1, _STEPS + 1):
            actor, path = self.rng.choice(_ACTORS), self.rng.choice(_PATHS)
            own = _ACTORS.index(actor) * 3
            item = self.rng.choice((own, own + 1, own + 2, *range(_ITEMS - _SHARED, _ITEMS)))
            self.edit(actor, path, item, str(step))
            written.setdefault((path, item), {})[actor] = str(step)
            if self.rng.random() < 0.5:
                self.exchange(self.rng.choice(("here", "there", "git")))
        for _ in range(12):
            for who in ("here", "git", "there"):
                self.exchange(who)
            if len(set(self.tips())) == 1 and not self.here.merges() and not self.there.merges():
                break
        self.judge(written)

    def tips(self) -> list[str]:
        mine = run_git("rev-parse", "HEAD", folder=self.clone).stdout.strip()
        theirs = run_git("rev-parse", "main", folder=self.bare).stdout.strip()
        return [mine, theirs, *(self.tip_of(shelf) for shelf in self.shelves)]

    @staticmethod
    def tip_of(shelf: ShelfClient) -> str:
        head = shelf.branch("main").head
        return next((one.git or "" for one in shelf.git_commits(limit=50).items if one.commit == head), "?")

    def judge(self, written: dict[tuple[str, int], dict[str, str]]) -> None:
        """By Git and the standard library alone: one state, in which everything has its last value."""
        tips = self.tips()
        self.assertEqual(len(set(tips)), 1, tips)
        run_git("fsck", "--strict", folder=self.bare)
        final: dict[str, list[str]] = {}
        for path in _PATHS:
            data = run_git("show", "--no-textconv", f"main:{path}", folder=self.bare).stdout.encode()
            final[path] = _read(path, data)
            for shelf in self.shelves:
                self.assertEqual(shelf.read(path), data, path)
        subjects = set(run_git("log", "--format=%s", "main", folder=self.bare).stdout.splitlines())
        for (path, item), values in written.items():
            for value in values.values():
                self.assertIn(f"{path} {item}: {value}", subjects, "a commit is gone")
            said: Any = final[path][item]
            self.assertIn(said, values.values(), (path, item))
            if item < _ITEMS - _SHARED:  # of one person alone
                self.assertEqual(said, *values.values())
        for path in _PATHS:
            for item in range(_ITEMS):
                if (path, item) not in written:
                    self.assertEqual(final[path][item], "0", "nobody changed it")
