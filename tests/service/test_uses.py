"""Who uses what: exact where the format is, a guess elsewhere, through SQL and code, across shelves; what is missing."""

from __future__ import annotations

import csv
import io
import json

from everyshelf.client import ProblemError
from everyshelf.core.answers.uses import UsesAnswer
from everyshelf.demo import flows
from tests.service.test_users import FARES, FLOW, SCRIPT, TOOL
from tests.support.factories import ServiceCase, Terminal, commit_files
from tests.support.used import BERTHS, FILES, NIGHTLY, notebook

CALLER = flows.refund().replace(
    b"</process>", b'<callActivity id="tell" name="Tell them" calledElement="disruption_notice"/></process>'
)


class ReferenceTests(ServiceCase):
    """Uses and users of artifacts."""

    def setUp(self) -> None:
        super().setUp()
        self.put(
            {
                "flows/clean.cwl": TOOL,
                "flows/delays.cwl": FLOW,
                "flows/notice.bpmn": flows.disruption(),
                "flows/refund.bpmn": CALLER,
                "data/fares.csv": FARES,
                "scripts/total.py": SCRIPT,
                "other/clean.cwl": TOOL,
            }
        )

    def used(self, path: str, side: str) -> list[tuple[str, str, bool]]:
        found = self.shelf.uses(path, depth=1)
        return [(u.artifact, u.label, u.exact) for u in (found.uses if side == "uses" else found.used_by)]

    def test_file_beside_wins_over_one_of_the_same_name_elsewhere(self) -> None:
        self.assertEqual(self.used("flows/delays.cwl", "uses"), [("flows/clean.cwl", "tidy", True)])
        self.assertEqual(self.used("flows/clean.cwl", "used_by"), [("flows/delays.cwl", "tidy", True)])
        self.assertEqual(self.used("other/clean.cwl", "used_by"), [])

    def test_called_process_is_found_by_its_id(self) -> None:
        self.assertEqual(self.used("flows/refund.bpmn", "uses"), [("flows/notice.bpmn", "Tell them", True)])
        self.assertEqual(self.used("flows/notice.bpmn", "used_by"), [("flows/refund.bpmn", "Tell them", True)])

    def test_name_in_a_script_is_a_guess(self) -> None:
        users = self.used("data/fares.csv", "used_by")
        self.assertEqual([(artifact, exact) for artifact, _, exact in users], [("scripts/total.py", False)])

    def test_missing_targets_are_shown(self) -> None:
        missing = self.shelf.uses("flows/delays.cwl").missing
        self.assertEqual([(m.name, m.label) for m in missing], [("plot.cwl", "plot")])
        self.put({"flows/plot.cwl": TOOL})
        self.assertEqual(self.shelf.uses("flows/delays.cwl").missing, [])
        self.put({"flows/notice.bpmn": None})
        missing = self.shelf.uses("flows/refund.bpmn").missing
        self.assertEqual([m.name for m in missing], ["disruption_notice"])

    def test_addresses_and_patterns_are_not_missing(self) -> None:
        steps = [
            {"id": n, "path": p} for n, p in enumerate(("https://x.org/a.csv", "/var/b.csv", "c-*.csv", "${d}.csv"))
        ]
        self.put({"flows/load.json": json.dumps({"steps": steps}).encode()})
        self.assertEqual(self.shelf.uses("flows/load.json").missing, [])

    def test_older_states_have_their_own_users(self) -> None:
        self.shelf.make_tag("one")
        self.put({"flows/delays.cwl": None})
        self.assertEqual(self.used("flows/clean.cwl", "used_by"), [])
        self.assertEqual(len(self.shelf.uses("flows/clean.cwl", "tag:one").used_by), 1)

    def test_inputs_and_outputs_of_a_step(self) -> None:
        found = self.shelf.uses("flows/clean.cwl", part="limit")
        assert found.part is not None
        self.assertEqual((found.part.part, found.part.type, found.part.found), ("/input:limit", "input", True))
        self.assertEqual([(u.place, u.exact) for u in found.used_by], [("/step:tidy/source:limit", True)])
        taken = self.shelf.uses("flows/clean.cwl", part="/output:table")
        self.assertEqual([u.place for u in taken.used_by], ["/step:plot/source:table"])
        self.assertEqual(self.shelf.uses("flows/clean.cwl", part="/output:rejects").used_by, [])


class UsesCase(ServiceCase):
    def hit(self, path: str, part: str | None = None, depth: int = 3, ref: str | None = None) -> dict[str, str]:
        """Who is hit, each with the level and the effect."""
        found = self.shelf.uses(path, ref, part=part, depth=depth)
        own = (u for u in found.used_by if u.shelf == self.shelf.key)  # other tests have shelves too
        return {u.artifact: f"{u.level} {u.effect}" for u in own}


