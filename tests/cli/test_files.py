"""``compare-files`` and ``outline``: no service, no desk; run as real processes."""

from __future__ import annotations

import json
import os
import subprocess
import sys
import tempfile
import unittest
from pathlib import Path
from typing import Any


class FilesTests(unittest.TestCase):
    """What a person gets from two files."""

    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)

    def file(self, name: str, data: bytes | str) -> str:
        path = self.folder / name
        path.write_bytes(data if isinstance(data, bytes) else data.encode())
        return str(path)

    def run_command(self, *arguments: str, code: int = 0) -> subprocess.CompletedProcess[str]:
        done = subprocess.run(
            [sys.executable, "-m", "everyshelf.cli.main", *arguments],
            capture_output=True,
            text=True,
            timeout=60,
            check=False,
            env={**os.environ, "NO_COLOR": "1"},
        )
        self.assertEqual(done.returncode, code, done.stdout + done.stderr)
        return done

    def compare(self, old: str, new: str, *options: str, code: int = 0) -> Any:
        return json.loads(self.run_command("compare-files", old, new, *options, "--json", code=code).stdout)

    def test_layout_only_gives_nothing_but_cosmetic(self) -> None:
        tree = {"name": "load", "steps": [{"id": "a", "run": "x"}, {"id": "b", "after": ["a"]}], "limit": 3}
        turned = {"limit": 3.0, "steps": [{"run": "x", "id": "a"}, {"after": ["a"], "id": "b"}], "name": "load"}
        pairs = [
            (self.file("a.json", json.dumps(tree)), self.file("b.json", json.dumps(turned, indent=4))),
            (self.file("a.yaml", "a: 1\nb: [x, y]\n"), self.file("b.yaml", "# note\nb:\n    - x\n    - 'y'\na: 1\n")),
            (
                self.file("a.xml", "<a x='1' y='2'><b id='1'/><b id='2'/></a>"),
                self.file("b.xml", "<a y='2'\n x='1'>\n<b id='2'/>\n<b id='1'/></a>\n"),
            ),
        ]
        for old, new in pairs:
            found = self.compare(old, new, "--fail-on", "alters")
            self.assertEqual([f for f in found["findings"] if f["effect"] != "cosmetic"], [], new)

    def test_one_nested_value_is_exactly_that_finding(self) -> None:
        old = self.file(
            "a.yaml", "routes:\n- code: AB\n  stops: {first: Aldwick, last: Brae}\n- code: CD\n  stops: {}\n"
        )
        new = self.file(
            "b.yaml", "routes:\n- code: CD\n  stops: {}\n- code: AB\n  stops: {last: Corran, first: Aldwick}\n"
        )
        found = self.compare(old, new)
        changed = [f for f in found["findings"] if f["action"] == "changed"]
        self.assertEqual(
            [(f["part"], f["field"], f["before"], f["after"]) for f in changed],
            [("/route:AB/group:stops", "last", "Brae", "Corran")],
        )
        self.assertEqual(
            set(found),
            {"kind", "equal", "counts", "effects", "judged", "findings", "read_as", "note", "identity", "truncated"},
        )

    def test_fail_on_sets_the_exit_code(self) -> None:
        old, new = self.file("a.csv", "id,x\n1,2\n"), self.file("b.csv", "id\n1\n")
        for level, code in (("breaks", 6), ("alters", 6), ("any", 6)):
            self.compare(old, new, "--fail-on", level, code=code)
        self.compare(old, old, "--fail-on", "any")

    def test_mistakes_are_explained(self) -> None:
        old = self.file("a.csv", "id,x\n1,2\n")
        self.assertIn("does not exist", self.run_command("compare-files", old, "none.csv", code=2).stderr)
        done = self.run_command(
            "compare-files", old, self.file("b.csv", "id,x\n1,3\n"), "--key", "zone", "--json", code=1
        )
        self.assertEqual(json.loads(done.stdout)["problem"]["code"], "key.missing")
        self.assertIn("Columns in both: id, x", done.stderr)
        rules = self.file("shelf.toml", "[kinds]\n'*' = 'thing'\n")
        self.assertIn("is not a kind", self.run_command("compare-files", old, old, "--rules", rules, code=1).stderr)
        self.assertNotIn("Traceback", done.stderr)

    def test_hostile_file_costs_one_answer(self) -> None:
        bomb = "a: &a [x, x]\n" + "".join(
            f"k{n}: &k{n} [{', '.join(['*a' if n == 0 else f'*k{n - 1}'] * 60)}]\n" for n in range(9)
        )
        found = self.compare(self.file("a.yaml", bomb), self.file("b.yaml", bomb + "z: 1\n"))
        self.assertEqual(found["read_as"], "text")
        deep = self.compare(self.file("a.json", "[" * 100_000), self.file("b.json", "[" * 100_001))
        self.assertEqual(deep["read_as"], "text")

    def test_worker_is_ended_at_its_limits(self) -> None:
        from everyshelf.core.reading.messages import FileAt
        from everyshelf.core.reading.worker import Worker

        big = self.folder / "big.json"
        big.write_text("[" + ",".join('{"id": %d, "v": [1, 2, 3]}' % n for n in range(400_000)) + "]")
        other = self.folder / "other.json"
        other.write_text(big.read_text().replace('"id": 7,', '"id": 8888888,'))
        small = (self.folder / "s.json", self.folder / "t.json")
        for path, text in zip(small, ('{"a": 1}', '{"a": 2}'), strict=True):
            path.write_text(text)
        for limits in ({"deadline_seconds": 0.3}, {"memory_bytes": 220 * 1024 * 1024}):
            worker = Worker(**limits)
            found = worker.compare(FileAt("a.json", str(big)), FileAt("a.json", str(other)))
            self.assertIn(found.read_as, ("text", "bytes"))
            self.assertRegex(found.note, "over 0.3 seconds|more memory")
            worker.close()
            worker = Worker()
            before, after = (FileAt("a.json", str(path)) for path in small)
            self.assertEqual(worker.compare(before, after).counts["changed"], 1)
            worker.close()

    def test_outline_names_kind_and_parts(self) -> None:
        found = json.loads(
            self.run_command(
                "outline", self.file("flow.cwl", "cwlVersion: v1.2\nsteps:\n  load: {run: a.cwl}\n"), "--json"
            ).stdout
        )
        self.assertEqual((found["kind"], found["parts"][0]["path"]), ("pipeline", "/step:load"))
        self.assertIn(
            "pipeline", self.run_command("outline", self.file("flow.cwl", "cwlVersion: v1.2\nsteps: {}\n")).stdout
        )
