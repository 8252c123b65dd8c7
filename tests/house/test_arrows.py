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
    "spreading",
    "durable",
    "sharing",
    "content",
    "outline",
    "answers",
    "formats",
    "tables",
    "kinds",
    "uses",
    "origins",
    "compare",
    "merge",
    "editing",
    "history",
    "databases",
    "promotion",
    "parcel",
]
FLOORS += ["drawing", "report", "runs", "unfolding", "finding", "lineage", "querying", "reading"]
# The service from the ground up; what stands on one line knows nothing of its neighbours.
SERVICE = [
    {"base"},
    {"problems", "rights"},
    {"idempotency"},
    {"http"},
    {"log"},
    {"people", "jobs"},
    {"backups"},
    {"shelves"},
    {"keeping", "claims"},
    {"drafts", "checks", "origins", "find", "news", "saved_views", "in_place", "findings"},
    {"proposals"},
    {"experiments", "environments", "exchange", "events"},
    {"tasks", "uses", "lineage"},
    {"reports", "queries", "dav"},
    {"web"},
    {"settings", "urls", "wsgi", "worker"},
    {"serve"},
]
# These begin before Django stands, or choose a library that starts slowly.
LATE = {
    "core/compare/artifact.py",
    "core/compare/dispatch.py",
    "core/compare/tabular.py",
    "core/kinds/rules.py",
    "core/kinds/testing.py",
    "service/serve.py",
}
# Functions of the reading process that take nothing apart; rules are parsed where they are saved, with a bound.
HARMLESS = {"everyshelf.core.kinds.rules.parse_rules"}
# The one root of errors; the client, which knows only the types of answers, and the stand-in have their own.
ROOT = "EveryShelfError"
# A part may import what is listed, and itself.
ALLOWED = {
    "core": set(),
    "storage": {"core"},
    "cluster": {"core"},
    "client": set(),
    "desk": {"core", "client"},
    "cli": {"core", "client", "desk", "demo", "gitside", "storage"},
    "demo": {"client"},
    "service": {"core", "storage", "destinations", "gitside"},
    "gitside": {"core"},
    "destinations": {"core", "gitside"},
    "standin": set(),
}
FOREIGN = {
    "core": {"django", "rest_framework", "httpx", "click"},
    "client": {"django", "rest_framework", "click"},
    "destinations": {"django", "rest_framework", "click"},
    "storage": {"django", "rest_framework", "click"},
    "cluster": {"django", "rest_framework", "click"},
    "gitside": {"django", "rest_framework", "httpx", "click"},
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


def name_of(path: Path) -> str:
    """``everyshelf.core.errors``."""
    return ".".join(path.relative_to(SOURCE.parent).with_suffix("").parts).removesuffix(".__init__")


def package_of(module: str) -> str:
    """``everyshelf.core.kinds`` of what lies in it."""
    return ".".join(module.split(".")[:3])


def targets_of(path: Path) -> set[str]:
    """What a module imports, wherever in it: modules, and names that may be modules."""
    found = imports_of(path)
    for node in ast.walk(ast.parse(path.read_text())):
        if isinstance(node, ast.ImportFrom) and node.module and not node.level:
            members = {f"{node.module}.{a.name}" for a in node.names}
            found |= members
            if all((SOURCE.parent / Path(*m.split("."))).with_suffix(".py").exists() for m in members):
                found.discard(node.module)  # only its modules are taken
    return found


def late_imports_of(path: Path) -> set[str]:
    """What a module imports within functions."""
    functions = [n for n in ast.walk(ast.parse(path.read_text())) if isinstance(n, ast.FunctionDef)]
    inner = [n for f in functions for n in ast.walk(f) if isinstance(n, ast.ImportFrom)]
    return {n.module for n in inner if n.module}


def rounds(arrows: dict[str, set[str]]) -> list[list[str]]:
    """The groups of names from each of which every other can be reached."""
    found = []
    waiting = {name: set(targets) & arrows.keys() for name, targets in arrows.items()}
    while waiting:  # what points nowhere, or is pointed to from nowhere, is in no round
        pointed = {t for targets in waiting.values() for t in targets}
        free = [n for n, targets in waiting.items() if not targets or n not in pointed]
        if not free:
            found.append(sorted(waiting))
            break
        for name in free:
            del waiting[name]
        for targets in waiting.values():
            targets.difference_update(free)
    return found


def names_imported_by(path: Path) -> set[str]:
    """``everyshelf.core.merge.Decision`` for each name a module imports from ours, wherever in it."""
    nodes = [n for n in ast.walk(ast.parse(path.read_text())) if isinstance(n, ast.ImportFrom) and n.module]
    return {f"{n.module}.{a.name}" for n in nodes for a in n.names if str(n.module).startswith("everyshelf.core.")}


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
                    if target == "decoding":
                        continue  # below everything, and imports nothing of ours
                    late = (
                        part == "cli" and path.name in ("service.py", "admin.py", "backups.py") and target == "service"
                    )
                    is_answer = part == "client" and name.startswith("everyshelf.core.answers.")
                    self.assertTrue(target in allowed | {part} or late or is_answer, f"{path} imports {name}")

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

    def test_the_service_points_downward(self) -> None:
        floors = {name: floor for floor, names in enumerate(SERVICE) for name in names}
        for path in self.modules("service"):
            mine = path.relative_to(SOURCE / "service").parts[0].removesuffix(".py")
            if mine == "__init__" or "migrations" in path.parts:
                continue
            self.assertIn(mine, floors, f"{mine} has no floor yet")
            for name in imports_of(path):
                if name.startswith("everyshelf.service."):
                    other = name.split(".")[2]
                    self.assertTrue(other == mine or floors[other] < floors[mine], f"{path} imports {name}")

    def test_files_are_read_in_the_reading_process_only(self) -> None:
        """What its tasks call, no module of the service or of the desk imports."""
        reads = {n for path in self.modules("core/reading") if path.stem != "worker" for n in names_imported_by(path)}
        reads = {n for n in reads if n.rpartition(".")[2][0].islower()}  # functions, not types
        self.assertGreater(len(reads), 20)
        for part in ("service", "desk"):
            for path in self.modules(part):
                called = names_imported_by(path) & reads - HARMLESS
                self.assertFalse(called, f"{path.name} reads files itself: {sorted(called)}")

    def test_nothing_goes_round(self) -> None:
        """No cycle of modules or of packages, imports within functions counted."""
        modules = {name_of(p): p for p in SOURCE.rglob("*.py") if "migrations" not in p.parts}
        arrows = {n: {t for t in targets_of(p) if t in modules} - {n} for n, p in modules.items()}
        self.assertEqual(rounds(arrows), [])
        packages: dict[str, set[str]] = {}
        for name, targets in arrows.items():
            packages.setdefault(package_of(name), set()).update(package_of(t) for t in targets)
        self.assertEqual(rounds({n: t - {n} for n, t in packages.items()}), [])

    def test_late_imports_are_for_what_starts_slowly(self) -> None:
        for path in SOURCE.rglob("*.py"):
            part = path.relative_to(SOURCE).parts[:2]
            if part[0] in ("cli", "desk") or part in (("core", "reading"), ("core", "formats")):
                continue
            if path.name == "apps.py" or str(path.relative_to(SOURCE)) in LATE:
                continue
            late = {n for n in late_imports_of(path) if n.startswith("everyshelf.")}
            self.assertEqual(late, set(), path)

    def test_errors_have_one_root(self) -> None:
        bases: dict[str, tuple[set[str], Path]] = {}
        for path in (p for part in ("core", "desk", "service", "destinations") for p in self.modules(part)):
            for node in ast.walk(ast.parse(path.read_text())):
                if isinstance(node, ast.ClassDef) and node.name.endswith("Error"):
                    bases[node.name] = ({ast.unparse(b).split(".")[-1] for b in node.bases}, path)
        known = {ROOT}
        while more := {n for n, (above, _) in bases.items() if n not in known and above & known}:
            known |= more
        # Those with an underscore never leave their module.
        rootless = {n for n in bases if n not in known and not n.startswith("_")}
        self.assertEqual(rootless, set())

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
