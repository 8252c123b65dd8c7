"""``findings`` in queries: what each version changed, as rows, against what comparing those versions says."""

from __future__ import annotations

import json
import re
import unittest
from pathlib import Path

from everyshelf.client import ChangeRequest
from everyshelf.core.querying.running import LIST_COLUMNS
from tests.support.factories import ServiceCase, Terminal, commit_files

FLOW = {"steps": [{"id": "load", "timeout": 30}, {"id": "tidy", "timeout": 10}]}


def flow(**timeouts: int) -> bytes:
    """The pipeline with other timeouts; a step without one is left out."""
    steps = [{**step, "timeout": timeouts[str(step["id"])]} for step in FLOW["steps"] if step["id"] in timeouts]
    return json.dumps({"steps": steps}).encode()


class FindingsTests(ServiceCase):
    """A pipeline and a table with a few versions, one of which moves and one of which goes."""

    def setUp(self) -> None:
        super().setUp()
        self.put({"load.json": flow(load=30, tidy=10), "data/fares.csv": b"zone,fare\nA,1\nB,2\n"}, "Base")
        self.put({"load.json": flow(load=60, tidy=10)}, "Longer")
        self.put({"load.json": flow(load=60), "data/fares.csv": b"zone,fare,class\nA,1,x\nB,3,y\n"}, "Less and more")
        self.put({"data/fares.csv": None}, "No fares")

    def rows(self, sql: str) -> list[list[str | None]]:
        return self.shelf.query(sql).rows

    def test_each_version_says_what_it_changed(self) -> None:
        found = self.rows(
            "SELECT path, version, action, type, label, field, effect, before, after FROM findings ORDER BY path, version, label"
        )
        mine = [row for row in found if row[0] == "load.json"]
        self.assertEqual(mine[0][:5], ["load.json", "1", "added", "artifact", None])
        self.assertEqual(mine[1], ["load.json", "2", "changed", "step", "load", "timeout", "alters", "30", "60"])
        self.assertEqual(mine[2][:5], ["load.json", "3", "removed", "step", "tidy"])
        self.assertEqual(len(mine), 3)
        last = [row for row in found if row[0] == "data/fares.csv" and row[1] is None]
        self.assertEqual([row[2] for row in last], ["removed"])

    def test_they_are_those_of_comparing_the_two_versions(self) -> None:
        commits = [commit.commit for commit in self.shelf.commits("main")][::-1]
        for before, after in ((commits[0], commits[1]), (commits[1], commits[2])):
            for artifact in self.shelf.compare(f"commit:{before}", f"commit:{after}").artifacts:
                rows = self.rows(
                    "SELECT action, part, effect, coalesce(field, '') FROM findings "
                    f"WHERE path = '{artifact.path}' AND commit = '{after}' ORDER BY 1, 2, 3, 4"
                )
                wanted = sorted([f.action, f.part, f.effect, f.field or ""] for f in artifact.findings)
                self.assertEqual(rows, wanted, artifact.path)

    def test_joined_with_commits_they_answer_who_changed_a_field(self) -> None:
        found = self.rows(
            "SELECT c.summary, f.before, f.after FROM findings f JOIN commits c USING (commit) WHERE f.field = 'timeout'"
        )
        self.assertEqual(found, [["Longer", "30", "60"]])

    def test_branches_are_compared_with_where_they_came_from(self) -> None:
        self.shelf.make_branch("ines/try", "main")
        commit_files(self.shelf, {"load.json": flow(load=90)}, "On a branch", "ines/try")
        self.put({"load.json": flow(load=70)}, "On main")
        found = self.rows("SELECT before, after FROM findings WHERE field = 'timeout' ORDER BY CAST(version AS INT)")
        self.assertEqual(found, [["30", "60"], ["60", "90"], ["60", "70"]])

    def test_what_cannot_be_read_is_not_judged(self) -> None:
        self.put({"bad.parquet": b"PAR1 no table PAR1"}, "Bad")
        self.put({"bad.parquet": b"PAR1 still no table PAR1"}, "Worse")
        found = self.rows("SELECT action, effect FROM findings WHERE path = 'bad.parquet' AND version = 2")
        self.assertEqual({row[1] for row in found}, {None})
        self.assertTrue(found)

    def test_what_is_damaged_is_not_judged_and_compared_once_it_is_healed(self) -> None:
        code = """
from everyshelf.core.errors import BrokenError
from everyshelf.service.findings import keeping, listing
from everyshelf.service.shelves.models import Shelf
def damaged(*_):
    raise BrokenError("a chunk is damaged")
compare, keeping.compare_pair = keeping.compare_pair, damaged
shelf = Shelf.objects.get(key=KEY)
print(keeping.keep_findings(shelf), [(r["action"], r["effect"], r.get("detail")) for r in listing._rows(shelf) if r["version"] == 2])
keeping.compare_pair = compare
print(keeping.keep_findings(shelf), [(r["action"], r["effect"]) for r in listing._rows(shelf) if r["version"] == 2])
"""
        before, after = self.service.run_python(f"KEY = {self.shelf.key!r}\n{code}").strip().splitlines()[-2:]
        self.assertTrue(before.startswith("0 [('changed', None, 'not compared"), before)
        self.assertIn("('changed', 'alters')", after)

    def test_many_versions_are_compared_by_a_job_and_kept(self) -> None:
        base = {f"flows/{n:03d}.json": flow(load=n, tidy=1) for n in range(60)}
        self.put(base, "Many")
        for round_ in range(1, 3):
            contents = [
                (path, self.shelf.upload(flow(load=n + 1000 * round_, tidy=1)).id) for n, path in enumerate(base)
            ]
            changes = [ChangeRequest(path, content) for path, content in contents]
            self.shelf.commit("main", self.shelf.branch("main").head, changes, f"Round {round_}")
        count = "SELECT count(*), count(effect) FROM findings WHERE field = 'timeout' AND path LIKE 'flows/%'"
        self.assertEqual(self.rows(count), [["120", "120"]])
        kept = self.service.run_python(
            "from everyshelf.service.findings.models import VersionFindings\n"
            f"print(VersionFindings.objects.filter(version__shelf__key={self.shelf.key!r}).count())"
        )
        self.assertEqual(int(kept.split()[-1]), 120 + 3)
        self.assertEqual(self.rows(count), [["120", "120"]])

    def test_on_the_command_line(self) -> None:
        terminal = Terminal(self, self.service)
        said = terminal.run(
            "query",
            "SELECT path, label, before, after FROM findings WHERE field = 'timeout'",
            "--shelf",
            self.shelf.key,
        )
        self.assertRegex(said.stdout, r"load\.json +load +30 +60")
        known = terminal.run("query", "SELECT * FROM findings", "--csv", "--shelf", self.shelf.key).stdout.splitlines()
        self.assertEqual(known[0].split(",")[:4], ["path", "version", "kind", "action"])


