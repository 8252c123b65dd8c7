"""Documents, schema and records cannot drift from the code."""

from __future__ import annotations

import os
import re
import subprocess
import sys
import tempfile
import unittest
from pathlib import Path

from tests.cuts import CUTS

ROOT = Path(__file__).parents[2]
ERRORS = ROOT / "docs" / "errors.md"


def django(*arguments: str) -> subprocess.CompletedProcess[str]:
    with tempfile.TemporaryDirectory() as data:
        environment = {**os.environ, "EVERYSHELF_DATA": data, "DJANGO_SETTINGS_MODULE": "everyshelf.service.settings"}
        return subprocess.run(
            [sys.executable, "-m", "django", *arguments],
            env=environment,
            capture_output=True,
            text=True,
            check=False,
            cwd=ROOT,
        )


class DriftTests(unittest.TestCase):
    """What is generated is checked in, and is current."""

    def test_openapi_document_is_current(self) -> None:
        with tempfile.NamedTemporaryFile(suffix=".yaml") as file:
            done = django("spectacular", "--validate", "--fail-on-warn", "--file", file.name)
            self.assertEqual(done.returncode, 0, done.stderr[-2000:])
            self.assertEqual(Path(file.name).read_text(), (ROOT / "docs/openapi.yaml").read_text(), "run: make schema")

    def test_every_cut_finds_its_place(self) -> None:
        lost = [str(cut) for cut in CUTS if cut.old not in (ROOT / "src/everyshelf" / cut.file).read_text()]
        self.assertEqual(lost, [], "tests/cuts.py names code that is not there")

    def test_migrations_are_complete(self) -> None:
        done = django("makemigrations", "--check", "--dry-run")
        self.assertEqual(done.returncode, 0, done.stdout)

    def test_every_error_code_is_documented(self) -> None:
        used: set[str] = set()
        for path in (ROOT / "src/everyshelf").rglob("*.py"):
            used |= set(re.findall(r'code\s*=\s*"([a-z_]+\.[a-z_]+)"', path.read_text()))
        documented = set(re.findall(r"^\| `([a-z_.]+)`", ERRORS.read_text(), re.MULTILINE))
        self.assertEqual(used - documented, set(), "add them to docs/errors.md")

    def test_the_command_reference_is_current(self) -> None:
        from tests.support.command_page import END, PAGE, START, section
        from tests.support.kind_page import parts_between

        self.assertEqual(parts_between(PAGE.read_text(), START, END)[1], section(), "run: make commands")

    def test_every_operation_says_what_it_does_and_how_it_fails(self) -> None:
        """By name of its object, so that a list of operations can be read."""
        import yaml

        document = yaml.safe_load((ROOT / "docs/openapi.yaml").read_text())
        operations = [o for methods in document["paths"].values() for o in methods.values()]
        for operation in operations:
            with self.subTest(operation["operationId"]):
                self.assertGreaterEqual(len(operation["summary"].split()), 2)
                self.assertTrue(operation["description"].startswith(operation["summary"].split(";")[0][:20]))
                self.assertTrue(any(status.startswith("4") for status in operation["responses"]))
        summaries = [operation["summary"] for operation in operations]
        self.assertEqual(sorted(summaries), sorted(set(summaries)), "two operations are described alike")

    def test_every_operation_has_an_example_of_what_it_takes_and_gives(self) -> None:
        """And each is valid by the schema beside it."""
        import yaml
        from jsonschema import Draft202012Validator

        document = yaml.safe_load((ROOT / "docs/openapi.yaml").read_text())
        for path, methods in document["paths"].items():
            for method, operation in methods.items():
                self.assertTrue(all("example" in p for p in operation.get("parameters", [])), (method, path))
                answers = [a for status, a in operation["responses"].items() if status.startswith("2")]
                for holder in (operation.get("requestBody", {}), *answers):
                    media = holder.get("content", {}).get("application/json")
                    if media is None:
                        continue
                    schema = {**media["schema"], "components": document["components"]}
                    wrong = [e.message for e in Draft202012Validator(schema).iter_errors(media["example"])]
                    self.assertEqual(wrong, [], (method, path))

    def test_the_rules_that_are_shown_are_valid(self) -> None:
        """The examples of docs/rules.md together are one shelf.toml."""
        from everyshelf.core.kinds.rules import parse_rules

        lines = (ROOT / "docs/rules.md").read_text().splitlines()
        rules = parse_rules("\n".join(line[4:] for line in lines if line.startswith("    ")))
        self.assertEqual(rules.kind_for("feeds/gate.dat"), "dataset")

    def test_every_setting_is_documented(self) -> None:
        page = (ROOT / "docs/running.md").read_text()
        source = (ROOT / "src/everyshelf/service/base/config.py").read_text()
        for name in re.findall(r"^(EVERYSHELF_[A-Z_]+)  ", source, re.MULTILINE):
            self.assertIn(name, page)

    def test_every_kind_table_is_mirrored(self) -> None:
        from tests.support.kind_page import END, PAGE, START, parts_between, section

        self.assertEqual(parts_between(PAGE.read_text(), START, END)[1], section(), "run `make kinds`")

    def test_readme_links_every_picture(self) -> None:
        readme = (ROOT / "README.md").read_text()
        pictures = sorted((ROOT / "docs/screenshots").glob("*.png"))
        self.assertTrue(5 <= len(pictures) < 20)
        for picture in pictures:
            self.assertIn(f"docs/screenshots/{picture.name}", readme)
