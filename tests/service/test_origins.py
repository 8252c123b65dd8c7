"""Who last set what, through the service: every part, line, row and cell, over branches, moves, copies and formats."""

from __future__ import annotations

import contextlib
import csv
import io
import json
import random
import re
import sqlite3
import tempfile
from pathlib import Path
from typing import Any

from everyshelf.client import ChangeRequest, CommitMessage, ProblemError, ShelfClient
from everyshelf.core.answers.origins import OriginsAnswer
from tests.support.factories import ServiceCase, Terminal
from tests.support.known_origins import FIELDS, KINDS, History, Maker, table
from tests.support.waiting import until

_TOKEN = re.compile(r"tok\d+x")


class OriginsCase(ServiceCase):
    """A shelf whose commits are named by what they do."""

    def commit(
        self, files: dict[str, bytes | None], summary: str, by: str = "maren", branch: str = "main", **moved: str
    ) -> None:
        """``moved``: new path (with ``__`` for a dot) -> old path."""
        left = {new.replace("__", "."): old for new, old in moved.items()}
        changes = [
            ChangeRequest(p, self.shelf.upload(d).id if d is not None else None, moved_from=left.get(p, ""))
            for p, d in files.items()
        ]
        self.shelf.commit(branch, self.shelf.branch(branch).head, changes, CommitMessage(summary, author=by))

    def set_by(self, path: str, ref: str = "main", form: str | None = None) -> dict[str, str]:
        """Part, and field below it -> the summary of the commit that set it."""
        return set_by(self.shelf.origins(path, ref, form=form))


def set_by(found: OriginsAnswer) -> dict[str, str]:
    told = {}
    for part in found.parts:
        told[part.path] = found.commits[part.set].summary
        for field in part.fields:
            told[f"{part.path.rstrip('/')}/{field.name}"] = found.commits[field.set].summary
    for run in found.lines:
        for number in range(run.first, run.first + run.count):
            told[str(number)] = found.commits[run.set].summary
    return told


def _steps(**limits: Any) -> bytes:
    steps = [{"id": k, "command": f"load {k}", "limit": v, "after": [next(iter(limits))]} for k, v in limits.items()]
    return json.dumps({"pipeline": "nightly", "steps": steps}).encode()


