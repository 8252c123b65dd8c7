"""Whom a breaking change breaks: exactly those who use exactly that part."""

from __future__ import annotations

import json
from typing import Any

import msgspec

from everyshelf.core.answers.findings import FindingAnswer
from tests.support.factories import ServiceCase, Terminal

TOOL = b"""cwlVersion: v1.2
class: CommandLineTool
baseCommand: clean
inputs: {log: File, limit: {type: int, default: 5}}
outputs: {table: File, rejects: File}
"""
FLOW = b"""cwlVersion: v1.2
class: Workflow
inputs: {logs: File}
outputs: {report: {type: File, outputSource: plot/picture}}
steps:
  tidy: {run: clean.cwl, in: {log: logs, limit: {default: 9}}, out: [table, rejects]}
  plot: {run: plot.cwl, in: {table: tidy/table}, out: [picture]}
"""
QUIET = FLOW.replace(b", limit: {default: 9}", b"").replace(b"tidy/table", b"tidy/rejects")
FARES = b"zone,price,class\n" + b"".join(b"%d,%d.50,adult\n" % (n, n) for n in range(1, 30))
SCRIPT = b"import csv\nwith open('data/fares.csv') as file:\n    total = sum(float(r['price']) for r in csv.DictReader(file))\n"
OTHER = b"import csv\nwith open('data/fares.csv') as file:\n    zones = {r['zone'] for r in csv.DictReader(file)}\n"


class UsersTests(ServiceCase):
    """Pipelines by their wiring, tables by the names of their columns."""

    def setUp(self) -> None:
        super().setUp()
        self.put(
            {
                "flows/clean.cwl": TOOL,
                "flows/delays.cwl": FLOW,
                "flows/quiet.cwl": QUIET,
                "data/fares.csv": FARES,
                "scripts/total.py": SCRIPT,
                "scripts/zones.py": OTHER,
                "notes.md": b"# Fares\n\nThe price of a zone is decided in May.\n",
            }
        )
        self.shelf.make_tag("one")

    def users(self, path: str, data: bytes | None) -> dict[str, list[tuple[str, str, bool]]]:
        """Part -> (artifact, place, exact) of each use, after a change of one artifact."""
        self.put({path: data}, "A change that breaks")
        found = self.shelf.compare("tag:one", "main")
        rows = next(a.findings for a in found.artifacts if a.path == path)
        return {f.part: [(u.artifact, u.place, u.exact) for u in f.used_by] for f in rows}

    def test_removed_input_names_the_steps_that_give_it(self) -> None:
        found = self.users("flows/clean.cwl", TOOL.replace(b", limit: {type: int, default: 5}", b""))
        self.assertEqual(found, {"/input:limit": [("flows/delays.cwl", "/step:tidy/source:limit", True)]})

    def test_removed_output_names_those_who_take_it(self) -> None:
        found = self.users("flows/clean.cwl", TOOL.replace(b"table: File, ", b""))
        self.assertEqual(found, {"/output:table": [("flows/delays.cwl", "/step:plot/source:table", True)]})

    def test_new_input_without_default_hits_everybody(self) -> None:
        found = self.users("flows/clean.cwl", TOOL.replace(b"{log: File,", b"{log: File, season: string,"))
        self.assertEqual(
            found,
            {"/input:season": [("flows/delays.cwl", "/step:tidy", True), ("flows/quiet.cwl", "/step:tidy", True)]},
        )

    def test_removed_column_names_scripts_that_read_it_and_marks_guesses(self) -> None:
        without = b"zone,class\n" + b"".join(b"%d,adult\n" % n for n in range(1, 30))
        found = self.users("data/fares.csv", without)
        told = [use for uses in found.values() for use in uses]
        self.assertEqual({artifact for artifact, _, _ in told}, {"scripts/total.py"})
        self.assertEqual({exact for *_, exact in told}, {False})

    def test_change_that_breaks_nothing_names_nobody(self) -> None:
        found = self.users("flows/clean.cwl", TOOL.replace(b"clean\n", b"clean -v\n"))
        self.assertEqual(list(found.values()), [[]])

    def test_removed_artifact_names_who_still_refers_to_it(self) -> None:
        found = self.users("flows/clean.cwl", None)
        self.assertEqual([artifact for artifact, _, _ in found["/"]], ["flows/delays.cwl", "flows/quiet.cwl"])

    def test_one_artifact_and_a_rehearsal_say_the_same(self) -> None:
        self.shelf.make_environment("test")
        self.shelf.wait(self.shelf.promote("one", "test"))
        expected = self.users("flows/clean.cwl", TOOL.replace(b"table: File, ", b""))
        self.shelf.make_tag("two")
        single = self.shelf.compare_artifact("flows/clean.cwl", "tag:one", "main")
        rehearsed: Any = next(
            a for a in self.shelf.rehearse("two", "test")["artifacts"] if a["path"] == "flows/clean.cwl"
        )
        for findings in (single.findings, msgspec.convert(rehearsed["findings"], list[FindingAnswer])):
            told = {f.part: [(u.artifact, u.place, u.exact) for u in f.used_by] for f in findings}
            self.assertEqual(told, expected)

    def test_command_line_prints_who_is_hit(self) -> None:
        self.users("flows/clean.cwl", TOOL.replace(b"table: File, ", b""))
        terminal = Terminal(self, self.service)
        shown = terminal.run("compare", "tag:one", "main", "--shelf", self.shelf.key).stdout
        self.assertRegex(shown, r"used by +delays\.cwl +plot/table")
        found = terminal.json("compare", "tag:one", "main", "--shelf", self.shelf.key)
        self.assertIn("plot/table", json.dumps(found))
