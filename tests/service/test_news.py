"""What others did since one looked, and what one follows: through the client and the command line."""

from __future__ import annotations

import tempfile
from pathlib import Path

from everyshelf.client import ChangeRequest, ProblemError, ShelfClient
from tests.support.factories import ServiceCase, Terminal
from tests.support.git import run_git


class NewsTests(ServiceCase):
    """An owner who works, a reader who looks in now and then."""

    def setUp(self) -> None:
        super().setUp()
        self.key = self.shelf.key
        self.shelf.set_member("reader", "reader")
        client = self.client_of("reader")
        self.reader = client.shelf(self.key)
        self.everywhere = client.news

    def commit(self, files: dict[str, bytes | None], summary: str, branch: str = "main") -> None:
        self.put(files, summary, branch)

    def subjects(self, shelf: ShelfClient, **asked: bool) -> list[str]:
        return [item.subject for item in shelf.news(**asked).items]

    def test_new_until_seen_and_only_what_others_did(self) -> None:
        self.commit({"a.csv": b"id\n1\n"}, "One")
        first = self.reader.news()
        self.assertIsNone(first.since)
        self.assertEqual(first.items[0].subject, "One")
        self.assertEqual(first.count, len(first.items))
        self.assertEqual(self.shelf.news().count, 0, "what one did oneself is no news")
        self.reader.look(first.newest)
        self.assertEqual((self.reader.news().count, self.reader.news().items), (0, []))
        self.commit({"a.csv": b"id\n2\n"}, "Two")
        self.assertEqual(self.subjects(self.reader), ["Two"])
        self.assertEqual(self.subjects(self.reader, seen_too=True)[:2], ["Two", "One"])
        mine = {one.shelf: one for one in self.everywhere()}[self.key]
        self.assertEqual((mine.count, mine.items[0].words), (1, "committed"))
        self.reader.look(first.newest - 1)
        self.assertGreaterEqual(self.reader.news().count, 2, "what was seen can be made new again")

    def test_pages_have_each_entry_once(self) -> None:
        for number in range(7):
            self.commit({"a.csv": f"id\n{number}\n".encode()}, f"Number {number}")
        seen: list[int] = []
        before = None
        while True:
            page = self.reader.news(limit=3, before=before)
            seen += [item.entry for item in page.items]
            before = page.next
            if before is None:
                break
        self.assertEqual(len(seen), page.count)
        self.assertEqual(seen, sorted(set(seen), reverse=True))

    def test_artifact_is_followed_through_its_moves_and_on_branches(self) -> None:
        self.commit({"a.csv": b"id\n1\n", "b.csv": b"id\n1\n"}, "One")
        self.reader.follow("a.csv")
        self.assertEqual([one.artifact for one in self.reader.follow("a.csv")], ["a.csv"])
        self.reader.look(self.reader.news().newest)
        self.commit({"b.csv": b"id\n2\n"}, "Not this one")
        content = self.shelf.artifact("a.csv").content
        moved = ChangeRequest("data/a.csv", content, moved_from="a.csv")
        self.shelf.commit("main", self.shelf.branch("main").head, [moved], "Moved")
        self.shelf.make_branch("trial")
        self.commit({"data/a.csv": b"id\n3\n"}, "On a branch", "trial")
        told = {item.subject: item.follows for item in self.reader.news().items}
        self.assertEqual((told["Moved"], told["On a branch"]), (["data/a.csv"], ["data/a.csv"]))
        self.assertEqual(told["Not this one"], [])
        self.assertEqual(self.subjects(self.reader, followed=True), ["On a branch", "Moved"])
        self.assertEqual(self.reader.stop_following("data/a.csv"), [])
        self.assertEqual(self.subjects(self.reader, followed=True), [])

    def test_branch_is_followed_until_it_is_let_go(self) -> None:
        self.commit({"a.csv": b"id\n1\n"}, "One")
        self.shelf.make_branch("trial")
        self.reader.follow(branch="trial")
        self.commit({"a.csv": b"id\n2\n"}, "On main")
        self.commit({"a.csv": b"id\n3\n"}, "On trial", "trial")
        self.shelf.open_proposal("Please look", "trial")
        self.shelf.delete_branch("trial")
        found = [(item.act, item.follows) for item in self.reader.news(followed=True).items]
        acts = [act for act, _ in found]
        self.assertIn("branch.deleted", acts)
        self.assertIn("proposal.opened", acts)
        self.assertEqual(acts.count("commit.made"), 1)
        self.assertEqual(self.reader.stop_following(branch="trial"), [], "what is gone can be let go")

    def test_every_commit_of_a_push_is_looked_at(self) -> None:
        self.commit({"a.csv": b"id\n1\n", "b.csv": b"id\n1\n"}, "One")
        self.reader.follow("a.csv")
        self.reader.look(self.reader.news().newest)
        address = self.service.address.replace("//", f"//owner:{self.service.token('owner')}@")
        with tempfile.TemporaryDirectory() as folder:
            clone = Path(folder, "clone")
            run_git("clone", "-q", f"{address}/git/{self.key}.git", str(clone), folder=Path(folder))
            for name in ("a.csv", "b.csv"):
                (clone / name).write_bytes(b"id\n2\n")
                run_git("commit", "-q", "-a", "-m", f"Change {name}", folder=clone)
            run_git("push", "-q", "origin", "main", folder=clone)
        found = self.reader.news(followed=True).items
        self.assertEqual([(item.act, item.follows) for item in found], [("git.pushed", ["a.csv"])])

    def test_asked_wrongly(self) -> None:
        self.commit({"a.csv": b"id\n1\n"}, "One")
        for ask, code in (
            (lambda: self.reader.follow("none.csv"), "artifact.missing"),
            (lambda: self.reader.follow(branch="none"), "branch.missing"),
            (lambda: self.reader.follow("a.csv", branch="main"), "news.one_thing"),
            (lambda: self.reader.follow(), "news.one_thing"),
            (lambda: self.reader.look(10**9), "news.entry"),
        ):
            with self.subTest(code=code), self.assertRaises(ProblemError) as caught:
                ask()
            self.assertEqual(caught.exception.code, code)

    def test_command_line(self) -> None:
        self.commit({"a.csv": b"id\n1\n"}, "One")
        terminal = Terminal(self, self.service, "reader")
        terminal.set("EVERYSHELF_SHELF", self.key)

        def run(*given: str) -> str:
            return terminal.run(*given).stdout

        self.assertIn("You follow 1 thing", run("follow", "a.csv"))
        told = run("news", "--keep")
        self.assertIn("committed One", told)
        self.assertIn("you follow a.csv", told)
        self.assertIn("committed One", run("news"))
        self.assertIn("nothing new since you looked", run("news"))
        self.assertEqual(terminal.json("news", "--seen-too")["items"][-1]["act"], "shelf.made")
        self.assertIn("news --shelf", run("news", "--seen-too", "--limit", "1"))
        self.assertIn("--seen-too --limit 200", run("news", "--seen-too", "--limit", "1"))
        self.assertIn("goes with no other option", terminal.run("news", "--all-shelves", "--followed", code=2).stderr)
        self.assertIn("You follow nothing", run("follow", "a.csv", "--stop"))
