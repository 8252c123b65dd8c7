"""``python -m tests.mutations [WORD …]``: cut safety nets one at a time and see whether a test notices. ``make nightly`` runs it.

Each cut is made in a copy of the sources, and only the tests nearest to it run there. A cut that no test notices survives;
the goal is none. A cut whose place is no longer found counts as one that survived: the list must follow the code.
"""

from __future__ import annotations

import os
import shutil
import subprocess
import sys
import tempfile
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

from tests.cuts import CUTS, Cut

_ROOT = Path(__file__).parents[1]
_LAST_LINES = 12
_HANGS_SECONDS = 900


def _noticed(cut: Cut) -> str:
    """How the cut was noticed: the last lines of what failed; empty if nothing failed."""
    with tempfile.TemporaryDirectory(prefix="es-cut-") as name:
        folder = Path(name)
        for part in ("src", "tests", "docs", "bench", "README.md", "pyproject.toml"):
            if (_ROOT / part).is_dir():
                shutil.copytree(_ROOT / part, folder / part, ignore=shutil.ignore_patterns("__pycache__"))
            else:
                shutil.copy(_ROOT / part, folder / part)
        target = folder / "src" / "everyshelf" / cut.file
        text = target.read_text(encoding="utf-8")
        if text.count(cut.old) != 1:
            return ""
        target.write_text(text.replace(cut.old, cut.new), encoding="utf-8")
        environment = {
            **os.environ,
            "PYTHONPATH": f"{folder / 'src'}{os.pathsep}{folder}",
            "PYTHONDONTWRITEBYTECODE": "1",
        }
        command = [sys.executable, "-m", "unittest", "-f", *cut.tests]
        try:
            done = subprocess.run(
                command,
                cwd=folder,
                env=environment,
                capture_output=True,
                text=True,
                check=False,
                timeout=_HANGS_SECONDS,
            )
        except subprocess.TimeoutExpired:
            return "the tests wait for ever"  # a limit of time that is cut has that effect
        return "\n".join(done.stderr.splitlines()[-_LAST_LINES:]) or "ended" if done.returncode else ""


def main() -> int:
    """Make all cuts, or those whose place or tests hold one of the words."""
    words = sys.argv[1:]
    cuts = [c for c in CUTS if not words or any(w in f"{c} {c.tests}" for w in words)]
    survivors = []
    with ThreadPoolExecutor(2) as pool:
        for cut, said in zip(cuts, pool.map(_noticed, cuts), strict=True):
            print(f"{'✓ noticed ' if said else '✗ SURVIVED'} {cut}", flush=True)
            if os.environ.get("VERBOSE") and said:
                print("    " + said.replace("\n", "\n    "), flush=True)
            if not said:
                survivors.append(cut)
    print(f"{len(cuts)} cuts, {len(survivors)} survived")
    return 1 if survivors else 0


if __name__ == "__main__":
    sys.exit(main())
