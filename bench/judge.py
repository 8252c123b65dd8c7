"""Judges what a crash left: records, and a direct look into folders, databases and the stand-in platform's own file.

It imports nothing of the product, so that a mistake there cannot hide itself here.

``python judge.py DATA RECORD``: RECORD is a JSON file of what was acknowledged. Prints one line for each thing wrong.
``python judge.py --settled DATA RECORD``: also whether the records say of each environment what a look there finds.
"""

from __future__ import annotations

import hashlib
import json
import os
import sqlite3
import subprocess
import sys
from collections.abc import Callable
from pathlib import Path
from typing import Any


def judge(data: Path, record: dict[str, Any], *, settled: bool = False) -> list[str]:
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
    reached, above = set(heads), dict[str, list[str]]()
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
    return wrong + judge_places(data, record.get("places", {}), settled=settled)


def judge_places(data: Path, places: dict[str, Any], *, settled: bool) -> list[str]:
    """``places``: by environment its ``sort``, its ``address`` and by tag what a look there found (``tags``)."""
    wrong = []
    with sqlite3.connect(f"file:{data / 'records.sqlite'}?mode=ro", uri=True) as records:
        said = dict(
            records.execute(
                "SELECT e.name, t.name FROM environments_deployment d JOIN environments_environment e "
                "ON e.id = d.environment_id JOIN shelves_tag t ON t.id = d.tag_id WHERE d.state = 'recorded' "
                "ORDER BY d.number"
            )
        )
    for name, place in places.items():
        found = look(place["sort"], place["address"])
        fits = [tag for tag, held in place["tags"].items() if held == found]
        if not fits:
            wrong.append(f"{name} is not exactly what any tag holds: {json.dumps(found)[:300]}")
        elif settled and said.get(name) not in fits:
            wrong.append(f"the records say that {name} holds {said.get(name)}, and a look there finds {fits[0]}")
    return wrong


def look(sort: str, address: str) -> object:
    """What is really in a place, as plain values: a folder, a SQLite file, a PostgreSQL database, the main
    branch of a Git repository, or a space of the stand-in platform (its file and the name of the space, parted by ``#``)."""
    if sort == "folder":
        return fingerprint(Path(address))
    if sort == "platform":
        file, _, space = address.rpartition("#")
        with sqlite3.connect(f"file:{file}?mode=ro", uri=True) as platform:
            rows = platform.execute("SELECT name, hex(body) FROM objects WHERE space = ? ORDER BY name", (space,))
            return [[name, hashlib.sha256(body.encode()).hexdigest()] for name, body in rows]
    if sort == "git":
        listed = subprocess.run(
            ["git", "ls-tree", "-r", "main"], cwd=address, capture_output=True, text=True, check=True
        )
        return listed.stdout.splitlines()
    if sort == "sqlite":
        with sqlite3.connect(f"file:{address}?mode=ro", uri=True) as records:
            return _tables(lambda query: records.execute(query).fetchall(), _SQLITE_COLUMNS)
    import psycopg

    with psycopg.connect(address) as records:
        return _tables(lambda query: records.execute(query).fetchall(), _POSTGRES_COLUMNS)


_SQLITE_COLUMNS = (
    "SELECT m.name, c.name, c.type FROM sqlite_schema m JOIN pragma_table_info(m.name) c "
    "WHERE m.type = 'table' AND m.name NOT LIKE 'sqlite%' ORDER BY 1, 2"
)
_POSTGRES_COLUMNS = "SELECT table_name, column_name, data_type FROM information_schema.columns WHERE table_schema = 'public' ORDER BY 1, 2"


def _tables(ask: Callable[[str], Any], query: str) -> dict[str, Any]:
    """Columns and rows of every table but the one in which the product remembers its deployments."""
    found: dict[str, Any] = {}
    for table, column, declared in ask(query):
        if table != "everyshelf_deployments":
            found.setdefault(table, {"columns": []})["columns"].append([column, declared])
    for table, told in found.items():
        names = ", ".join(f'"{column}"' for column, _ in told["columns"])
        told["rows"] = sorted([str(value) for value in row] for row in ask(f'SELECT {names} FROM "{table}"'))
    return found


def fingerprint(folder: Path) -> dict[str, str] | None:
    """Path -> SHA-256 of everything a consumer of the environment sees; None before the first promotion."""
    current = folder / "now"
    if not current.exists():
        return None if not os.path.lexists(current) else {"current": "a link that leads nowhere"}
    return {
        str(path.relative_to(current)): hashlib.sha256(path.read_bytes()).hexdigest()
        for path in sorted(current.rglob("*"))
        if path.is_file()
    }


if __name__ == "__main__":
    settled = sys.argv[1] == "--settled"
    data, said = sys.argv[1 + settled :]
    problems = judge(Path(data), json.loads(Path(said).read_text()), settled=settled)
    print("\n".join(problems))
    sys.exit(bool(problems))
