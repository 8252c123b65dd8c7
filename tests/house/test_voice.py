"""What people read is plain English: the words that read as translated stay out of every text of the product."""

from __future__ import annotations

import ast
import re
import unittest
from collections.abc import Iterator
from pathlib import Path

ROOT = Path(__file__).parents[2]
SOURCE = ROOT / "src" / "everyshelf"
BANNED = re.compile(
    r"\b(?:anew|besides|mend(?:s|ed)?|noughts?|worthless|somebody|everybody|in one act|by commas"
    r"|put(?:s|ting)? in place|(?:bring|brings|brought|bringing) (?:\w+ )?back|g(?:ive|iven|ave|iving) (?:\w+ ){0,2}up"
    r"|(?<!here )(?:is|are) no (?!longer|more|one)|holds? it|hold it|looks? whether|takes? back|took back)\b",
    re.IGNORECASE,
)
# A trade's own word, or the text of another program.
FINE = {"lookup"}


def told_by(path: Path) -> Iterator[tuple[int, str]]:
    """Every text of a module that people meet: what it raises, prints, shows as help or description; no docstrings."""
    tree = ast.parse(path.read_text())
    shown = [n for n in ast.walk(tree) if isinstance(n, ast.Call)]
    for call in shown:
        for value in [*call.args, *(k.value for k in call.keywords)]:
            for node in ast.walk(value):
                if isinstance(node, ast.Constant) and isinstance(node.value, str) and " " in node.value:
                    yield node.lineno, node.value


# Names that were given up; a changelog and a migration may tell of them, nothing else.
OLD_NAMES = re.compile(
    r"agree[- ]if|not-yet|--prefer (?:this|other)|--take (?:this|other)|--give-up|--with-needed|--agrees|--holds\b|--drop\b|put-draft|bring-back"
    r"|gate\.held|proposal\.held|parcel\.json|\b8321\b|versions/KEY|controlUniqueId|branch drop|--why\b|--say\b|\{this\}"
    r"|\[\"said\"\]|\"said\":|display_name\(|displayName\("
)


class VoiceTests(unittest.TestCase):
    """See also the guide in CONTRIBUTING.md."""

    def wrong(self, name: str, texts: Iterator[tuple[int, str]] | list[tuple[int, str]]) -> list[str]:
        found = []
        for line, text in texts:
            for match in BANNED.finditer(text):
                if match[0].lower() not in FINE:
                    found.append(f"{name}:{line}: {match[0]!r} in {text.strip()[:100]!r}")
        return found

    def test_old_names_are_gone(self) -> None:
        pages = [ROOT / "README.md", ROOT / "ARCHITECTURE.md", ROOT / "CONTRIBUTING.md", *(ROOT / "docs").rglob("*.*")]
        pages += [p for p in SOURCE.rglob("*.py") if "migrations" not in p.parts]
        pages += [p for end in ("*.ts", "*.tsx") for p in (ROOT / "console/src").rglob(end)]
        for page in pages:
            if page.suffix != ".png" and "decisions" not in page.parts and page.is_file():
                found = OLD_NAMES.search(page.read_text())
                self.assertIsNone(found, f"{page.name}: {found[0] if found else ''}")

    def test_messages_and_help(self) -> None:
        wrong = [
            said
            for path in sorted(SOURCE.rglob("*.py"))
            if "/demo/" not in str(path) and "/migrations/" not in str(path)
            for said in self.wrong(str(path.relative_to(SOURCE)), sorted(set(told_by(path))))
        ]
        self.assertEqual(wrong, [])

    def test_help_of_every_command(self) -> None:
        from tests.support.command_page import section

        self.assertEqual(self.wrong("help", list(enumerate(section().split("\n"), 1))), [])

    def test_the_interface_description(self) -> None:
        lines = (ROOT / "docs/openapi.yaml").read_text().split("\n")
        self.assertEqual(self.wrong("openapi.yaml", list(enumerate(lines, 1))), [])

    def test_documents(self) -> None:
        pages = [ROOT / "README.md", *sorted((ROOT / "docs").rglob("*.md"))]
        wrong = [
            said for page in pages for said in self.wrong(page.name, list(enumerate(page.read_text().split("\n"), 1)))
        ]
        self.assertEqual(wrong, [])

    def test_the_console(self) -> None:
        wrong = []
        for path in sorted((ROOT / "console/src").rglob("*.tsx")):
            lines = [
                (n, line)
                for n, line in enumerate(path.read_text().split("\n"), 1)
                if not line.lstrip().startswith(("//", "/*", "*"))
            ]
            wrong += self.wrong(str(path.relative_to(ROOT)), lines)
        self.assertEqual(wrong, [])


if __name__ == "__main__":
    unittest.main()
