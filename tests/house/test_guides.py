"""Every command and every example of the guides works, and prints what the page says it prints."""

from __future__ import annotations

import re
import unittest
from pathlib import Path

from tests.support.guide import ROOT, Run, blocks, comparable, running

_LINK = re.compile(r"\]\((?!https?:)([^)#]+)(#[^)]*)?\)")


class GuideTests(unittest.TestCase):
    """From an empty service, as a newcomer would."""

    def follow(self, page: str) -> None:
        with running() as run:
            wanted = blocks((ROOT / "docs" / page).read_text())
            self.assertGreater(sum(b.output is not None for b in wanted), 2, page)
            for block in wanted:
                self._try(run, page, block)

    def _try(self, run: Run, page: str, block: object) -> None:
        code, text = run.told(block)  # type: ignore[arg-type]
        self.assertEqual(code, block.code, f"{page}:\n{block.commands}\n{text}")  # type: ignore[attr-defined]
        if block.output is not None:  # type: ignore[attr-defined]
            told = f"{page}: run python -m tests.support.guide docs/{page}\n{block.commands}"  # type: ignore[attr-defined]
            self.assertEqual(comparable(text), comparable(block.output), told)  # type: ignore[attr-defined]

    def test_data_analyst(self) -> None:
        self.follow("guides/data-analyst.md")

    def test_low_code_analyst(self) -> None:
        self.follow("guides/low-code-analyst.md")

    def test_release_manager(self) -> None:
        self.follow("guides/release-manager.md")

    def test_administrator(self) -> None:
        self.follow("guides/administrator.md")

    def test_git(self) -> None:
        self.follow("guides/git.md")

    def test_client(self) -> None:
        self.follow("client.md")

    def test_data_tools(self) -> None:
        self.follow("data-tools.md")

    def test_queries(self) -> None:
        self.follow("queries.md")

    def test_api(self) -> None:
        self.follow("api.md")


class PageTests(unittest.TestCase):
    """Pages lead somewhere."""

    def test_every_link_leads_to_a_file(self) -> None:
        for page in (ROOT / "README.md", *sorted((ROOT / "docs").rglob("*.md"))):
            for link in _LINK.finditer(page.read_text()):
                target = page.parent / link.group(1)
                self.assertTrue(target.exists(), f"{page.relative_to(ROOT)} links to {link.group(1)}")

    def test_every_page_is_reached_from_the_readme(self) -> None:
        seen: set[Path] = set()
        todo = [ROOT / "README.md"]
        while todo:
            page = todo.pop().resolve()
            if page in seen or page.suffix != ".md":
                continue
            seen.add(page)
            todo += [page.parent / link.group(1) for link in _LINK.finditer(page.read_text())]
        lost = [p.name for p in (ROOT / "docs").rglob("*.md") if p.resolve() not in seen and "decisions" not in p.parts]
        self.assertEqual(lost, [])

    def test_codes_that_are_explained_exist(self) -> None:
        known = (ROOT / "docs/errors.md").read_text()
        for code in re.findall(r"\(`([a-z_]+\.[a-z_]+)`\)", (ROOT / "docs/troubleshooting.md").read_text()):
            self.assertIn(f"| `{code}` |", known, code)


if __name__ == "__main__":
    unittest.main()