class PartsTests(OriginsCase):
    def test_a_part_keeps_its_origin_through_branches_moves_formats_and_copies(self) -> None:
        self.commit({"p.json": _steps(load=1, join=2, send=3)}, "First")
        self.shelf.make_branch("try", "main")
        self.commit({"p.json": _steps(load=1, join=20, send=3)}, "Join later", "ines", "try")
        self.commit({"p.json": _steps(load=10, join=2, send=3)}, "Load later", "tobias")
        self.shelf.merge("try", "main", summary="Both")
        told = self.set_by("p.json")
        self.assertEqual(told["/step:load/limit"], "Load later")
        self.assertEqual(told["/step:join/limit"], "Join later")
        self.assertEqual(told["/step:send/limit"], "First")
        data = self.shelf.read("p.json")
        self.commit({"flows/p.json": data, "p.json": None}, "Put in a folder", **{"flows/p__json": "p.json"})
        self.assertEqual(self.set_by("flows/p.json"), told)
        tree = json.loads(data)
        tree["steps"].insert(0, {"id": "check", "command": "check", "limit": 5})
        yaml = "pipeline: nightly\nsteps:\n" + "".join(
            f"  - id: {s['id']}\n    command: {s['command']}\n    limit: {s['limit']}\n" for s in tree["steps"]
        )
        moved = {"flows/p__yaml": "flows/p.json"}
        self.commit({"flows/p.yaml": yaml.encode(), "flows/p.json": None}, "As YAML, and checked", **moved)
        now = self.set_by("flows/p.yaml")
        self.assertEqual(now["/step:check/limit"], "As YAML, and checked")
        for field in ("load", "join", "send"):
            self.assertEqual(now[f"/step:{field}/limit"], told[f"/step:{field}/limit"])
        found = self.shelf.origins("flows/p.yaml")
        self.assertEqual((found.versions, found.moves, found.merges), (6, 2, 1))
        self.assertEqual(self.set_by("p.json", "try")["/step:load/limit"], "First", "as it is on the branch")
        other = self.make_shelf()
        other.copy(self.shelf.key, "flows/p.yaml", to="p.yaml")
        copied = set_by(other.origins("p.yaml"))
        self.assertEqual(copied["/step:join/limit"], "Join later")
        self.assertEqual(copied["/step:check/limit"], "As YAML, and checked")

    def test_cosmetic_changes_do_not_take_it_over_and_removed_parts_are_told(self) -> None:
        self.commit({"p.json": _steps(load=1, join=2)}, "First")
        tree = json.loads(_steps(load=1, join=2))
        tree["steps"][0]["description"] = "Reads all sailings"
        self.commit({"p.json": json.dumps(tree).encode()}, "Described")
        tree["steps"][0]["description"] = "Reads the sailings of a week"
        self.commit({"p.json": json.dumps(tree).encode()}, "Described better")
        del tree["steps"][1]
        self.commit({"p.json": json.dumps(tree).encode()}, "No join", "ines")
        found = self.shelf.origins("p.json")
        load = next(part for part in found.parts if part.path == "/step:load")
        fields = {field.name: field for field in load.fields}
        self.assertEqual(found.commits[fields["limit"].set].summary, "First")
        looks = fields["description"].looks
        assert looks is not None
        self.assertEqual(found.commits[looks].summary, "Described better")
        [gone] = found.removed
        self.assertEqual((gone.label, found.commits[gone.removed].author), ("join", "ines"))
        self.shelf.make_branch("back", "main")
        self.commit({"p.json": _steps(load=1, join=2)}, "Join again", branch="back")
        self.assertEqual(self.set_by("p.json", "back")["/step:join"], "Join again")

    def test_a_field_that_was_removed_sets_its_part_on_a_branch_too(self) -> None:
        code = b"import pytest\n\n\n@pytest.mark.slow\ndef one():\n    return 1\n\n\ndef two():\n    return 2\n"
        self.commit({"t.py": code}, "First")
        self.shelf.make_branch("try", "main")
        self.commit({"t.py": code.replace(b"@pytest.mark.slow\n", b"")}, "No mark", "ines", "try")
        self.commit({"t.py": code.replace(b"return 2", b"return 3")}, "Two")
        self.shelf.merge("try", "main")
        found = self.shelf.origins("t.py", form="parts")
        said = {part.label: found.commits[part.set].summary for part in found.parts}
        self.assertEqual((said["one"], said["two"], said["pytest"]), ("No mark", "Two", "First"))
        fields = next(part.fields for part in found.parts if part.label == "one")
        self.assertEqual([(one.name, found.commits[one.set].summary) for one in fields][:1], [("signature", "First")])
        self.commit({"t.py": code.replace(b"return 2", b"return 3")}, "The mark again")
        found = self.shelf.origins("t.py", form="parts")
        self.assertEqual(found.commits[next(p.set for p in found.parts if p.label == "one")].summary, "The mark again")

    def test_forms_of_a_part_and_of_a_field(self) -> None:
        self.commit({"p.json": _steps(load=1, join=2)}, "First")
        self.commit({"p.json": _steps(load=1, join=20)}, "Later", "ines")
        self.commit({"p.json": _steps(load=7, join=20)}, "Other part", "tobias")
        self.commit({"p.json": _steps(load=7, join=30)}, "Later still", "ines")
        forms = self.shelf.forms("p.json", part="/step:join/limit").forms
        self.assertEqual([form.commit.summary for form in forms], ["Later still", "Later", "First"])
        told = [(field.before, field.after) for form in forms for field in form.fields]
        self.assertEqual(told, [(20, 30), (2, 20)])
        self.assertEqual([form.action for form in forms], ["changed", "changed", "added"])
        by_label = self.shelf.forms("p.json", part="join")
        self.assertEqual((by_label.part, len(by_label.forms)), ("/step:join", 3))
        earlier = self.shelf.forms("p.json", part="join", version=2).forms
        self.assertEqual([form.commit.summary for form in earlier], ["Later", "First"])

    def test_a_removed_artifact_that_came_back_and_one_that_cannot_be_read(self) -> None:
        self.commit({"p.json": _steps(load=1)}, "First")
        self.commit({"p.json": None}, "Away")
        self.commit({"p.json": _steps(load=1, join=2)}, "Back, with a join")
        told = self.set_by("p.json")
        self.assertEqual((told["/step:load/limit"], told["/step:join"]), ("First", "Back, with a join"))
        self.commit({"b.bin": b"\0\1\2"}, "Bytes")
        self.commit({"b.bin": b"\0\1\3"}, "Other bytes", "ines")
        found = self.shelf.origins("b.bin")
        self.assertEqual((found.form, {c.summary for c in found.commits.values()}), ("whole", {"Other bytes"}))

    def test_histories_with_branches_agree_with_what_is_known(self) -> None:
        """The same histories as those of the core, committed to a shelf: branches, and merges made by a script."""
        for kind in ("pipeline", "settings"):
            write, names = KINDS[kind]
            self.check_history(Maker(write, names, seed=11).made(26, 8))

    def check_history(self, history: History) -> None:
        shelf = self.shelf = self.make_shelf()
        recorded = _recorded(shelf, history)
        last = len(history.versions) - 1
        found = shelf.origins(history.versions[last].name, f"commit:{recorded[last]}")
        wrong, looked = [], 0
        for part in found.parts:
            for field in part.fields:
                tokens = _TOKEN.findall(str(field.value))
                if tokens:
                    looked += 1
                    truth = max(history.written[token] for token in tokens)
                    if found.commits[field.set].summary != f"c{truth}":
                        wrong.append((part.path, field.name, found.commits[field.set].summary, truth))
        self.assertFalse(wrong)
        self.assertGreater(looked, 7)


