"""What is there before anything was promoted, and after a draft was tried: never on both sides, never brought back
unasked, never in the wrong direction."""

from __future__ import annotations

import tempfile
from pathlib import Path

from everyshelf.client import ProblemError, Saving
from tests.support.factories import ServiceCase
from tests.support.git import GitServer, run_git

_ONE, _TWO, _MINE = b"zone,fare\nZ1,4\n", b"zone,fare\nZ1,5\n", b"zone,fare\nZ1,44\n"


class FoundCase(ServiceCase):
    """A repository that was there before, as an environment."""

    def setUp(self) -> None:
        super().setUp()
        self.bare = Path(tempfile.mkdtemp(prefix="found-", dir=self.service.repositories))
        run_git("init", "-q", "--bare", "-b", "main", str(self.bare), folder=self.bare)

    def there(self, files: dict[str, bytes | None]) -> None:
        GitServer.work(self.bare, files, "There")

    def sides(self) -> dict[str, str]:
        return {row["path"]: row["side"] for row in self.shelf.drift("pages")["artifacts"]}

    def wheres(self) -> dict[str, str]:
        return {row["path"]: row["where"] for row in self.shelf.drift("pages")["artifacts"]}


class FoundTests(FoundCase):
    def setUp(self) -> None:
        super().setUp()
        self.put({"same.csv": _ONE, "older.csv": _ONE, "mine.csv": _ONE, "new.csv": _ONE}, "First")
        self.put({"older.csv": _TWO}, "Second")
        self.there({"same.csv": _ONE, "older.csv": _ONE, "mine.csv": _MINE, "only.csv": _MINE})
        self.shelf.make_environment("pages", destination="git", address=f"{self.bare}#main")

    def test_each_difference_is_on_the_side_that_made_it(self) -> None:
        expected = {"older.csv": "shelf", "new.csv": "shelf", "mine.csv": "environment", "only.csv": "environment"}
        self.assertEqual(self.sides(), expected)
        self.assertNotIn("both", self.shelf.drift("pages")["sentence"])

    def test_what_was_removed_there_is_not_brought_back_unasked(self) -> None:
        self.shelf.look_for_drift("pages")
        self.there({"same.csv": None})
        self.assertEqual(self.wheres()["same.csv"], "removed there")
        self.shelf.look_for_drift("pages")
        self.assertEqual(self.sides()["same.csv"], "environment")
        self.shelf.make_tag("one")
        rehearsed = self.shelf.rehearse("one", "pages")
        self.assertEqual(
            [(d["where"], d["lost"]) for d in rehearsed["drift"] if d["path"] == "same.csv"], [("removed there", True)]
        )
        with self.assertRaises(ProblemError) as caught:
            self.shelf.promote("one", "pages")
        self.assertEqual(caught.exception.code, "gate.drift")
        self.shelf.wait(self.shelf.promote("one", "pages", overwrite_drift=True))
        self.assertEqual(self.shelf.drift("pages")["artifacts"], [])

    def test_what_was_captured_and_removed_since_is_known_as_well(self) -> None:
        (row,) = self.shelf.capture("pages", paths=["only.csv"])["artifacts"]
        self.assertEqual(row["by"], "Purser")
        self.shelf.commit_draft("main", "From the pages")
        made = next(self.shelf.commits())
        self.assertEqual(made.description, "Captured:\n- only.csv: added in pages by Purser")
        self.there({"only.csv": None})
        self.assertEqual(self.wheres()["only.csv"], "removed there")


class TriedTests(ServiceCase):
    """A draft in a trial environment."""

    def test_what_was_tried_is_newer_than_the_branch(self) -> None:
        self.put({"fares.csv": _ONE, "b.csv": _ONE}, "First")
        self.shelf.make_tag("one")
        made = self.shelf.make_trial("pages", "one")
        self.shelf.save("main", [Saving("fares.csv", self.shelf.upload(_MINE).id)])
        self.shelf.wait(self.shelf.try_draft("main", "pages"))
        self.assertEqual(Path(made.address, "now/fares.csv").read_bytes(), _MINE)
        self.put({"b.csv": _TWO}, "Newer")
        found = {row["path"]: (row["side"], row["where"]) for row in self.shelf.drift("pages")["artifacts"]}
        self.assertEqual(found, {"fares.csv": ("environment", "tried from a draft"), "b.csv": ("shelf", "")})
        self.shelf.commit_draft("main", "Tried and found good")
        self.assertEqual([row["path"] for row in self.shelf.drift("pages")["artifacts"]], ["b.csv"])


class CapturedTests(ServiceCase):
    """What was changed there, captured and committed says the same on both sides: it is no difference any more."""

    def test_what_is_on_the_branch_as_well_is_not_changed_on_both_sides(self) -> None:
        self.put({"fares.csv": _ONE, "zones.csv": _ONE}, "First")
        self.shelf.make_environment("quay", fed_from="main")
        self.shelf.make_tag("one")
        self.shelf.wait(self.shelf.promote("one", "quay"))
        there = Path(self.shelf.environment("quay").address) / "now"
        (there / "fares.csv").write_bytes(_MINE)
        (there / "zones.csv").unlink()
        self.assertEqual({row["side"] for row in self.shelf.drift("quay")["artifacts"]}, {"environment"})
        self.shelf.capture("quay")
        self.shelf.commit_draft("main", "As it is there")
        drift = self.shelf.drift("quay")
        self.assertEqual((drift["artifacts"], drift["sentence"]), ([], "What was changed in quay is on main as well."))
        (there / "fares.csv").write_bytes(_TWO)
        self.assertEqual([row["side"] for row in self.shelf.drift("quay")["artifacts"]], ["both"])


if __name__ == "__main__":
    import unittest

    unittest.main()
