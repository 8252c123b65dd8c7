"""Saved views: own and shared ones, through the client and the command line."""

from __future__ import annotations

from everyshelf.client import ProblemError
from tests.support.factories import ServiceCase, Terminal


class SavedViewsTests(ServiceCase):
    """An owner and a reader."""

    def setUp(self) -> None:
        super().setUp()
        self.shelf.set_member("reader", "reader")
        self.reader = self.client_of("reader").shelf(self.shelf.key)

    def code(self, name: str, address: str, **said: bool) -> str:
        with self.assertRaises(ProblemError) as caught:
            self.shelf.save_view(name, address, **said)
        return caught.exception.code

    def test_own_views_are_seen_by_oneself_and_shared_ones_by_all(self) -> None:
        self.shelf.save_view("zone 2", "/history?by=tobias")
        self.shelf.save_view("Broken", "?effect=breaks", shared=True)
        self.assertEqual([(v.name, v.own) for v in self.shelf.views()], [("Broken", True), ("zone 2", True)])
        (seen,) = self.reader.views()
        self.assertEqual((seen.name, seen.address, seen.person, seen.own), ("Broken", "?effect=breaks", "owner", False))
        self.reader.save_view("Broken", "?effect=alters")
        self.assertEqual(
            [(v.address, v.own) for v in self.reader.views()], [("?effect=alters", True), ("?effect=breaks", False)]
        )

    def test_a_name_is_saved_over_and_removed(self) -> None:
        self.shelf.save_view(" two   words ", "/log")
        self.shelf.save_view("two words", "/news")
        self.assertEqual([v.address for v in self.shelf.views()], ["/news"])
        self.assertEqual(self.shelf.remove_view("two words"), [])
        with self.assertRaises(ProblemError) as caught:
            self.shelf.remove_view("two words")
        self.assertEqual((caught.exception.status, caught.exception.code), (404, "view.missing"))

    def test_a_view_leads_nowhere_but_into_the_shelf(self) -> None:
        for address in (
            "https://example.org",
            "//example.org/s",
            "/../other",
            "/a/./b",
            "log",
            "/log#x",
            "/a\\b",
        ):
            self.assertEqual(self.code("view", address), "view.address", address)
        self.assertEqual(self.code("  ", "/log"), "input.invalid")
        self.assertEqual(self.shelf.views(), [])

    def test_a_reader_saves_and_shares_nothing(self) -> None:
        with self.assertRaises(ProblemError) as caught:
            self.reader.save_view("mine", "/log", shared=True)
        self.assertEqual(caught.exception.status, 403)
        self.shelf.save_view("ours", "/log", shared=True)
        with self.assertRaises(ProblemError):
            self.reader.remove_view("ours")
        self.assertEqual(len(self.shelf.views()), 1)

    def test_at_the_command_line(self) -> None:
        terminal = Terminal(self, self.service)
        terminal.set("EVERYSHELF_SHELF", self.shelf.key)
        page = f"{self.service.address}/s/{self.shelf.key}/history?kind=dataset"
        self.assertIn(page, terminal.run("view", "save", "Tables", page, "--share").stdout)
        self.assertEqual(self.shelf.views()[0].address, "/history?kind=dataset")
        self.assertIn("shared", terminal.run("view", "list").stdout)
        self.assertIn("0 saved views", terminal.run("view", "remove", "Tables").stdout)
        self.assertIn("everyshelf view list", terminal.run("view", "remove", "Tables", code=1).stderr)
