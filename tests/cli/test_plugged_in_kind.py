"""A kind from another package, as docs/kinds-inside.md shows it: found through its entry point, used everywhere."""

from __future__ import annotations

import json
import os
import re
import subprocess
import sys
import tempfile
import unittest
from pathlib import Path
from typing import Any

DOCS = Path(__file__).parents[2] / "docs" / "kinds-inside.md"
BEFORE = "Quay 07:10 print-1\nSkerry 08:40 print-1\n"


def documented_module() -> str:
    """The example of the documentation, as somebody would copy it."""
    section = DOCS.read_text().partition("## A kind of your own")[2]
    blocks = re.findall(r"(?:^ {4}.*\n|^\n)+", section, re.MULTILINE)
    code = max(blocks, key=len)
    return "\n".join(line.removeprefix("    ") for line in code.splitlines())


class PluggedInKindTests(unittest.TestCase):
    """Installed beside the product, without a change to it."""

    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory(prefix="es-kind-")
        self.addCleanup(folder.cleanup)
        self.home = Path(folder.name)
        site = self.home / "site"
        (site / "skerry_tides-1.0.dist-info").mkdir(parents=True)
        (site / "skerry_tides-1.0.dist-info" / "METADATA").write_text(
            "Metadata-Version: 2.1\nName: skerry-tides\nVersion: 1.0\n"
        )
        (site / "skerry_tides-1.0.dist-info" / "entry_points.txt").write_text(
            "[everyshelf.kinds]\ntides = skerry_tides:KIND\n"
        )
        (site / "skerry_tides.py").write_text(documented_module())
        self.environment = {**os.environ, "PYTHONPATH": str(site), "NO_COLOR": "1"}

    def test_package_that_is_broken_is_named(self) -> None:
        module = self.home / "site" / "skerry_tides.py"
        for text, words in (
            ("import nowhere_to_be_found\n", "ModuleNotFoundError"),
            ("KIND = 5\n", "is not an everyshelf"),
        ):
            module.write_text(text)
            (self.home / "a.json").write_text("{}")
            command = [sys.executable, "-m", "everyshelf.cli.main", "outline", "a.json"]
            done = subprocess.run(
                command, cwd=self.home, env=self.environment, capture_output=True, text=True, check=False
            )
            self.assertEqual(done.returncode, 1, done.stderr)
            for expected in (words, "skerry-tides", "uninstall it"):
                self.assertIn(expected, done.stderr)
            self.assertNotIn("Traceback", done.stderr)

    def compare(self, after: str, *more: str, name: str = "april.tides") -> dict[str, Any]:
        for folder, text in (("old", BEFORE), ("new", after)):
            (self.home / folder).mkdir(exist_ok=True)
            (self.home / folder / name).write_text(text)
        command = [
            sys.executable,
            "-m",
            "everyshelf.cli.main",
            "compare-files",
            f"old/{name}",
            f"new/{name}",
            "--json",
            *more,
        ]
        done = subprocess.run(command, cwd=self.home, env=self.environment, capture_output=True, text=True, check=False)
        self.assertEqual(done.returncode, 0, done.stderr)
        return json.loads(done.stdout)

    def test_its_files_are_compared_in_its_terms(self) -> None:
        found = self.compare("Skerry 08:55 print-2\nQuay 07:10 print-2\n")
        self.assertEqual((found["kind"], found["read_as"]), ("tides", "tides"))
        told = {(f["part"], f["field"]): f["effect"] for f in found["findings"] if f["action"] == "changed"}
        self.assertEqual(
            told,
            {
                ("/port:Skerry", "high"): "alters",
                ("/port:Skerry", "printed"): "cosmetic",
                ("/port:Quay", "printed"): "cosmetic",
            },
        )

    def test_its_table_says_what_breaks(self) -> None:
        found = self.compare("Quay 07:10 print-1\n")
        self.assertEqual(
            [(f["action"], f["part"], f["effect"]) for f in found["findings"]], [("removed", "/port:Skerry", "breaks")]
        )

    def test_it_may_bring_a_comparison_of_its_own(self) -> None:
        module = self.home / "site" / "skerry_tides.py"
        module.write_text(
            documented_module()
            .replace("recognises)", "recognises, compare=compare)")
            .replace(
                "KIND = ",
                "from everyshelf.core.outline.model import Finding\n\n"
                "def compare(before, after, table):\n"
                "    sides = [len(list(one.root.children())) for one in (before, after)]\n"
                "    return [Finding('changed', '/', 'tides', 'ports', 'breaks', 'count', *sides)]\n\n"
                "KIND = ",
            )
        )
        found = self.compare("Quay 07:10 print-1\n")
        told = [(f["field"], f["before"], f["after"], f["effect"]) for f in found["findings"]]
        self.assertEqual(told, [("count", 2, 1, "breaks")])

    def test_it_may_say_what_follows_what_when_merging(self) -> None:
        (self.home / "site" / "skerry_tides.py").write_text(
            "from everyshelf.core.kinds.merge_policy import Follows, MergePolicy\n"
            "from everyshelf.core.kinds.recognise import Recognition\n"
            "from everyshelf.core.kinds.registry import Kind\n"
            "from everyshelf.core.kinds.table import KindTable\n"
            "FOLLOWS = Follows('result', of=('formula',), cleared={'result': None})\n"
            "KIND = Kind(KindTable(id='tides'), {}, lambda name, head: "
            "Recognition('tides', 'json') if name.endswith('.tides') else None, merge_policy=MergePolicy(FOLLOWS))\n"
        )
        base, target, source = (
            {"formula": formula, "result": result, "by": by}
            for formula, result, by in (("a+1", 1, "x"), ("a+1", 1, "y"), ("a+2", 2, "x"))
        )
        both = {**target, "formula": "a+3", "result": 3}
        for versions, merged in (
            ((base, target, source), {"formula": "a+2", "result": 2, "by": "y"}),
            ((source, both, source), {"formula": "a+3", "result": 3, "by": "y"}),
        ):
            for name, one in zip(("base", "target", "source"), versions, strict=True):
                (self.home / f"{name}.tides").write_text(json.dumps(one))
            names = [f"{name}.tides" for name in ("base", "target", "source")]
            command = [sys.executable, "-m", "everyshelf.cli.main", "merge-files", *names, "--output", "merged.tides"]
            done = subprocess.run(
                command, cwd=self.home, env=self.environment, capture_output=True, text=True, check=False
            )
            self.assertEqual(done.returncode, 0, done.stderr + done.stdout)
            self.assertEqual(json.loads((self.home / "merged.tides").read_text()), merged)

    def test_rules_may_declare_it(self) -> None:
        (self.home / "rules.toml").write_text('[kinds]\n"*.txt" = "tides"\n[fields]\nignore = ["printed"]\n')
        found = self.compare("Quay 07:10 print-9\nSkerry 08:40 print-9\n", "--rules", "rules.toml")
        self.assertEqual(found["findings"], [])


if __name__ == "__main__":
    unittest.main()
