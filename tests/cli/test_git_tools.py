"""Git itself in a plain repository: diff, log, merge and rebase by meaning, and content notes as files."""

from __future__ import annotations

import json
import os
import subprocess
import sys
import tempfile
import unittest
from io import BytesIO
from pathlib import Path

import openpyxl

from tests.support.factories import ServiceCase, Terminal
from tests.support.git import run_git
from tests.support.laws import SHARE

_PROCESS = (
    '<definitions xmlns="http://www.omg.org/spec/BPMN/20100524/MODEL"><process id="p1">\n'
    '<task id="ask" name="{ask}"/><task id="tell" name="{tell}"/>\n</process></definitions>\n'
)
_REBASED = 20 if SHARE >= 1 else 5
# A file of each text kind in four states: base, and what two people make of it; then what both together are.
_TOGETHER = {
    "fares.csv": (b"zone,fare\nZ1,4\nZ2,5\n", b"zone,fare\nZ1,9\nZ2,5\n", b"zone,fare\nZ1,4\nZ2,6\n"),
    "load.json": (
        b'{"steps": [{"id": "load", "run": "a.sql"}, {"id": "tidy", "run": "b.sql"}]}\n',
        b'{"steps": [{"id": "load", "run": "x.sql"}, {"id": "tidy", "run": "b.sql"}]}\n',
        b'{"steps": [{"id": "load", "run": "a.sql"}, {"id": "tidy", "run": "y.sql"}]}\n',
    ),
    "notice.bpmn": tuple(
        _PROCESS.format(ask=ask, tell=tell).encode()
        for ask, tell in (("Ask", "Tell"), ("Ask the master", "Tell"), ("Ask", "Tell all"))
    ),
    "limits.yaml": (b"wind: 12\nwave: 2\n", b"wind: 14\nwave: 2\n", b"wind: 12\nwave: 3\n"),
    "limits.toml": (b"wind = 12\nwave = 2\n", b"wind = 14\nwave = 2\n", b"wind = 12\nwave = 3\n"),
    "look.ipynb": tuple(
        json.dumps(
            {
                "cells": [
                    {"cell_type": "code", "id": f"c{n}", "metadata": {}, "outputs": [], "source": [source]}
                    for n, source in enumerate(sources)
                ],
                "metadata": {},
                "nbformat": 4,
                "nbformat_minor": 5,
            }
        ).encode()
        for sources in (("load()", "plot()"), ("load('fares')", "plot()"), ("load()", "plot('bar')"))
    ),
}


def _workbook(**cells: object) -> bytes:
    book = openpyxl.Workbook()
    for place, value in cells.items():
        book.active[place] = value
    stream = BytesIO()
    book.save(stream)
    return stream.getvalue()