def _recorded(shelf: ShelfClient, history: History) -> list[str]:
    """The history on a shelf, each commit on a branch of its own where it is made of another than the newest of main;
    a merge is committed as this script made it. Gives the ids of the commits."""
    recorded: list[str] = []
    on: dict[int, str] = {}
    heads: dict[str, int] = {}
    for number, version in enumerate(history.versions):
        parent = version.parents[0] if version.parents else None
        branch = "main" if parent is None else on[parent]
        if parent is not None and heads[branch] != parent:
            branch = f"side-{number}"
            shelf.make_branch(branch, f"commit:{recorded[parent]}")
        if parent is not None and len(version.parents) == 1 and version.data == history.versions[parent].data:
            recorded.append(recorded[parent])
            on[number], heads[branch] = branch, number
            continue
        message = CommitMessage(f"c{number}", author="maren")
        was = history.versions[parent].name if parent is not None else version.name
        content = shelf.upload(version.data).id
        changes = [ChangeRequest(version.name, content, moved_from=was if was != version.name else "")]
        changes += [ChangeRequest(was, None)] if was != version.name else []
        if len(version.parents) > 1:
            other = on[version.parents[1]]
            merged = shelf.merge(other, branch, summary=f"merge {number}", prefer="source")
            assert merged.commit is not None
            head = shelf.branch(branch).head
            assert head is not None
            if shelf.read(version.name, branch) != version.data:
                recorded.append(shelf.commit(branch, head, changes, message).commit)
            else:
                recorded.append(head)
        else:
            made = shelf.commit(branch, recorded[parent] if parent is not None else None, changes, message)
            recorded.append(made.commit)
        on[number], heads[branch] = branch, number
    return recorded


