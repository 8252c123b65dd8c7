"""Lists that grow with the years: a page at a time, and as many queries for many rows as for few."""

from __future__ import annotations

import base64
import json
from collections.abc import Callable
from datetime import UTC, datetime
from typing import Any

import httpx

from everyshelf.client import ChangeRequest, ProblemError
from tests.support.factories import ServiceCase, Terminal
from tests.support.long_lists import many_of_each

_QUERIES = """
from django.contrib.auth.models import User
from django.db import connection
from django.test.utils import CaptureQueriesContext
from everyshelf.service.environments.actions.environments import list_deployments
from everyshelf.service.environments.models import Environment
from everyshelf.service.experiments.actions import list_experiments
from everyshelf.service.proposals.actions.looking import list_proposals
from everyshelf.service.shelves.actions.branches import list_branches
from everyshelf.service.rights import Caller
from everyshelf.service.shelves.actions.shelves import describe_shelves
from everyshelf.service.shelves.api.shelf_views import tags_json
from everyshelf.service.shelves.models import Shelf, Tag

shelf = Shelf.objects.get(key=KEY)
caller = Caller(User.objects.get(username="owner"))
for number in range(12):
    Shelf.objects.create(key=f"{KEY}-{number}", name=f"{KEY} {number}", created=shelf.created)
place = Environment.objects.get(shelf=shelf)
lists = {
    "proposals": lambda most: list_proposals(shelf, "all", limit=most),
    "deployments": lambda most: list_deployments(place, limit=most),
    "branches": lambda most: list_branches(shelf, limit=most),
    "experiments": lambda most: list_experiments(shelf, limit=most),
    "shelves": lambda most: describe_shelves(caller, Shelf.objects.all()[:most]),
    "tags": lambda most: tags_json(Tag.objects.select_related("commit")[:most]),
}
counted = {}
for name, listed in lists.items():
    listed(12)  # what is read once
    for most in (2, 12):
        with CaptureQueriesContext(connection) as seen:
            listed(most)
        counted.setdefault(name, []).append(len(seen))
import json
print(json.dumps(counted))
"""


class PagesOfVersionsTests(ServiceCase):
    """The versions of an artifact."""

    def setUp(self) -> None:
        super().setUp()
        for number in range(7):
            self.put({"a.txt": b"%d" % number})

    def asked(self, **query: Any) -> httpx.Response:
        address = f"{self.service.address}/api/v1/shelves/{self.shelf.key}/artifact/history"
        headers = {"Authorization": f"Bearer {self.service.token()}"}
        return httpx.get(address, params={"path": "a.txt", **query}, headers=headers)

    def page(self, **query: Any) -> Any:
        answer = self.asked(**query)
        self.assertEqual(answer.status_code, 200, answer.text)
        return answer.json()

    def test_pages_follow_each_other_also_when_a_version_is_made_meanwhile(self) -> None:
        first = self.page(limit=3)
        self.assertEqual(([v["version"] for v in first["items"]], first["total"]), ([7, 6, 5], 7))
        self.put({"a.txt": b"made meanwhile"})
        second = self.page(limit=3, cursor=first["next"])
        self.assertEqual(([v["version"] for v in second["items"]], second["total"]), ([4, 3, 2], 8))
        last = self.page(limit=3, cursor=second["next"])
        self.assertEqual(([v["version"] for v in last["items"]], last["next"]), ([1], None))

    def test_last_page_that_is_full_has_none_after_it(self) -> None:
        self.assertIsNone(self.page(limit=7)["next"])

    def test_client_reads_as_many_pages_as_it_needs(self) -> None:
        self.assertEqual([v.version for v in self.shelf.history("a.txt")], [7, 6, 5, 4, 3, 2, 1])
        self.assertEqual([v.version for v in self.shelf.history("a.txt", limit=2)], [7, 6])

    def test_cursor_that_was_not_given_out_is_refused(self) -> None:
        for cursor in ("nonsense", base64.urlsafe_b64encode(b"%d" % 2**70).decode()):
            answer = self.asked(cursor=cursor)
            self.assertEqual((answer.status_code, answer.json()["code"]), (400, "input.cursor"))