class ColumnTests(UsesCase):
    """A column through SQL, code, pipelines, tests and what they write."""

    def setUp(self) -> None:
        super().setUp()
        self.put(dict(FILES))

    def test_who_breaks_level_by_level(self) -> None:
        self.assertEqual(
            self.hit("data/tides.csv", "tide_window"),
            {
                "notebooks/residuals.ipynb": "1 breaks",
                "pipelines/nightly.json": "1 breaks",
                "scripts/risk.sql": "1 breaks",
                "scripts/train.py": "1 breaks",
                "tests/tide-rules.feature": "1 breaks",
                "scripts/check.py": "3 breaks",
                "scripts/notice.sql": "2 breaks",
                "data/training.csv": "2 alters",
                "models/forecast.pkl": "2 alters",
                "pipelines/weekly.json": "2 alters",
                "scripts/quiet.sql": "2 alters",
            },
        )
        found = self.shelf.uses("data/tides.csv", part="tide_window")
        told = {u.artifact: u for u in found.used_by}
        self.assertEqual((told["pipelines/nightly.json"].exact, told["scripts/train.py"].exact), (True, False))
        self.assertEqual(told["scripts/check.py"].through, ["data/training.csv"])
        self.assertEqual((told["data/training.csv"].verb, told["data/training.csv"].part), ("made by", "window"))
        self.assertEqual(told["notebooks/residuals.ipynb"].label, "t['gap'] = t.tide_window - 2")
        self.assertEqual((found.counts, found.more, found.unread), ({"breaks": 7, "alters": 4}, False, 0))
        self.assertEqual(found.sentence, "Removing column tide_window of data/tides.csv breaks 7 of 11 users.")

    def test_another_column_has_other_users(self) -> None:
        self.assertEqual(
            self.hit("data/tides.csv", "height_m"),
            {"pipelines/heights.json": "1 breaks", "scripts/heights.sql": "1 breaks"},
        )
        self.assertEqual(self.hit("data/tides.csv", "moment"), {})
        self.assertEqual(
            list(self.hit("data/sailings.csv", "delay_minutes", depth=1)), ["scripts/risk.sql", "scripts/train.py"]
        )
        self.assertEqual(self.hit("data/berths.csv"), {})

    def test_levels_that_are_left_out_are_told(self) -> None:
        found = self.shelf.uses("data/tides.csv", part="tide_window", depth=1)
        self.assertEqual((len(found.used_by), found.more), (5, True))
        for odd, code in ((0, "input.number"), (21, "uses.depth")):
            with self.assertRaises(ProblemError) as caught:
                self.shelf.uses("data/tides.csv", depth=odd)
            self.assertEqual(caught.exception.code, code)

    def test_what_it_is_made_by_and_from(self) -> None:
        found = self.shelf.uses("models/forecast.pkl")
        told = [(u.level, u.verb, u.artifact) for u in found.uses]
        self.assertEqual(
            told,
            [
                (1, "made by", "scripts/train.py"),
                (2, "uses", "data/sailings.csv"),
                (2, "uses", "data/tides.csv"),
            ],
        )

    def test_a_part_that_is_not_there(self) -> None:
        found = self.shelf.uses("data/berths.csv", part="tide_window")
        assert found.part is not None
        self.assertEqual((found.part.found, found.used_by), (False, []))
        self.assertIn("has no part “tide_window”", found.sentence)

    def test_each_commit_has_its_own_graph(self) -> None:
        self.shelf.make_tag("before")
        self.shelf.make_branch("try", "main")
        self.put({"scripts/notice.sql": b"select vessel from risk\n", "scripts/risk.sql": None}, branch="try")
        after = self.hit("data/tides.csv", "tide_window", ref="try")
        self.assertNotIn("scripts/risk.sql", after)
        self.assertNotIn("scripts/notice.sql", after)
        self.assertEqual(self.hit("data/tides.csv", "tide_window", ref="tag:before")["scripts/notice.sql"], "2 breaks")
        self.shelf.merge("try", "main")
        self.assertEqual(self.hit("data/tides.csv", "tide_window"), after)
        self.put({"scripts/risk.sql": FILES["scripts/risk.sql"]}, "Back again")
        self.assertEqual(self.hit("data/tides.csv", "tide_window")["scripts/risk.sql"], "1 breaks")

    def test_a_large_commit_is_read_when_it_is_asked_about(self) -> None:
        self.put({f"many/n{n}.sql": b"select tide_window from tides -- %d\n" % n for n in range(520)})
        found = self.shelf.uses("data/tides.csv", part="tide_window", depth=1, limit=2000)
        self.assertEqual((sum(u.artifact.startswith("many/") for u in found.used_by), found.unread), (520, 0))
        self.assertFalse(found.cut)
        self.put({"many/n0.sql": None})
        after = self.shelf.uses("data/tides.csv", part="tide_window", depth=1, limit=2000)
        self.assertEqual(len(after.used_by), len(found.used_by) - 1)
        first = self.shelf.uses("data/tides.csv", part="tide_window", depth=1)
        many = len(first.used_by)  # of the five hundred, a few are on further levels
        self.assertTrue(490 < many <= 500, many)
        self.assertEqual((first.cut, first.counts["breaks"]), (True, many))
        self.assertIn(f"breaks at least {many} users; there are more", first.sentence)
        asked = ("--part", "tide_window", "--depth", "1", "--limit", "3", "--shelf", self.shelf.key)
        said = Terminal(self, self.service).run("uses", "data/tides.csv", *asked).stdout
        self.assertIn("Level 1, use it themselves: 3", said)
        self.assertIn("There are more levels and artifacts than are listed.", said)
        self.assertIn("--part /column:tide_window --depth all --limit 5000", said)

    def test_names_that_repeat(self) -> None:
        more = {f"team{n}/data/tides.csv": BERTHS + b"B,%d\n" % n for n in range(6)}
        more |= {f"team{n}/load.json": NIGHTLY for n in range(6)}
        more |= {
            f"team{n}/notebooks/n.ipynb": notebook(f"t = read_csv('../data/tides.csv')\nt.berth  # {n}")
            for n in range(6)
        }
        self.put(more)
        self.assertEqual(
            self.hit("team3/data/tides.csv", "berth"),
            {"team3/notebooks/n.ipynb": "1 breaks"},
        )
        self.assertIn("team3/load.json", self.hit("team3/data/tides.csv"))
        self.assertNotIn("team2/load.json", self.hit("team3/data/tides.csv"))

    def test_what_could_not_be_read_is_counted_and_texts_are_read_by_lines(self) -> None:
        self.put(
            {
                "scripts/odd.py": b"def (:\n  read('data/tides.csv')\n  tide_window\n",
                "scripts/far.py": b"# far\n" * 1_500_000,
            }
        )
        found = self.shelf.uses("data/tides.csv", part="tide_window")
        told = {u.artifact: (u.place, u.exact) for u in found.used_by}
        self.assertEqual((told["scripts/odd.py"], found.unread), (("/line:3", False), 1))
        self.put({"scripts/far.py": None})
        self.assertEqual(self.shelf.uses("data/tides.csv").unread, 0)


