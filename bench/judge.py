"""Judges what a crash left: environment folders and records, with the standard library alone.

It imports nothing of the product, so that a mistake there cannot hide itself here.

``python judge.py DATA RECORD``: RECORD is a JSON file of what was acknowledged. Prints one line for each thing wrong.
"""

from __future__ import annotations

import hashlib
import json
import os
import sqlite3
import sys
from pathlib import Path


def judge(data: Path, record: dict) -> list[str]:
    """What is wrong: acknowledged commits that are gone, and environments that are not exactly one whole tag."""
    wrong = []
    with sqlite3.connect(f"file:{data / 'records.sqlite'}?mode=ro", uri=True) as records:
        known = {row[0] for row in records.execute("SELECT uid FROM shelves_commit")}
        heads = {
            row[0]
            for row in records.execute("SELECT c.uid FROM shelves_branch b JOIN shelves_commit c ON c.id = b.head_id")
        }
        parents = records.execute(
            "SELECT c.uid, p.uid FROM shelves_commitparent l JOIN shelves_commit c ON c.id = l.commit_id "
            "JOIN shelves_commit p ON p.id = l.parent_id"
        ).fetchall()
        check = records.execute("PRAGMA integrity_check").fetchone()[0]
    if check != "ok":
        wrong.append(f"the records are damaged: {check}")
    reached, above = set(heads), {}
    for child, parent in parents:
        above.setdefault(child, []).append(parent)
    waiting = list(heads)
    while waiting:
        for parent in above.get(waiting.pop(), []):
            if parent not in reached:
                reached.add(parent)
                waiting.append(parent)
    for commit in record["commits"]:
        if commit not in known:
            wrong.append(f"acknowledged commit {commit[:8]} is gone")
        elif commit not in reached:
            wrong.append(f"acknowledged commit {commit[:8]} is on no branch any more")
    for name, folder in record["environments"].items():
        found = fingerprint(Path(folder))
        if found is not None and found not in list(record["tags"].values()):
            wrong.append(f"{name} is not exactly what any tag holds: {len(found)} files")
    return wrong


def fingerprint(folder: Path) -> dict[str, str] | None:
    """Path -> SHA-256 of everything a consumer of the environment sees; None before the first promotion."""
    current = folder / "current"
    if not current.exists():
        return None if not os.path.lexists(current) else {"current": "a link that leads nowhere"}
    return {
        str(path.relative_to(current)): hashlib.sha256(path.read_bytes()).hexdigest()
        for path in sorted(current.rglob("*"))
        if path.is_file()
    }


if __name__ == "__main__":
    problems = judge(Path(sys.argv[1]), json.loads(Path(sys.argv[2]).read_text()))
    print("\n".join(problems))
    sys.exit(bool(problems))
