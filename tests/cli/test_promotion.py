"""Environments, gates, bindings and drift on the command line."""

from __future__ import annotations

import sqlite3
from contextlib import closing

from tests.support.factories import ServiceCase, Terminal
from tests.support.standin import TOKEN, shared_standin

RULES = b'[bindings]\nHARBOUR_ROLE = {in = "settings/*"}\nFEED_TOKEN = {in = "settings/*", secret = true}\n'
FEEDS = b'{"ask": "${HARBOUR_ROLE}", "token": "${FEED_TOKEN}", "late": 20}\n'
JUNIT = """<testsuite name="fares"><testcase name="adult"/><testcase name="child">{}</testcase></testsuite>"""


class PromotionTests(ServiceCase):
    """A platform behind gates, as a keeper and a build pipeline meet it."""

    def setUp(self) -> None:
        super().setUp()
        self.space = shared_standin().space()
        self.put({"shelf.toml": RULES, "settings/feeds.json": FEEDS})
        self.shelf.make_tag("one")
        self.terminal = Terminal(self, self.service)
        self.terminal.set("EVERYSHELF_SHELF", self.shelf.key)
        self.make("harbour")

    def make(self, name: str, *options: str) -> None:
        where = ("--platform", self.space.address, "--token", TOKEN, "--route", "timetable")
        self.terminal.run("env", "make", name, *where, *options)

    def bind(self) -> None:
        self.terminal.run("env", "bind", "harbour", "HARBOUR_ROLE=harbour master", "FEED_TOKEN=a-secret-4711")

    def test_what_holds_is_said_with_the_next_command_and_then_lets_through(self) -> None:
        run = self.terminal.run
        held = run("rehearse", "tag:one", "harbour", code=4).stdout
        self.assertIn("2 bindings without a value", held)
        self.assertIn("Next: everyshelf env bind harbour FEED_TOKEN=VALUE", held)
        self.bind()
        shown = run("env", "bindings", "harbour").stdout
        self.assertIn("harbour master", shown)
        self.assertNotIn("4711", shown)
        run("env", "change", "harbour", "--check", "fares", "--reviews", "1", "--quiet", "Sat 03:00-03:01 Europe/Oslo")
        self.assertIn("quiet from 03:00 to 03:01 Europe/Oslo Sat", run("env", "show", "harbour").stdout)
        self.assertIn("Next: everyshelf env review tag:one harbour", run("rehearse", "one", "harbour", code=4).stdout)
        self.shelf.set_member("keeper", "keeper")
        keeper = Terminal(self, self.service, "keeper")
        keeper.set("EVERYSHELF_SHELF", self.shelf.key)
        self.assertIn("keeper agrees", keeper.run("env", "review", "tag:one", "harbour", "--agree").stdout)
        self.terminal.write("results.xml", JUNIT.format('<failure message="2.50 expected"/>').encode())
        recorded = ("check", "record", "fares", "--junit", "results.xml", "--at", "tag:one")
        path = str(self.terminal.folder / "results.xml")
        recorded = tuple(path if word == "results.xml" else word for word in recorded)
        self.assertIn("1 of 2 passed; failed: child", run(*recorded).stdout)
        self.assertIn("fares", run("promote", "tag:one", "harbour", code=4).stderr)
        self.terminal.write("results.xml", JUNIT.format("").encode())
        self.assertIn("2 of 2 passed", run(*recorded).stdout)
        said = run("promote", "tag:one", "harbour", "--reason", "Spring").stdout
        self.assertIn("2 artifacts read back", said)
        self.assertIn(b"a-secret-4711", self.space.objects()["settings/feeds.json"])
        listed = run("env", "list").stdout
        self.assertIn("route   timetable: harbour", listed)

    def test_a_file_that_holds_no_results_is_refused(self) -> None:
        self.terminal.write("results.xml", b"<notes><a/></notes>")
        path = str(self.terminal.folder / "results.xml")
        self.assertIn(
            "not a file of test results", self.terminal.run("check", "record", "x", "--junit", path, code=1).stderr
        )
        self.terminal.run("check", "record", "x", "--junit", path, "--passed", code=2)

    def test_drift_is_found_captured_and_a_rehearsal_is_saved(self) -> None:
        run = self.terminal.run
        self.bind()
        run("promote", "tag:one", "harbour")
        there = self.space.objects()["settings/feeds.json"]
        self.space.write("settings/feeds.json", there.replace(b"20", b"45"), "connection")
        self.space.write("apps/board.json", b'{"screens": []}', "screen")
        drift = run("drift", "harbour").stdout
        self.assertIn("changed there, by purser", drift)
        self.assertIn("Next: everyshelf drift harbour --capture", drift)
        self.put({"settings/feeds.json": FEEDS.replace(b"20", b"30")})
        self.shelf.make_tag("two")
        refused = self.terminal.json("promote", "two", "harbour", code=4)
        self.assertEqual(refused["problem"]["code"], "gate.drift")
        report = self.terminal.folder / "rehearsal.html"
        run("rehearse", "tag:two", "harbour", "--report", str(report), code=4)
        page = report.read_text()
        self.assertIn("changed there by purser; would be lost", page)
        self.assertNotIn("4711", page)
        held = run("drift", "harbour", "--capture", "--only", "settings/feeds.json", code=3).stdout
        self.assertIn("--prefer environment", held)
        run("drift", "harbour", "--capture", "--prefer", "environment")
        self.assertEqual(self.shelf.read("settings/feeds.json", "draft:main"), FEEDS.replace(b"20", b"45"))
        entries = {e.path for e in self.shelf.drafts()[0].entries}
        self.assertEqual(entries, {"settings/feeds.json", "apps/board.json", "access/everyone.json"})

    def test_a_trial_takes_the_draft_and_goes(self) -> None:
        run = self.terminal.run
        self.put({"shelf.toml": b"", "settings/feeds.json": b"{}\n"})
        self.shelf.make_tag("plain")
        self.assertIn(
            "tag:plain is now running in try-it until", run("env", "try", "try-it", "plain", "--days", "2").stdout
        )
        self.assertIn("Your draft of main is now running in try-it", run("env", "try-draft", "try-it").stdout)
        self.assertIn("forgotten", run("env", "remove", "try-it").stdout)
        self.assertNotIn("try-it", run("env", "list").stdout)
        self.assertIn("1 to 60 days", run("env", "try", "try-it", "plain", "--days", "900", code=1).stderr)

    def test_wrong_usage_is_said(self) -> None:
        for arguments in (
            ("env", "bind", "harbour", "HARBOUR_ROLE"),
            ("env", "change", "harbour"),
            ("env", "change", "harbour", "--quiet", "late"),
            ("env", "make", "x", "--folder", "a", "--platform", "b"),
            ("env", "review", "one", "harbour"),
            ("drift", "harbour", "--prefer", "environment"),
        ):
            with self.subTest(arguments=arguments):
                self.terminal.run(*arguments, code=2)


