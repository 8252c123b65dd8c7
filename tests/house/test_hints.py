"""Every command that a message, a hint or a document names exists, with the options it names."""

from __future__ import annotations

import ast
import re
import unittest
from collections.abc import Iterator
from pathlib import Path

import click

ROOT = Path(__file__).parents[2]
_NAMED = re.compile(r"everyshelf ((?:[a-z][a-z-]*)(?: [a-z][a-z-]*)?)((?:(?!everyshelf )[^\n|`;()])*)")
_OPTION = re.compile(r"(?<![\w-])--[a-z][a-z-]*")


def texts_of(path: Path) -> Iterator[tuple[int, str]]:
    """Every text of a module; what a formatted one puts in stands as X."""
    for node in ast.walk(ast.parse(path.read_text())):
        if isinstance(node, ast.JoinedStr):
            yield node.lineno, "".join(str(v.value) if isinstance(v, ast.Constant) else "X" for v in node.values)
        elif isinstance(node, ast.Constant) and isinstance(node.value, str):
            yield node.lineno, node.value


def wrong_in(text: str) -> list[str]:
    """What a text names that is not there."""
    from everyshelf.cli.main import cli

    found, context = [], click.Context(cli)
    for match in _NAMED.finditer(text):
        first, _, second = match[1].partition(" ")
        command = cli.get_command(context, first)
        if command is None:
            continue  # "everyshelf" in a sentence, or a module
        if isinstance(command, click.Group):
            inner = command.get_command(context, second)
            if second and inner is None:
                found.append(f"everyshelf {match[1]}")
            if inner is None:
                continue
            command = inner
        known = {o for p in command.params for o in (*p.opts, *p.secondary_opts)} | {"--help"}
        before_dashes = match[2].split(" -- ")[0]
        found += [f"everyshelf {match[1]} {o}" for o in _OPTION.findall(before_dashes) if o not in known]
    return found


class HintTests(unittest.TestCase):
    """A hint that cannot be pasted is worse than none."""

    def test_every_command_named_in_the_code_exists(self) -> None:
        named = 0
        for path in sorted((ROOT / "src/everyshelf").rglob("*.py")):
            for line, text in texts_of(path):
                named += "everyshelf " in text
                self.assertEqual(wrong_in(text), [], f"{path.name}:{line}")
        self.assertGreater(named, 100)

    def test_every_command_named_in_the_documents_exists(self) -> None:
        for page in (ROOT / "README.md", *sorted((ROOT / "docs").glob("*.md"))):
            for number, line in enumerate(page.read_text().split("\n"), 1):
                self.assertEqual(wrong_in(line), [], f"{page.name}:{number}")

    def test_every_command_named_in_the_console_exists(self) -> None:
        for page in sorted((ROOT / "console/src").rglob("*.tsx")):
            self.assertEqual(wrong_in(page.read_text()), [], page.name)


if __name__ == "__main__":
    unittest.main()