class LinesTests(OriginsCase):
    def test_lines_of_a_script_through_moves_and_spaces(self) -> None:
        self.commit({"s.py": b"import csv\n\n\ndef read(path):\n    return path\n"}, "First")
        self.commit({"s.py": b"import csv\nimport json\n\n\ndef read(path):\n    return path\n"}, "Needs JSON", "ines")
        moved = {"tools__py": "s.py"}
        spaced = b"import csv\nimport json\n\n\ndef read(path):\n        return path\n"
        self.commit({"tools.py": spaced, "s.py": None}, "Renamed and indented", **moved)
        found = self.shelf.origins("tools.py", form="lines")
        told = set_by(found)
        self.assertEqual(told, {"1": "First", "2": "Needs JSON", **dict.fromkeys("3456", "First")})
        looks = next(run.looks for run in found.lines if run.first + run.count > 6)
        assert looks is not None
        self.assertEqual(found.commits[looks].summary, "Renamed and indented")
        self.commit({"tools.py": spaced.replace(b"return path", b"return open(path)")}, "Open it", "tobias")
        forms = self.shelf.forms("tools.py", line=6).forms
        self.assertEqual([form.action for form in forms], ["changed", "looks", "added"])
        self.assertEqual((forms[0].before, forms[0].after), ("        return path", "        return open(path)"))

    def test_a_line_that_went_elsewhere(self) -> None:
        lines = [f"the {word} of the quay number {k}" for k, word in enumerate(("buoy", "crane", "ramp", "gate"))]
        self.commit({"notes.txt": "\n".join(lines).encode()}, "First")
        turned = [lines[3], *lines[:3], "new line"]
        self.commit({"notes.txt": "\n".join(turned).encode()}, "Gate first", "ines")
        told = self.set_by("notes.txt")
        self.assertEqual(told, {**dict.fromkeys("1234", "First"), "5": "Gate first"})


