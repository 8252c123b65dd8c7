"""Imports point one way, and a quick start stays quick."""

from __future__ import annotations

import ast
import subprocess
import sys
import unittest
from pathlib import Path

SOURCE = Path(__file__).parents[2] / "src" / "everyshelf"
FLOORS = [
    "errors",
    "content",
    "outline",
    "formats",
    "tables",
    "kinds",
    "compare",
    "merge",
    "editing",
    "history",
    "databases",
    "promotion",
    "parcel",
]
FLOORS += ["drawing", "report", "runs", "unfolding", "reading"]
# A part may import what is listed, and itself.
ALLOWED = {
    "core": set(),
    "client": set(),
    "desk": {"core", "client"},
    "cli": {"core", "client", "desk", "demo"},
    "demo": {"client"},
    "service": {"core", "destinations"},
    "destinations": {"core"},
    "standin": set(),
}
FOREIGN = {
    "core": {"django", "rest_framework", "httpx", "click"},
    "client": {"django", "rest_framework", "click"},
    "destinations": {"django", "rest_framework", "click"},
    "desk": {"django", "rest_framework", "click"},
}


def imports_of(path: Path) -> set[str]:
    """Absolute names a module imports, wherever in it."""
    found: set[str] = set()
    for node in ast.walk(ast.parse(path.read_text())):
        if isinstance(node, ast.Import):
            found |= {a.name for a in node.names}
        elif isinstance(node, ast.ImportFrom) and node.module and not node.level:
            found.add(node.module)
    return found


class ArrowTests(unittest.TestCase):
    """The directions of ARCHITECTURE.md."""

    def modules(self, part: str) -> list[Path]:
        return sorted((SOURCE / part).rglob("*.py"))

    def test_parts_import_only_what_they_may(self) -> None:
        for part, allowed in ALLOWED.items():
            for path in self.modules(part):
                for name in imports_of(path):
                    if not name.startswith("everyshelf."):
                        self.assertNotIn(name.split(".")[0], FOREIGN.get(part, set()), f"{path} imports {name}")
                        continue
                    target = name.split(".")[1]
                    late = part == "cli" and path.name in ("service.py", "admin.py") and target == "service"
                    self.assertTrue(target in allowed | {part} or late, f"{path} imports {name}")

    def test_core_points_downward(self) -> None:
        for path in self.modules("core"):
            floor = path.relative_to(SOURCE / "core").parts[0].removesuffix(".py")
            if floor == "__init__":
                continue
            for name in imports_of(path):
                if name.startswith("everyshelf.core."):
                    self.assertLessEqual(
                        FLOORS.index(name.split(".")[2]), FLOORS.index(floor), f"{path} imports {name}"
                    )

    def test_every_module_says_why_it_exists(self) -> None:
        for path in SOURCE.rglob("*.py"):
            if "migrations" not in path.parts and path.read_text().strip():
                self.assertTrue(ast.get_docstring(ast.parse(path.read_text())), path)

    def test_no_file_holds_too_much(self) -> None:
        for path in SOURCE.rglob("*.py"):
            self.assertLess(len(path.read_text().splitlines()), 600, path)

    def test_help_and_pending_import_little(self) -> None:
        script = (
            "import sys; sys.argv = ['everyshelf', '--help']\ntry:\n import everyshelf.cli.main as m; m.run()\nexcept SystemExit: pass\n"
            "print([n for n in ('httpx', 'django', 'numpy', 'lxml', 'yaml', 'rich') if n in sys.modules])"
        )
        done = subprocess.run([sys.executable, "-c", script], capture_output=True, text=True, check=True)
        self.assertEqual(done.stdout.splitlines()[-1], "[]")