class PlainRepositoryTests(unittest.TestCase):
    """Without a service."""

    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory(prefix="es-plain-")
        self.addCleanup(folder.cleanup)
        self.home = Path(folder.name)
        self.folder = self.home / "work"
        self.folder.mkdir()
        self.git("init", "-q", "-b", "main")

    def git(self, *arguments: str, code: int | None = 0) -> str:
        done = run_git(*arguments, folder=self.folder, code=code)
        return done.stdout + done.stderr

    def tools(self, *arguments: str, code: int = 0) -> str:
        environment = {**os.environ, "NO_COLOR": "1", "GIT_CONFIG_GLOBAL": str(self.home / "global")}
        command = [sys.executable, "-P", "-m", "everyshelf.cli.main", "git-tools", *arguments]
        done = subprocess.run(command, cwd=self.folder, env=environment, capture_output=True, text=True, check=False)
        self.assertEqual(done.returncode, code, done.stdout + done.stderr)
        return done.stdout + done.stderr

    def commit(self, files: dict[str, bytes], message: str = "A change") -> None:
        for name, data in files.items():
            (self.folder / name).write_bytes(data)
        self.git("add", "-A")
        self.git("commit", "-q", "-m", message)

    def all_files(self) -> dict[str, bytes]:
        return {str(file.relative_to(self.home)): file.read_bytes() for file in self.home.rglob("*") if file.is_file()}

    def test_nothing_is_left_behind(self) -> None:
        (self.folder / ".git/info/attributes").write_text("*.log -diff\n")
        (self.home / "global").write_text("[core]\n\tattributesFile = " + str(self.home / "theirs") + "\n")
        for scope in ((), ("--global",)):
            before = self.all_files()
            self.assertIn("Nothing is set", self.tools("install", "--check", *scope))
            self.assertIn("Git compares and merges by meaning in", self.tools("install", *scope))
            self.tools("install", *scope)
            attributes = Path(json.loads(self.tools("install", "--check", "--json", *scope))["attributes"])
            attributes.write_text(attributes.read_text() + "*.mine -diff\n")
            found = json.loads(self.tools("install", "--check", "--json", *scope))
            self.assertIn("*.bpmn", found["patterns"])
            self.assertEqual(found["problems"], [])
            self.assertIn("Removed: settings diff.everyshelf.*", self.tools("uninstall", *scope))
            text = attributes.read_text()
            self.assertTrue(text.endswith("*.mine -diff\n"))  # written after ours: kept
            attributes.write_text(text.removesuffix("*.mine -diff\n"))
            if not attributes.read_text():
                attributes.unlink()
            self.assertEqual(self.all_files(), before)
        self.assertIn("Nothing was set", self.tools("uninstall"))

    def test_attributes_of_the_repository_are_left_and_what_does_not_work_is_told(self) -> None:
        (self.folder / ".gitattributes").write_text("*.csv merge=union\n*.xlsx binary\n")
        said = self.tools("install", "--kind", "dataset", "--kind", "spreadsheet")
        self.assertIn("*.csv is left as it is: .gitattributes says merge=union", said)
        self.assertRegex(said, r"(?m)^  \*\.arrow .*\*\.xlsx")
        self.git("config", "merge.everyshelf.driver", "/nowhere/everyshelf git-tools merge")
        self.assertIn("/nowhere/everyshelf is not a program any more", self.tools("install", "--check", code=1))
        self.git("config", "--unset", "merge.everyshelf.driver")
        self.assertIn("the setting merge.everyshelf.driver is missing", self.tools("install", "--check", code=1))
        self.assertIn("'sheet' is not a kind", self.tools("install", "--kind", "sheet", code=2))

    def test_diff_and_log(self) -> None:
        self.tools("install")
        self.commit(
            {name: states[0] for name, states in _TOGETHER.items()} | {"old.csv": b"a\n1\n", "b.xlsx": _workbook(A1=1)}
        )
        self.commit({name: states[1] for name, states in _TOGETHER.items()} | {"b.xlsx": _workbook(A1=2)}, "Second")
        self.git("mv", "old.csv", "new.csv")
        (self.folder / "more.json").write_bytes(b"{}")
        self.git("add", "-A")
        self.git("commit", "-q", "-m", "Third")
        found = self.git("diff", "HEAD~2", "HEAD~1")
        self.assertIn("≠ Z1                        fare 4 → 9", found)
        self.assertIn("Step load: run a.sql → x.sql", found)
        self.assertIn("name Ask → Ask the master", found)
        self.assertRegex(found, r"≠ cell +load\(")
        self.assertRegex(
            self.git("diff", "-M", "HEAD~1", "HEAD"), r"(?s)more.json\n  \+ added: settings.*new.csv was old.csv"
        )
        logged = self.git("log", "-p", "-1", "HEAD~1")
        self.assertIn("-        run: a.sql\n+        run: x.sql", logged)
        self.assertIn("-row 1\n+row 2", logged.replace("-    row", "-row").replace("+    row", "+row"))

    def test_changes_of_both_are_combined_where_lines_would_not_be(self) -> None:
        self.commit({name: states[0] for name, states in _TOGETHER.items()})
        self.git("checkout", "-q", "-b", "theirs")
        self.commit({name: states[2] for name, states in _TOGETHER.items()})
        self.git("checkout", "-q", "main")
        self.commit({name: states[1] for name, states in _TOGETHER.items()})
        self.assertIn("CONFLICT", self.git("merge", "theirs", code=1))
        self.git("merge", "--abort")
        self.tools("install")
        self.git("merge", "-q", "theirs")
        for name, (_, ours, theirs) in _TOGETHER.items():
            with self.subTest(name):
                merged = (self.folder / name).read_bytes()
                self.assertNotIn(merged, (ours, theirs))
                for line in (b"<<<", b">>>"):
                    self.assertNotIn(line, merged)
        self.assertEqual((self.folder / "fares.csv").read_bytes(), b"zone,fare\nZ1,9\nZ2,6\n")
        self.assertEqual(json.loads((self.folder / "load.json").read_bytes())["steps"][0]["run"], "x.sql")
        self.assertIn(b"Ask the master", (self.folder / "notice.bpmn").read_bytes())
        self.assertIn(b"Tell all", (self.folder / "notice.bpmn").read_bytes())

    def test_what_cannot_be_decided(self) -> None:
        self.tools("install")
        table = b"zone,fare\n" + b"".join(b"Z%d,5\n" % n for n in range(1, 6))
        self.commit({"fares.csv": table, "plan.xlsx": _workbook(A1="quay", A2=1, B2=1), "odd.json": b"{"})
        self.git("checkout", "-q", "-b", "theirs")
        theirs = _workbook(A1="quay", A2=3, B2=1)
        changed = table.replace(b"Z1,5", b"Z1,6").replace(b"Z5,5", b"Z5,7")
        self.commit({"fares.csv": changed, "plan.xlsx": theirs, "odd.json": b"{{"})
        self.git("checkout", "-q", "main")
        ours = _workbook(A1="quay", A2=2, B2=1)
        self.commit(
            {
                "fares.csv": table.replace(b"Z1,5", b"Z1,8").replace(b"Z2,5", b"Z2,9"),
                "plan.xlsx": ours,
                "odd.json": b"[{",
            }
        )
        said = self.git("merge", "theirs", code=1)
        self.assertEqual(
            (self.folder / "fares.csv").read_bytes(),
            b"zone,fare\n<<<<<<< target\nZ1,8\n=======\nZ1,6\n>>>>>>> source\nZ2,9\nZ3,5\nZ4,5\nZ5,7\n",
        )
        self.assertIn("row “Z1”: fare was “5”; on the target it is “8”, on the source “6”", said)
        self.assertEqual((self.folder / "plan.xlsx").read_bytes(), ours)
        self.assertEqual((self.folder / "plan.source.xlsx").read_bytes(), theirs)
        self.assertIn("plan.xlsx is as in the target; the source is beside it: plan.source.xlsx", said)
        self.assertIn(b"<<<<<<< target\n[{", (self.folder / "odd.json").read_bytes())
        unmerged = {line.split("\t")[1] for line in self.git("ls-files", "-u").splitlines()}
        self.assertEqual(unmerged, {"fares.csv", "plan.xlsx", "odd.json"})
        self.git("merge", "--abort")

    def test_a_rebase_of_many_commits(self) -> None:
        def plan(*changed: int, renamed: bool = False) -> bytes:
            steps = [{"id": f"s{n}", "run": f"{'late' if n in changed else 'early'}-{n}.sql"} for n in range(20)]
            name = "Night plan" if renamed else "Plan"
            return json.dumps({"name": name, "steps": steps}).encode()

        self.tools("install")
        self.commit({"plan.json": plan()}, "Plan")
        self.git("checkout", "-q", "-b", "mine")
        for n in range(_REBASED):
            self.commit({"plan.json": plan(*range(n + 1))}, f"Step {n}")
        self.git("checkout", "-q", "main")
        self.commit({"plan.json": plan(renamed=True)}, "Another name")
        self.git("checkout", "-q", "mine")
        self.git("rebase", "-q", "main")
        self.assertEqual(self.git("rev-list", "--count", "main..mine").strip(), str(_REBASED))
        for back in (0, _REBASED // 2, _REBASED - 1):
            found = json.loads(self.git("show", "--no-textconv", f"mine~{back}:plan.json"))
            self.assertEqual(found, json.loads(plan(*range(_REBASED - back), renamed=True)))


class ContentNoteTests(ServiceCase):
    """In a clone of a shelf."""

    def setUp(self) -> None:
        super().setUp()
        self.large = os.urandom(1024) * 11_000
        self.put({"tides.bin": self.large, "small.txt": b"small\n"}, "Large")
        self.terminal = Terminal(self, self.service)
        signed = self.service.address.replace("//", f"//owner:{self.service.token()}@")
        run_git("clone", "-q", f"{signed}/git/{self.shelf.key}.git", "clone", folder=self.terminal.home)
        self.terminal.folder = self.clone = self.terminal.home / "clone"
        for name, value in (("EVERYSHELF_CONFIG", str(self.terminal.home / "config")),):
            os.environ[name] = value
            self.addCleanup(os.environ.pop, name, None)

    def git(self, *arguments: str) -> str:
        done = run_git(*arguments, folder=self.clone)
        return done.stdout + done.stderr

    def test_real_bytes_in_the_folder_and_notes_in_commits(self) -> None:
        self.assertIn("# Every Shelf content note", (self.clone / "tides.bin").read_text())
        self.terminal.run("git-tools", "install", "--notes")
        self.assertEqual((self.clone / "tides.bin").read_bytes(), self.large)
        self.assertEqual(self.git("status", "--short"), "")
        other = os.urandom(1024) * 12_000
        (self.clone / "waves.bin").write_bytes(other)
        self.git("add", "-A")
        self.git("commit", "-q", "-m", "Waves")
        self.assertIn("content note: the 12,288,000 bytes", self.git("show", "HEAD:waves.bin"))
        self.git("push", "-q")
        self.assertEqual(self.shelf.read("waves.bin"), other)
        self.git("checkout", "-q", "HEAD~1")
        self.git("checkout", "-q", "main")
        self.assertEqual((self.clone / "waves.bin").read_bytes(), other)
        (self.clone / "waves.bin").write_bytes(other + b"edited")
        self.terminal.run("git-tools", "uninstall")
        self.assertIn("# Every Shelf content note", (self.clone / "tides.bin").read_text())
        self.assertEqual(self.git("status", "--short"), " M waves.bin\n")
        self.assertFalse((self.clone / ".git/everyshelf").exists())

    def test_a_shelf_out_of_reach_keeps_nobody_from_working(self) -> None:
        self.terminal.run("git-tools", "install", "--notes")
        away = self.git("config", "remote.origin.url").strip().replace(str(self.service.port), "9")
        self.git("config", "remote.origin.url", away)
        (self.clone / "tides.bin").unlink()
        said = self.git("checkout", "--", "tides.bin")
        self.assertIn("tides.bin stays a content note", said)
        self.assertIn("# Every Shelf content note", (self.clone / "tides.bin").read_text())
        (self.clone / "more.bin").write_bytes(self.large + b"more")
        self.assertIn("more.bin goes into Git as it is", self.git("add", "-A"))
        self.git("commit", "-q", "-m", "More")
        os.utime(self.clone / "more.bin", (1, 1))
        self.assertEqual(self.git("status", "--short"), "")


class FilterProtocolTests(unittest.TestCase):
    """What is not Git on the other end."""

    def test_other_words_are_a_problem_in_words(self) -> None:
        for given in (b"", b"zzzz", b"0010git-fil", b"000ehello you\n0000"):
            with self.subTest(given):
                command = [sys.executable, "-P", "-m", "everyshelf.cli.main", "git-filter"]
                with tempfile.TemporaryDirectory(prefix="es-plain-") as folder:
                    run_git("init", "-q", folder=Path(folder))
                    done = subprocess.run(command, cwd=folder, input=given, capture_output=True, check=False)
                self.assertEqual(done.returncode, 1)
                self.assertIn(b"This is not what Git sends to a filter", done.stderr)
                self.assertNotIn(b"Traceback", done.stderr)