class RowsTests(OriginsCase):
    def test_rows_and_cells_agree_with_what_is_known(self) -> None:
        history = Maker(table, ("t.csv",), seed=5, moves=False).made(36, 12)
        recorded = _recorded(self.shelf, history)
        last = len(history.versions) - 1
        rows = list(csv.DictReader(io.StringIO(history.versions[last].data.decode().replace(";", ","))))
        wrong = []
        for row in rows:
            for column in FIELDS:
                [token] = _TOKEN.findall(row[column])
                found = self.shelf.forms("t.csv", f"commit:{recorded[last]}", row=row["name"], column=column)
                said = found.forms[0].commit.summary
                if said not in (f"c{history.written[token]}",):
                    wrong.append((row["name"], column, said, history.written[token]))
        self.assertFalse(wrong)

    def test_a_table_its_columns_and_a_row_that_is_not_there(self) -> None:
        rows = "".join(f"Z{k},child,2\n" for k in range(3, 9))
        head = "zone,kind,fare\n"
        self.commit({"f.csv": f"{head}Z1,adult,4\nZ1,child,2\nZ2,adult,5\n{rows}".encode()}, "First")
        rows += "Z1,adult,4\nZ1,child,2\nZ2,adult,6\nZ2,child,3\n"
        self.commit({"f.csv": f"{head}{rows}".encode()}, "Zone 2", "ines")
        head, rows = "zone,kind,price,until\n", rows.replace("\n", ",June\n")
        self.commit({"f.csv": f"{head}{rows}".encode()}, "Prices, and until when", "tobias")
        self.commit({"f.csv": f"{head}{rows.replace('Z1,child,2', 'Z1,child,1')}".encode()}, "Child 1", "ines")
        found = self.shelf.origins("f.csv")
        told = {part.label: found.commits[part.set].summary for part in found.parts}
        self.assertEqual(
            told, {"zone": "First", "kind": "First", "price": "Child 1", "until": "Prices, and until when"}
        )
        forms = self.shelf.forms("f.csv", row="Z2,adult", column="price").forms
        self.assertEqual([form.commit.summary for form in forms], ["Zone 2", "First"])
        self.assertEqual([(f.before, f.after) for f in forms[0].fields], [("5", "6")])
        forms = self.shelf.forms("f.csv", row="Z2,child").forms
        self.assertEqual([form.commit.summary for form in forms], ["Prices, and until when", "Zone 2"])
        for row, code in (("Z9,adult", "part.missing"), ("Z9", "row.key")):
            with self.assertRaises(ProblemError) as caught:
                self.shelf.forms("f.csv", row=row)
            self.assertEqual(caught.exception.code, code)
        with self.assertRaises(ProblemError) as caught:
            self.shelf.forms("f.csv", row="Z1,adult", column="tide")
        self.assertIn("zone, kind, price, until", caught.exception.hint)

    def test_rows_of_a_database(self) -> None:
        self.commit({"b.sqlite": _database("4", "5")}, "First")
        self.commit({"b.sqlite": _database("4", "7")}, "Dearer", "ines")
        self.commit(
            {"b.sqlite": _database("4", "7", more="INSERT INTO fares VALUES (3, 'Z3', '9')")}, "Zone 3", "tobias"
        )
        found = self.shelf.origins("b.sqlite")
        rows = [(one.table, found.commits[one.set].summary, one.added, one.changed) for one in found.rows]
        self.assertEqual(rows, [("fares", "Zone 3", 1, 0), ("fares", "Dearer", 0, 1)])
        told = {part.path: found.commits[part.set].summary for part in found.parts}
        self.assertEqual((told["/table:fares/column:fare"], told["/table:fares/column:zone"]), ("Dearer", "First"))
        forms = self.shelf.forms("b.sqlite", row="2", column="fare", table="fares").forms
        self.assertEqual([form.commit.summary for form in forms], ["Dearer", "First"])
        self.assertEqual([(f.before, f.after) for f in forms[0].fields], [("5", "7")])

    def test_rows_that_nothing_tells_apart(self) -> None:
        self.commit({"t.csv": b"state\nopen\nopen\nclosed\n"}, "First")
        self.commit({"t.csv": b"state\nopen\nclosed\nclosed\nclosed\n"}, "Second")
        with self.assertRaises(ProblemError) as caught:
            self.shelf.forms("t.csv", row="open")
        self.assertEqual(caught.exception.code, "row.no_key")
        self.assertGreater(len(self.shelf.origins("t.csv", form="lines").lines), 1)

    def test_a_row_through_a_merge_and_a_removal(self) -> None:
        rows = "".join(f"Z{n},{n % 4}\n" for n in range(1, 20))
        table = f"zone,fare\n{rows}"
        self.commit({"f.csv": table.encode()}, "First")
        self.shelf.make_branch("try", "main")
        self.commit({"f.csv": table.replace("Z5,1", "Z5,9").encode()}, "Zone 5", "ines", "try")
        self.commit({"f.csv": table.replace("Z9,1", "Z9,8").encode()}, "Zone 9", "tobias")
        self.shelf.merge("try", "main", summary="Both")
        for row, by in (("Z5", "Zone 5"), ("Z9", "Zone 9"), ("Z7", "First")):
            newest = self.shelf.forms("f.csv", row=row, column="fare").forms[0]
            self.assertEqual(newest.commit.summary, by, row)
        now = self.shelf.read("f.csv").decode().replace("Z7,3\n", "")
        self.commit({"f.csv": now.encode()}, "No zone 7", "ines")
        gone = self.shelf.forms("f.csv", row="Z7").forms[0]
        self.assertEqual((gone.action, gone.commit.summary), ("removed", "No zone 7"))


def _database(*fares: str, more: str = "") -> bytes:
    """A database with a table of fares."""
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder, "b.sqlite")
        with contextlib.closing(sqlite3.connect(path)) as database:
            database.execute("CREATE TABLE fares (id INTEGER PRIMARY KEY, zone TEXT, fare TEXT)")
            rows = [(n, f"Z{n}", fare) for n, fare in enumerate(fares, 1)]
            database.executemany("INSERT INTO fares VALUES (?, ?, ?)", rows)
            if more:
                database.execute(more)
            database.commit()
        return path.read_bytes()