class NamesTests(UsesCase):
    """By ids, messages, calls, names of their own and addresses."""

    def setUp(self) -> None:
        super().setUp()
        self.put(dict(FILES))

    def test_messages_processes_calls_and_own_names(self) -> None:
        self.assertEqual(
            self.hit("workflows/waiter.bpmn"),
            {"workflows/sender.bpmn": "1 breaks", "workflows/caller.bpmn": "2 alters"},
        )
        self.assertEqual(self.hit("workflows/sender.bpmn"), {"workflows/caller.bpmn": "1 breaks"})
        self.assertEqual(self.hit("pipelines/nightly.json"), {"pipelines/weekly.json": "1 breaks"})
        operation = "/path:%2Fnotices%2F{id}/group:get"
        found = self.shelf.uses("apis/notices.yaml", part=operation)
        assert found.part is not None
        self.assertEqual((found.part.type, found.part.label), ("call", "GET /notices/{}"))
        self.assertEqual([(u.artifact, u.label, u.exact) for u in found.used_by], [("apps/board.json", "notice", True)])
        self.assertEqual(self.hit("apis/notices.yaml", "/path:%2Fharbours"), {})

    def test_over_shelves_one_may_see_and_no_others(self) -> None:
        other = self.make_shelf()
        address = f"shelf://here/{self.shelf.key}@main/data/tides.csv"
        commit_files(
            other,
            {
                "far.json": json.dumps(
                    {"steps": [{"id": "far", "path": address, "columns": ["tide_window"]}]}
                ).encode(),
                "workflows/far.bpmn": FILES["workflows/caller.bpmn"],
                "data/tides.csv": BERTHS,
                "beside.json": NIGHTLY,
            },
            "Elsewhere",
        )
        other.uses("far.json")  # reads what the other shelf names
        told = self.shelf.uses("data/tides.csv", part="tide_window").used_by
        self.assertEqual([u.artifact for u in told if u.shelf == other.key], ["far.json"])
        callers = self.shelf.uses("workflows/sender.bpmn").used_by
        self.assertEqual(
            [(u.artifact, u.exact) for u in callers if u.shelf == other.key], [("workflows/far.bpmn", False)]
        )
        self.assertEqual(
            [(u.shelf, u.artifact) for u in other.uses("far.json").uses], [(self.shelf.key, "data/tides.csv")]
        )
        self.shelf.set_member("reader", "reader")
        mine = self.client_of("reader").shelf(self.shelf.key)
        seen = mine.uses("data/tides.csv", part="tide_window")
        self.assertEqual({u.shelf for u in seen.used_by}, {self.shelf.key})
        self.assertEqual(
            (len(seen.used_by), seen.sentence),
            (11, "Removing column tide_window of data/tides.csv breaks 7 of 11 users."),
        )
        self.assertEqual({u.shelf for u in mine.uses("workflows/sender.bpmn").used_by}, {self.shelf.key})
        with self.assertRaises(ProblemError) as caught:
            self.client_of("reader").shelf(other.key).uses("far.json")
        self.assertEqual(caught.exception.status, 404)

    def test_environments_and_the_version_each_has(self) -> None:
        self.shelf.make_environment("test")
        self.shelf.make_tag("one")
        self.shelf.wait(self.shelf.promote("one", "test"))
        changed = FILES["scripts/heights.sql"].replace(b"max(height_m)", b"max(3)")
        self.put(
            {"scripts/heights.sql": changed, "scripts/new.sql": FILES["scripts/heights.sql"]}, "Without the height"
        )
        found = self.shelf.uses("data/tides.csv", part="height_m")
        runs = {u.artifact: [(r.environment, r.version, r.uses) for r in u.runs_in] for u in found.used_by}
        self.assertEqual(
            runs, {"pipelines/heights.json": [("test", 1, True)], "scripts/new.sql": [("test", None, None)]}
        )
        self.assertEqual((found.hit, found.environments), ({"test": 1}, ["test"]))
        self.assertIn("breaks 2 of 2 users, 1 of them in test", found.sentence)
        self.put({"scripts/heights.sql": FILES["scripts/heights.sql"].replace(b"highest", b"top")}, "Again")
        self.put({"scripts/new.sql": None, "pipelines/heights.json": None})
        self.shelf.make_tag("two")
        self.put({"scripts/heights.sql": changed})
        self.shelf.wait(self.shelf.promote("two", "test"))
        self.put({"scripts/heights.sql": FILES["scripts/heights.sql"]})
        found = self.shelf.uses("data/tides.csv", part="height_m")
        self.assertEqual([(u.artifact, u.runs_in[0].uses) for u in found.used_by], [("scripts/heights.sql", True)])