class LongListsTests(ServiceCase):
    """Proposals, deployments, branches and tags of a shelf that has had many."""

    def setUp(self) -> None:
        super().setUp()
        self.shelf.commit("main", None, [ChangeRequest("a.txt", self.shelf.upload(b"1").id)], "First")
        self.service.run_python(many_of_each(self.shelf.key, 12))

    def pages(
        self, what: str, field: str, between: Callable[[], object] = lambda: None, **query: Any
    ) -> list[list[Any]]:
        """One field of each row on each page of five; ``between`` is called after the first."""
        headers = {"Authorization": f"Bearer {self.service.token()}"}
        pages, cursor = [], None
        while not pages or cursor:
            address = f"{self.service.address}/api/v1/shelves/{self.shelf.key}/{what}"
            given = {"limit": 5, **query} | ({"cursor": cursor} if cursor else {})
            page = httpx.get(address, params=given, headers=headers).raise_for_status().json()
            pages.append([one[field] for one in page["items"]])
            cursor = page["next"]
            if len(pages) == 1:
                between()
        return pages

    def numbers(self, what: str, **query: Any) -> list[list[int]]:
        return self.pages(what, "number", **query)

    def test_proposals_and_deployments_are_pages_newest_first(self) -> None:
        all_of_them = [[12, 11, 10, 9, 8], [7, 6, 5, 4, 3], [2, 1]]
        self.assertEqual(self.numbers("proposals", state="all"), all_of_them)
        self.assertEqual(self.numbers("proposals", state="merged"), [[12, 10, 8, 6, 4], [2]])
        self.assertEqual(self.numbers("environments/test/deployments"), all_of_them)
        self.assertEqual([p["number"] for p in self.shelf.proposals("closed")], [11, 9, 7, 5, 3, 1])
        self.assertEqual([d.number for d in self.shelf.deployments("test")], list(range(12, 0, -1)))

    def test_branches_are_pages_by_name_after_the_main_one(self) -> None:
        nights = [f"night/{number:03}" for number in range(1, 13)]
        self.shelf.make_branch("before/all")
        expected = [["main", "before/all", *nights[:3]], nights[3:8], nights[8:]]
        self.assertEqual(self.pages("branches", "name"), expected)
        # Made and deleted between two pages: what is on the pages after it does not move.
        seen = self.pages(
            "branches", "name", lambda: (self.shelf.make_branch("a"), self.shelf.delete_branch("night/002"))
        )
        self.assertEqual(seen, expected)
        self.assertEqual([b.name for b in self.shelf.branches()], ["main", "a", "before/all", nights[0], *nights[2:]])
        self.assertEqual([b.name for b in self.shelf.branches("NIGHT 01")], [nights[0], *nights[9:]])
        self.assertEqual([b.name for b in self.shelf.branches("ain")], ["main"])
        self.assertEqual(self.pages("branches", "name", words="nowhere"), [[]])

    def test_experiments_are_pages_open_ones_first(self) -> None:
        """One that is begun or closed between two pages moves none of the others."""
        for number in (2, 9):
            self.shelf.abandon_experiment(f"night-{number}", "The gauge was broken.")
        keys = [f"night-{number}" for number in (12, 11, 10, 8, 7, 6, 5, 4, 3, 1, 9, 2)]
        expected = [keys[:5], keys[5:10], keys[10:]]
        self.assertEqual(self.pages("experiments", "key"), expected)
        seen = self.pages(
            "experiments",
            "key",
            lambda: (
                self.shelf.begin_experiment("Is it new?", key="new", branch="main"),
                self.shelf.abandon_experiment("night-12", "It was."),
            ),
        )
        self.assertEqual(seen, [*expected[:2], ["night-12", *keys[10:]]])
        self.assertEqual([e["key"] for e in self.shelf.experiments(state="open", limit=2)], ["new", "night-11"])
        self.assertEqual([e["key"] for e in self.shelf.experiments(branch="main")], ["new"])
        self.assertEqual([e["key"] for e in self.shelf.experiments("NIGHT 11")], ["night-11"])
        self.assertEqual([e["key"] for e in self.shelf.experiments("new main")], ["new"])
        self.assertEqual(self.pages("experiments", "key", state="adopted"), [[]])
        listed = Terminal(self, self.service).run("experiment", "list", "--shelf", self.shelf.key, "--words", "night 1")
        self.assertIn("4 experiments, 3 open.", listed.stdout)
        headers = {"Authorization": f"Bearer {self.service.token()}"}
        address = f"{self.service.address}/api/v1/shelves/{self.shelf.key}/experiments"
        for query, code in (("state=closed", "input.invalid"), ("cursor=MQ==", "input.cursor")):
            answer = httpx.get(f"{address}?{query}", headers=headers)
            self.assertEqual((answer.status_code, answer.json()["code"]), (400, code), query)

    def test_one_branch_is_told_without_the_others(self) -> None:
        made = self.shelf.make_branch("ines/tide-height", note="higher")
        self.shelf.commit("ines/tide-height", made.head, [ChangeRequest("b.txt", self.shelf.upload(b"2").id)], "Two")
        found = self.shelf.branch("ines/tide-height")
        self.assertEqual((found.ahead, found.behind, found.note, found.summary), (1, 0, "higher", "Two"))
        self.assertIn(found, self.shelf.branches())
        with self.assertRaises(ProblemError) as caught:
            self.shelf.branch("ines")
        self.assertEqual((caught.exception.status, caught.exception.code), (404, "branch.missing"))

    def test_tags_are_pages_by_the_time_they_tell(self) -> None:
        """Those of a page may have been made at one time, and one that comes from elsewhere tells an older one."""
        self.shelf.make_tag("old", created=datetime(2019, 5, 4, tzinfo=UTC), created_by="ines")
        nights = [f"night-{number}" for number in range(12, 0, -1)]
        self.assertEqual(self.pages("tags", "name"), [nights[:5], nights[5:10], [*nights[10:], "old"]])
        seen = self.pages("tags", "name", lambda: self.shelf.make_tag("new"))
        self.assertEqual([name for page in seen for name in page], [*nights, "old"])
        self.assertEqual([tag.name for tag in self.shelf.tags(limit=2)], ["new", "night-12"])
        self.assertEqual(
            [tag.name for tag in self.shelf.tags("night 1")], ["night-12", "night-11", "night-10", "night-1"]
        )
        headers = {"Authorization": f"Bearer {self.service.token()}"}
        for text in (
            "2019-05-04T00:00:00+00:00",
            "2019-05-04T00:00:00 7",
            "yesterday 7",
            "2019-05-04T00:00:00+00:00 -1",
        ):
            for what in ("tags", "proposals"):
                cursor = base64.urlsafe_b64encode(text.encode()).decode()
                address = f"{self.service.address}/api/v1/shelves/{self.shelf.key}/{what}?cursor={cursor}"
                answer = httpx.get(address, headers=headers)
                self.assertEqual((answer.status_code, answer.json()["code"]), (400, "input.cursor"), text)

    def test_command_lists_those_with_words_in_their_names(self) -> None:
        terminal = Terminal(self, self.service)
        listed = ("--shelf", self.shelf.key, "--words", "night 11", "--json")
        self.assertEqual([b["name"] for b in terminal.json("branch", "list", *listed)], ["night/011"])
        self.assertEqual([t["name"] for t in terminal.json("tag", "list", *listed)], ["night-11"])

    def test_twelve_rows_take_as_many_queries_as_two(self) -> None:
        counted = json.loads(self.service.run_python(f"KEY = {self.shelf.key!r}\n{_QUERIES}"))
        for name, (few, many) in counted.items():
            self.assertEqual(few, many, name)
            self.assertGreater(few, 0, name)

    def test_shelves_are_counted_each_by_itself(self) -> None:
        other = self.client.make_shelf(f"{self.shelf.key} beside")
        counted = {
            one.key: (one.branches, one.tags, one.commits, one.environments, one.proposals, one.experiments, one.role)
            for one in self.client.shelves()
        }
        self.assertEqual(counted[self.shelf.key], (13, 12, 1, 1, 0, 12, "owner"))
        self.assertEqual(counted[other.key], (1, 0, 0, 0, 0, 0, "owner"))
        with self.service.client("reader") as reader:
            self.assertNotIn(other.key, [one.key for one in reader.shelves()])

    def test_experiment_says_what_its_runs_say_also_after_another_one(self) -> None:
        before = self.shelf.experiments()
        self.assertEqual([one["key"] for one in before], [f"night-{number}" for number in range(12, 0, -1)])
        self.assertEqual(len({one["answer"] for one in before}), 1)
        self.shelf.record_run("night-7", "main", str(self.shelf.branch("main").head), metrics={"error": 1})
        answers = {one["key"]: one["answer"] for one in self.shelf.experiments()}
        self.assertEqual([key for key, answer in answers.items() if answer != before[0]["answer"]], ["night-7"])

    def test_each_row_still_says_what_it_did(self) -> None:
        proposal = self.shelf.proposals("all")[0]
        self.assertEqual((proposal["remarks"], proposal["remarks_open"], proposal["reviewers"]), (1, 1, []))
        self.assertEqual({tuple(tag.environments) for tag in self.shelf.tags()}, {("test",)})