class AskingTests(OriginsCase):
    def test_what_cannot_be_meant(self) -> None:
        self.commit({"p.json": _steps(load=1), "b.bin": b"\0\1"}, "First")
        calls: list[tuple[dict[str, Any], str]] = [
            ({"part": "/step:none"}, "part.missing"),
            ({"part": "lod"}, "part.missing"),
            ({"line": 99}, "part.missing"),
        ]
        for of, code in calls:
            with self.assertRaises(ProblemError) as caught:
                self.shelf.forms("p.json", **of)
            self.assertEqual(caught.exception.code, code, of)
        self.assertIn("load", self.shelf.forms("p.json", part="load").label)
        for ask in (lambda: self.shelf.forms("b.bin", line=1), lambda: self.shelf.origins("b.bin", form="lines")):
            with self.assertRaises(ProblemError) as caught:
                ask()
            self.assertEqual(caught.exception.code, "input.invalid")

    def test_a_folder_kept_whole_has_no_lines_and_its_jobs_end_well(self) -> None:
        self.commit({"shelf.toml": b'[folders]\nwhole = ["plans/"]\n'}, "Rules")
        self.commit({"plans/a.json": b'{"pier": "A"}', "plans/b.json": b'{"pier": "B"}'}, "First")
        self.commit({"plans/a.json": b'{"pier": "C"}'}, "Second", "ines")
        described = until(lambda: self.shelf.history("plans")[0].headline, "the commit to be described")
        self.assertTrue(described)
        for ask in (
            lambda: self.shelf.origins("plans", form="lines"),
            lambda: self.shelf.forms("plans", line=1),
        ):
            with self.assertRaises(ProblemError) as caught:
                ask()
            self.assertEqual(caught.exception.code, "input.invalid")
        found = self.shelf.origins("plans")
        self.assertIn("Second", {commit.summary for commit in found.commits.values()})
        until(lambda: "plans" in self._found("plans"), "the folder to be found")

    def _found(self, words: str) -> list[str]:
        return [item.path for item in self.client.find(words, shelves=[self.shelf.key]).items]

    def test_of_many_parts_all_pages_come(self) -> None:
        many = {f"s{k}": k for k in range(2500)}
        self.commit({"p.json": _steps(**many)}, "First")
        self.commit({"p.json": _steps(**{**many, "s1700": 9})}, "One limit", "ines")
        found = self.shelf.origins("p.json")
        self.assertEqual(len(found.parts), found.total)
        told = set_by(found)
        self.assertEqual(
            [part for part, by in told.items() if by == "One limit" and "/limit" in part], ["/step:s1700/limit"]
        )

    def test_the_command_line(self) -> None:
        self.commit({"p.json": _steps(load=1, join=2), "notes.md": b"# Tide\n"}, "First")
        self.commit({"p.json": _steps(load=1, join=20), "notes.md": b"# Tide\n\nLow\n"}, "SK-3: later", "ines")
        terminal = Terminal(self, self.service)
        terminal.set("EVERYSHELF_SHELF", self.shelf.key)
        said = terminal.run("origins", "p.json").stdout
        self.assertRegex(said, r"join +ines .* v2 +SK-3: later")
        self.assertRegex(said, r"load +maren .* v1 +First")
        said = terminal.run("history", "p.json", "--part", "join").stdout
        self.assertIn("limit: 2 → 20", said)
        self.assertIn("also touched 1 other artifact", said)
        self.assertRegex(terminal.run("origins", "notes.md", "--lines").stdout, r"2 +ines .*\n +3 +Low")
        rows = list(csv.DictReader(io.StringIO(terminal.run("origins", "p.json", "--csv").stdout)))
        self.assertIn(("/step:join/limit", "ines"), [(row["part"], row["author"]) for row in rows])
        self.assertEqual(json.loads(terminal.run("origins", "p.json", "--json").stdout)["form"], "parts")
        self.assertIn("give one", terminal.run("origins", "p.json", "--part", "x", "--line", "1", code=2).stderr)

    def test_many_versions_are_left_to_a_job_and_kept(self) -> None:
        rng = random.Random(3)
        limits = {f"s{k}": 0 for k in range(30)}
        truth = {}
        for number in range(60):
            name = rng.choice(list(limits))
            limits[name] = number
            truth[name] = f"c{number}"
            self.commit({"p.json": _steps(**limits)}, f"c{number}")
        told = self.set_by("p.json")
        for name, by in truth.items():
            self.assertEqual(told[f"/step:{name}/limit"], by)
        self.assertEqual(self.set_by("p.json"), told)
