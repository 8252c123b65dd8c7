"""Looking among the commits of a line: what is sought, in which order, page by page."""

from __future__ import annotations

import csv
import io
from datetime import UTC, datetime
from typing import Any

from everyshelf.client import ChangeRequest, CommitMessage, ProblemError
from tests.support.factories import ServiceCase, Terminal
from tests.support.waiting import until

_FARES = b"zone,fare\nZ1,4\nZ2,5\n"


def _on(day: int) -> datetime:
    return datetime(2026, 3, day, 12, tzinfo=UTC)


class HistoryTests(ServiceCase):
    """A line of seven commits by two people over a week, with a branch beside it."""

    def setUp(self) -> None:
        super().setUp()
        self.commit({"data/fares.csv": _FARES, "notes.md": b"# Fares\n"}, "First fares", "maren", 1)
        self.commit({"data/fares.csv": _FARES + b"Z3,6\n"}, "SK-1: a third zone", "ines", 2)
        self.commit({"data/fares.csv": b"zone\nZ1\nZ2\nZ3\n"}, "Without prices", "ines", 3, {"season": "spring"})
        self.shelf.make_tag("spring-1")
        self.move("data/fares.csv", "old/fares.csv", "Put away", "maren", 4)
        self.commit({"old/fares.csv": b"zone\nZ1\nZ2\n"}, "Two zones again", "maren", 5, {"season": "summer"})
        self.commit({"notes.md": b"# Fares\n\nTide\n"}, "Notes on the tide", "ines", 6)
        self.shelf.make_branch("try", "main")
        self.commit({"notes.md": b"# Tried\n"}, "Only tried", "ines", 7, branch="try")

    def commit(
        self,
        files: dict[str, bytes],
        summary: str,
        by: str,
        day: int,
        labels: dict[str, str] | None = None,
        branch: str = "main",
    ) -> None:
        message = CommitMessage(summary, author=by, time=_on(day), labels=labels or {})
        changes = [ChangeRequest(path, self.shelf.upload(data).id) for path, data in files.items()]
        self.shelf.commit(branch, self.shelf.branch(branch).head, changes, message)

    def get(self, **query: Any) -> dict[str, Any]:
        return self.client._transport.get(f"shelves/{self.shelf.key}/commits", dict[str, Any], **query)

    def move(self, old: str, new: str, summary: str, by: str, day: int) -> None:
        content = self.shelf.artifact(old).content
        changes = [ChangeRequest(new, content, moved_from=old), ChangeRequest(old, None)]
        message = CommitMessage(summary, author=by, time=_on(day))
        self.shelf.commit("main", self.shelf.branch("main").head, changes, message)

    def found(self, ref: str = "main", **sought: str) -> list[str]:
        return [one.summary for one in self.shelf.commits(ref, **sought)]

    def test_by_person_time_label_task_and_words(self) -> None:
        self.assertEqual(self.found(by="Ines"), ["Notes on the tide", "Without prices", "SK-1: a third zone"])
        self.assertEqual(self.found(since="2026-03-05"), ["Notes on the tide", "Two zones again"])
        self.assertEqual(self.found(until="2026-03-02"), ["SK-1: a third zone", "First fares"])
        self.assertEqual(self.found(since="2026-03-02", until="2026-03-02"), ["SK-1: a third zone"])
        self.assertEqual(self.found(label="season"), ["Two zones again", "Without prices"])
        self.assertEqual(self.found(label="season=spring"), ["Without prices"])
        self.assertEqual(self.found(words="TIDE notes"), ["Notes on the tide"])
        self.assertEqual(self.found(words="zones", by="ines"), [])

    def test_what_touched_an_artifact_under_all_of_its_names(self) -> None:
        everything = ["Two zones again", "Put away", "Without prices", "SK-1: a third zone", "First fares"]
        self.assertEqual(self.found(path="old/fares.csv"), everything)
        self.assertEqual(self.found(path="old"), ["Two zones again", "Put away"])
        self.assertEqual(self.found(path="data/"), everything[1:])
        self.assertEqual(self.found(path="notes.md"), ["Notes on the tide", "First fares"])
        self.assertEqual(self.found(path="nothing"), [])
        self.assertEqual(self.found(kind="report"), ["Notes on the tide", "First fares"])

    def test_effects_are_of_all_that_a_commit_touched(self) -> None:
        until(lambda: all(one.effect for one in self.shelf.commits()), "every commit is described")
        self.assertEqual(self.found(effect="breaks"), ["Without prices"])
        worst = {one.summary: one.effect for one in self.shelf.commits()}
        self.assertEqual((worst["Without prices"], worst["SK-1: a third zone"]), ("breaks", "alters"))

    def test_from_one_ref_to_another(self) -> None:
        self.assertEqual(self.found(start="tag:spring-1"), ["Notes on the tide", "Two zones again", "Put away"])
        self.assertEqual(self.found("try", start="main"), ["Only tried"])
        self.assertEqual(self.found("main", start="try"), [])
        self.assertEqual(self.found(order="oldest")[0], "First fares")

    def test_a_page_that_follows_is_of_the_same_state(self) -> None:
        for order in ("newest", "oldest"):
            with self.subTest(order):
                whole = self.found(order=order)
                page = self.get(limit=2, order=order)
                self.commit({"notes.md": order.encode()}, f"Meanwhile {order}", "ines", 8)
                seen = [one["summary"] for one in page["items"]]
                while page["next"]:
                    page = self.get(limit=2, order=order, cursor=page["next"])
                    seen += [one["summary"] for one in page["items"]]
                self.assertEqual(seen, whole)
                self.assertEqual(page["total"], len(whole))
        for cursor in ("x", "MC4x", "OTk5OTk5Ljk="):
            with self.subTest(cursor), self.assertRaises(ProblemError) as caught:
                self.get(cursor=cursor)
            self.assertEqual(caught.exception.code, "input.cursor")

    def test_words_that_are_not_known(self) -> None:
        for sought, code in (
            ({"effect": "braeks"}, "input.unknown"),
            ({"kind": "datasets"}, "input.unknown"),
            ({"order": "best"}, "input.unknown"),
            ({"since": "yesterday"}, "ref.date"),
            ({"start": "tag:none"}, "tag.missing"),
        ):
            with self.subTest(sought), self.assertRaises(ProblemError) as caught:
                self.found(**sought)
            self.assertEqual(caught.exception.code, code)

    def test_on_the_command_line(self) -> None:
        terminal = Terminal(self, self.service)
        terminal.set("EVERYSHELF_SHELF", self.shelf.key)
        said = terminal.run("history", "--by", "ines", "--since", "2026-03-03").stdout
        self.assertIn("2 commits of main that match, newest first.", said)
        self.assertNotIn("third zone", said)
        said = terminal.run("history", "--from", "tag:spring-1", "--oldest-first", "--limit", "1").stdout
        self.assertIn("Put away", said)
        self.assertNotIn("Notes", said)
        rows = list(csv.DictReader(io.StringIO(terminal.run("history", "--path", "old/fares.csv", "--csv").stdout)))
        self.assertEqual([row["summary"] for row in rows][-1], "First fares")
        self.assertEqual((rows[2]["labels"], rows[0]["author"]), ("season=spring", "maren"))
        self.assertIn("--path ARTIFACT", terminal.run("history", "notes.md", "--by", "ines", code=2).stderr)