class RecordsTests(ServiceCase):
    """Two databases on a route, by command line."""

    office: str
    harbours: str

    def setUp(self) -> None:
        super().setUp()
        self.terminal = Terminal(self, self.service)
        self.terminal.set("EVERYSHELF_SHELF", self.shelf.key)
        said = ("--subfolder", "bookings", "--records", "vessels", "--records", "fares", "--route", "records")
        for name in ("office", "harbours"):
            made = self.terminal.json("env", "make", name, "--database", f"{self.shelf.key}/{name}.sqlite", *said)
            setattr(self, name, made["address"])

    def run_in(self, address: str, script: str) -> None:
        with closing(sqlite3.connect(address)) as records:
            records.executescript(script)

    def test_a_database_is_brought_in_put_elsewhere_and_rolled_back(self) -> None:
        run = self.terminal.run
        self.run_in(
            self.office,
            "CREATE TABLE vessels (code TEXT PRIMARY KEY NOT NULL, seats INT); INSERT INTO vessels VALUES ('TERN', 180)",
        )
        self.assertIn("2 artifacts captured", run("drift", "office", "--capture").stdout)
        run("draft", "commit", "--summary", "as the office keeps it")
        run("tag", "make", "one", "--at", "main")
        run("promote", "tag:one", "office")
        put = run("promote", "tag:one", "harbours").stdout
        self.assertRegex(put, r"done +\+ +table +vessels +2 columns")
        self.run_in(
            self.office,
            "ALTER TABLE vessels ADD COLUMN decks INT DEFAULT 1; INSERT INTO vessels VALUES ('EIDER', 48, 2)",
        )
        run("drift", "office", "--capture")
        run("draft", "commit", "--summary", "decks")
        run("tag", "make", "two", "--at", "main")
        rehearsed = run("rehearse", "tag:two", "harbours").stdout
        self.assertRegex(rehearsed, r"there +\+ +column +vessels\.decks +INT, 1 where nothing is told")
        self.assertRegex(rehearsed, r"\+ +records +vessels +1 record put there")
        run("promote", "tag:two", "harbours")
        held = run("rollback", "harbours", code=4).stderr
        self.assertIn("everyshelf rollback harbours --lose vessels.decks", held)
        self.assertIn("LOST with 2 values", run("rollback", "harbours", "--lose", "vessels.decks").stdout)
        beside = run("env", "compare", "office", "harbours").stdout
        self.assertIn("2 artifacts differ; 0 the same", beside)
        self.assertRegex(beside, r"≠ +database +vessels\.table\.json +BREAKS column decks removed")
        self.assertIn("with the records of vessels, fares", run("env", "show", "harbours").stdout)
        wrong = run("env", "make", "more", "--database", "x.sqlite", "--folder", "x", "--subfolder", "bookings", code=2)
        self.assertIn("one destination", wrong.stderr)
