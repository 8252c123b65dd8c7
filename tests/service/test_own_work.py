"""One's own acts never conflict with oneself, and a save point is said to be in a commit where its content is in one."""

from __future__ import annotations

from everyshelf.client import ChangeRequest, ProblemError, Saving, ShelfClient
from tests.support.factories import ServiceCase, commit_files

BASE, FIRST, SECOND = b"zone,fare\nZ1,4\n", b"zone,fare\nZ1,5\n", b"zone,fare\nZ1,6\n"


class OwnWorkTests(ServiceCase):
    def setUp(self) -> None:
        super().setUp()
        self.head = self.put({"fares.csv": BASE, "b.txt": b"1\n"}, "First").commit

    def save(self, data: bytes, path: str = "fares.csv", shelf: ShelfClient | None = None) -> None:
        shelf = shelf or self.shelf
        shelf.save("main", [Saving(path, shelf.upload(data).id)])

    def commits(self) -> list[str | None]:
        """The commit of each save point of fares.csv, the newest first."""
        return [point.commit for point in self.shelf.save_points("main", "fares.csv")]

    def test_a_state_on_the_way_is_in_no_commit(self) -> None:
        self.save(FIRST)
        self.save(SECOND)
        made = self.shelf.commit_draft("main", "Second").commit
        self.assertEqual(self.commits(), [made, None])

    def test_what_a_desk_commits_is_pending_no_more(self) -> None:
        self.save(FIRST)
        self.save(b"2\n", "b.txt")
        made = self.put({"fares.csv": FIRST}, "From the desk").commit
        self.assertEqual(self.commits(), [made])
        (draft,) = self.shelf.drafts()
        self.assertEqual([entry.path for entry in draft.entries], ["b.txt"])
        self.shelf.commit_draft("main", "The rest")
        self.assertEqual(self.shelf.drafts(), [])

    def test_another_persons_commit_takes_up_nothing_of_mine(self) -> None:
        self.shelf.set_member("author", "author")
        self.save(FIRST)
        other = self.client_of("author").shelf(self.shelf.key)
        commit_files(other, {"fares.csv": FIRST}, "Theirs")
        (draft,) = self.shelf.drafts()
        self.assertEqual([entry.path for entry in draft.entries], ["fares.csv"])

    def test_what_one_went_on_from_does_not_conflict_with_what_came_of_it(self) -> None:
        self.save(FIRST)
        self.save(SECOND)
        self.shelf.commit_draft("main", "Second")
        late = [
            ChangeRequest("fares.csv", self.shelf.upload(FIRST).id),
            ChangeRequest("b.txt", self.shelf.upload(b"3\n").id),
        ]
        self.shelf.commit("main", self.head, late, "From a desk that stayed behind", merge=True)
        self.assertEqual((self.shelf.read("fares.csv"), self.shelf.read("b.txt")), (SECOND, b"3\n"))
        self.assertEqual(self.shelf.merges(), [])
        with self.assertRaises(ProblemError) as caught:
            self.shelf.commit("main", self.head, late[:1], "Nothing new", merge=True)
        self.assertEqual(caught.exception.code, "commit.empty")
        # Someone else's conflict is one.
        self.shelf.set_member("author", "author")
        other = self.client_of("author").shelf(self.shelf.key)
        with self.assertRaises(ProblemError) as caught:
            other.commit("main", self.head, [ChangeRequest("fares.csv", other.upload(FIRST).id)], "Theirs", merge=True)
        self.assertEqual(caught.exception.code, "merge.conflict")


if __name__ == "__main__":
    import unittest

    unittest.main()
