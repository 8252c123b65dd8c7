"""Servers of Git repositories that mean harm: a link to one says what is wrong, and nothing else suffers."""

from __future__ import annotations

from everyshelf.client import ProblemError
from tests.support.evil_git import EvilGit
from tests.support.factories import ServiceCase
from tests.support.waiting import until


class EvilServerCase(ServiceCase):
    def setUp(self) -> None:
        super().setUp()
        self.put({"fares.csv": b"zone,fare\nA,1\n"}, "First")
        self.server = EvilGit()
        self.addCleanup(self.server.close)
        self.shelf.make_git_link("office", self.server.address, way="fetch")

    def fetched(self) -> None:
        self.shelf.wait(self.shelf.fetch_git_link("office"))

    def refused(self, code: str) -> str:
        """What a test and a fetch say; both are refused, and the shelf is as it was."""
        said = []
        for act in (lambda: self.shelf.test_git_link("office"), self.fetched):
            with self.assertRaises(ProblemError) as caught:
                act()
            self.assertEqual(caught.exception.code, code, str(caught.exception))
            said.append(str(caught.exception))
        self.assertEqual([one.summary for one in self.shelf.commits()], ["First"])
        self.assertEqual([branch.name for branch in self.shelf.branches()], ["main"])
        return said[0]


class AnswerTests(EvilServerCase):
    """Answers that lead elsewhere, or mean nothing."""

    def test_it_is_followed_nowhere(self) -> None:
        for place in ("file:///etc/passwd", "http://169.254.169.254/latest", "ext::sh -c true", self.server.address):
            with self.subTest(place=place):
                self.server.location = place
                self.assertIn("302", self.refused("git.failed"))
        self.assertEqual({path.partition("?")[0] for path in self.server.asked}, {"/ferries.git/info/refs"})

    def test_noise_is_no_repository(self) -> None:
        self.server.answers_noise()
        self.assertIn("protocol error", self.refused("git.failed"))

    def test_a_server_that_fails_is_named(self) -> None:
        self.server.status = 500
        self.assertIn(self.server.host, self.refused("git.failed"))

    def test_a_page_of_one_line_is_no_empty_repository(self) -> None:
        self.server.form, self.server.answer = "text/html", b"<html><body>Sign in to see the repositories</body></html>"
        self.assertIn("not as a Git repository does", self.refused("git.missing"))

    def test_an_answer_that_never_ends(self) -> None:
        self.server.endless = "refs"
        self.refused("git.size")

    def test_an_answer_that_never_comes_is_waited_for_until_somebody_cancels(self) -> None:
        for part in ("refs", "pack"):
            with self.subTest(part=part):
                self.server.silent, asked = part, len(self.server.asked)
                job = self.shelf.fetch_git_link("office")
                until(lambda asked=asked, part=part: len(self.server.asked) > asked + (part == "pack"), "it is asked")  # type: ignore[misc]
                self.client.cancel(job.job)
                with self.assertRaises(ProblemError) as caught:
                    self.shelf.wait(job)
                self.assertIn("cancelled", str(caught.exception))
        self.put({"fares.csv": b"zone,fare\nA,3\n"}, "Second")
        self.assertEqual([one.summary for one in self.shelf.commits()], ["Second", "First"])


class RefTests(EvilServerCase):
    """Names and numbers of branches."""

    def test_names_that_a_shelf_cannot_have_stop_nothing(self) -> None:
        odd = [b"refs/heads/\xff\xfe", b"refs/heads/" + b"y" * 3000, "refs/heads/rød\u202ekay".encode()]
        self.server.refs = [b"refs/heads/main", b"refs/heads/quiet", *odd, b"refs/tags/\xfe"]
        tried = self.shelf.test_git_link("office")
        self.assertEqual(len(tried.odd_names), 4)
        self.fetched()
        self.assertIn("quiet", {branch.name for branch in self.shelf.branches()})
        lines = {line.branch: line.why for line in self.shelf.git_link("office").link.lines}
        self.assertIn("cannot have a branch or tag of that name", lines["\ufffd\ufffd"])
        self.assertIn("y" * 200, lines)
        self.assertIn("r\u00f8d\ufffdkay", lines)

    def test_sixty_thousand_branches_are_too_many(self) -> None:
        self.server.refs = [b"refs/heads/main", *(b"refs/heads/b%d" % n for n in range(60_000))]
        self.assertIn("and this service takes 50,000", self.refused("git.size"))


class PackTests(EvilServerCase):
    """What the pack has in it."""

    def test_objects_that_are_lacking(self) -> None:
        self.server.lacks_objects()
        self.assertIn("damaged or not allowed", self.refused("git.objects"))

    def test_a_file_that_would_be_a_setting_of_git(self) -> None:
        self.server.has_file(".git")
        self.assertIn("damaged or not allowed", self.refused("git.objects"))