class ListsTests(unittest.TestCase):
    """What the page of queries and the console say of the lists is what they are."""

    def test_the_columns_of_all_lists_are_documented_and_completed(self) -> None:
        root = Path(__file__).parents[2]
        page = (root / "docs/queries.md").read_text()
        editor = (root / "console/src/features/query/SqlEditor.tsx").read_text()
        lists = editor[editor.index("const LISTS = {") : editor.index("};")]
        for name, columns in LIST_COLUMNS.items():
            documented = re.search(rf"^\| `{name}` \| (.*) \|$", page, re.M)
            assert documented is not None, name
            self.assertEqual(set(documented[1].split(", ")), set(columns), name)
            completed = re.search(rf"^  {name}: \[(.*?)\],\n(?=  \w|$)", lists, re.M | re.S)
            assert completed is not None, name
            self.assertEqual(set(re.findall(r'"(\w+)"', completed[1])), set(columns), name)


class ForeignTests(ServiceCase):
    """Of a shelf that one may not see nothing shows."""

    def test_findings_are_of_one_shelf_only(self) -> None:
        self.put({"a.json": b'{"n": 1}'})
        self.put({"a.json": b'{"n": 2}'})
        other = self.client.shelf(self.client.make_shelf("Findings beside").key)
        commit_files(other, {"b.json": b'{"n": 1}'}, "Base")
        self.assertEqual(other.query("SELECT path FROM findings").rows, [["b.json"]])
