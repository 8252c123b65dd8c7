"""How the command line speaks: columns, widths, times, one JSON document, and help for everything."""

from __future__ import annotations

import io
import json
import os
import subprocess
import sys
import unittest
from contextlib import redirect_stdout
from datetime import UTC, datetime, timedelta
from typing import Any
from unittest import mock

import msgspec

from everyshelf.cli import terminal
from everyshelf.cli.findings import print_artifact
from everyshelf.cli.main import COMMANDS, cli
from everyshelf.core.answers.comparisons import ComparisonAnswer
from everyshelf.core.answers.findings import FindingAnswer


def printed(act: Any) -> str:
    out = io.StringIO()
    with redirect_stdout(out):
        act()
    return out.getvalue()


# Git reads what these write, or shows it as it is.
_CALLED_BY_GIT = ("git-filter", "git-tools compare", "git-tools text", "git-tools merge")


class TerminalTests(unittest.TestCase):
    """Columns hold whatever stands in them."""

    def test_cells_start_at_their_columns(self) -> None:
        text = terminal.line((2, "a"), (13, "kind"), (23, "name"), (46, "detail"))
        self.assertEqual([text.index(w) for w in ("a", "kind", "name", "detail")], [2, 13, 23, 46])

    def test_long_cells_push_by_one_blank(self) -> None:
        self.assertEqual(terminal.line((0, "abcdef"), (3, "x")), "abcdef x")

    def test_wide_characters_count_twice(self) -> None:
        self.assertEqual(terminal.width_of("時刻"), 4)
        self.assertEqual(terminal.width_of("e\u0301"), 1)
        self.assertEqual(terminal.line((0, "時刻"), (6, "x")), "時刻  x")

    def test_long_names_are_cut_with_an_ellipsis(self) -> None:
        self.assertEqual(terminal.cut("nightly sailings load", 10), "nightly s…")
        self.assertEqual(terminal.cut("時刻表時刻表", 7), "時刻表…")
        self.assertEqual(terminal.cut("two\nlines  here", 40), "two lines here")

    def test_sizes_and_counts_have_units(self) -> None:
        for number, text in (
            (0, "0 B"),
            (999, "999 B"),
            (1500, "1.5 KB"),
            (48_000, "48 KB"),
            (1_900_000_000, "1.9 GB"),
        ):
            self.assertEqual(terminal.size(number), text)
        self.assertEqual(
            (terminal.count(1, "branch", "branches"), terminal.count(2, "branch", "branches")),
            ("1 branch", "2 branches"),
        )

    def test_times_are_told_as_people_do(self) -> None:
        now = datetime.now(UTC)
        self.assertTrue(terminal.when(now).startswith("today "))
        self.assertRegex(terminal.when(now - timedelta(days=3)), r"^[A-Z][a-z]{2} \d\d:\d\d$")
        self.assertRegex(terminal.when(now - timedelta(days=900)), r"^\d+ [A-Z][a-z]{2} \d{4}$")

    def test_nothing_is_coloured_in_a_pipe(self) -> None:
        text = printed(lambda: terminal.row("edited", "dataset", "fares", "v37"))
        self.assertEqual(text, "  ≠ edited   dataset   fares                  v37\n")
        self.assertNotIn("\x1b", text)
        self.assertEqual(terminal.stops("not met"), "NOT MET")

    def test_colours_follow_the_terminal(self) -> None:
        with (
            mock.patch.object(terminal, "_coloured", return_value=True),
            mock.patch.dict(os.environ, {"COLORTERM": "truecolor"}),
        ):
            self.assertIn("\x1b[38;2;111;221;230m", terminal.tone("added", "+"))
            self.assertIn("\x1b[7m", terminal.stops("breaks"))
        with (
            mock.patch.object(terminal, "_coloured", return_value=True),
            mock.patch.dict(os.environ, {"COLORTERM": ""}),
        ):
            self.assertIn("\x1b[36m", terminal.tone("added", "+"))

    def test_findings_stand_in_columns(self) -> None:
        finding = {
            "action": "changed",
            "part": "/step:a",
            "type": "step",
            "label": "Approve notice",
            "field": "assignee",
            "before": "duty officer",
            "after": "harbour master",
            "effect": "alters",
        }
        self.assertIn(
            "\n    ≠ step        Approve notice              assignee duty officer → harbour master\n",
            self.told(finding),
        )
        removed = {
            **finding,
            "action": "removed",
            "field": None,
            "before": {"run": "a"},
            "after": None,
            "effect": "breaks",
        }
        self.assertTrue(self.told(removed).endswith("BREAKS  run a\n"))

    def told(self, *findings: dict[str, Any], whole: bool = False) -> str:
        found = ComparisonAnswer(
            kind="workflow",
            equal=False,
            counts={},
            effects={"alters": 1},
            judged=True,
            findings=msgspec.convert(findings, list[FindingAnswer]),
            read_as="workflow",
            note="",
            identity={},
            truncated=False,
        )
        return printed(lambda: print_artifact(found, "flow.bpmn", "", whole=whole))

    def test_one_artifact_is_told_with_whole_values(self) -> None:
        before, after = "select *\nfrom sailings\nwhere late > 5\n", "select *\nfrom sailings\nwhere late > 9\n"
        step = {"action": "changed", "part": "/class:A/step:a", "type": "step", "effect": "alters"}
        long = {**step, "label": "query", "field": "text", "before": before, "after": after, "within": "class Harbour"}
        text = self.told(long, whole=True)
        self.assertIn("in class Harbour\n", text)
        for line in ("  from sailings", "− where late > 5", "+ where late > 9"):
            self.assertIn(f"        {line}\n", text)
        value = "a word " * 60
        self.assertIn(value.strip(), self.told({**step, "label": "b", "field": "c", "before": "x", "after": value}))


class HelpTests(unittest.TestCase):
    """Everything explains itself."""

    def test_every_command_has_help_that_names_its_options(self) -> None:
        import click

        for name in COMMANDS:
            command = cli.get_command(click.Context(cli), name)
            assert command is not None
            todo = [(name, command)]
            while todo:
                path, found = todo.pop()
                self.assertTrue((found.help or "").strip(), path)
                for parameter in found.params:
                    if isinstance(parameter, click.Option):
                        self.assertTrue(
                            parameter.help or parameter.name in ("scopes", "days", "data", "port"),
                            f"{path} {parameter.name}",
                        )
                if isinstance(found, click.Group):
                    todo += [(f"{path} {n}", c) for n, c in found.commands.items()]
                elif path not in ("serve", "demo", *_CALLED_BY_GIT):
                    self.assertIn("as_json", [p.name for p in found.params], path)

    def test_wrong_usage_has_one_code_and_a_hint(self) -> None:
        for arguments in (["comit"], ["commit"], ["history", "--limit", "none"], ["env"], ["compare-files", "a"]):
            done = subprocess.run(
                [sys.executable, "-m", "everyshelf.cli.main", *arguments],
                capture_output=True,
                text=True,
                check=False,
                env={**os.environ, "EVERYSHELF_CONFIG": "/nonexistent"},
            )
            self.assertEqual(done.returncode, 2, arguments)
            self.assertNotIn("Traceback", done.stderr)

    def test_errors_are_one_json_document_too(self) -> None:
        done = subprocess.run(
            [sys.executable, "-m", "everyshelf.cli.main", "pending", "--json"],
            capture_output=True,
            text=True,
            check=False,
            cwd="/",
        )
        self.assertEqual(done.returncode, 1)
        self.assertEqual(json.loads(done.stdout)["problem"]["code"], "desk.missing")
        self.assertIn("everyshelf take", done.stderr)