class CommandTests(UsesCase):
    def setUp(self) -> None:
        super().setUp()
        self.put(dict(FILES))
        self.terminal = Terminal(self, self.service)
        self.terminal.set("EVERYSHELF_SHELF", self.shelf.key)

    def test_in_words_as_a_table_and_as_json(self) -> None:
        said = self.terminal.run("uses", "data/tides.csv", "--part", "tide_window").stdout
        self.assertIn("Removing column tide_window of data/tides.csv breaks 7 of 11 users.", said)
        self.assertRegex(said, r"Level 3, through those: 1")
        self.assertRegex(said, r"BREAKS +pipeline +pipelines/nightly.json +tide_window\n")
        self.assertRegex(said, r"is made by scripts/train.py; passes on window")
        rows = list(csv.DictReader(io.StringIO(self.terminal.run("uses", "data/tides.csv", "--csv").stdout)))
        self.assertEqual({row["level"] for row in rows}, {"1", "2", "3"})
        exact = self.terminal.run("uses", "data/tides.csv", "--part", "tide_window", "--exact", "--json").stdout
        self.assertTrue(all(one["exact"] for one in json.loads(exact)["used_by"]))
        self.assertIn("neither a number", self.terminal.run("uses", "data/tides.csv", "--depth", "x", code=2).stderr)
        self.assertIn("data/tidse.csv is not", self.terminal.run("uses", "data/tidse.csv", code=1).stderr)

    def test_missing_names_are_listed(self) -> None:
        self.put({"flows/delays.cwl": FLOW})
        said = self.terminal.run("uses", "flows/delays.cwl").stdout
        for words in ("Nothing that could be read uses flows/delays.cwl.", "missing", "plot.cwl"):
            self.assertIn(words, said)

    def test_a_draft_counts_what_is_pending_as_unread(self) -> None:
        draft = self.shelf.uses("data/tides.csv", "draft:main", part="tide_window")
        self.assertIsInstance(draft, UsesAnswer)
