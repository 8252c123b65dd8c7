"""How long a shelf keeps what was saved: nothing goes unless its owner says so, and nothing that is still needed."""

from __future__ import annotations

from everyshelf.client import ProblemError
from everyshelf.core.answers.drafts import DraftKeeping
from tests.service.test_drafts import DraftCase
from tests.service.test_merging import flow


class KeepingCase(DraftCase):
    """Days pass by setting back when save points were made."""

    def later(self, days: int, *, then: bool = True) -> None:
        """Let days pass, and the hour in which what is over is removed (``then``)."""
        self.service.run_python(
            "from datetime import timedelta\n"
            "from django.db.models import F\n"
            "from everyshelf.service.drafts.keeping import remove_old\n"
            "from everyshelf.service.drafts.models import SavePoint\n"
            f"points = SavePoint.objects.filter(draft__shelf__key={self.shelf.key!r})\n"
            f"points.update(made=F('made') - timedelta(days={days}))\n"
            f"{then} and remove_old()\n"
        )

    def points(self, path: str = "") -> list[int]:
        return [point.point for point in self.shelf.save_points("main", path)]


class SavePointTests(KeepingCase):
    """Save points that no longer count."""

    def setUp(self) -> None:
        super().setUp()
        self.put({"a.txt": b"1\n"})
        for text in (b"2\n", f"only on {self.shelf.key}\n".encode(), b"4\n"):
            self.save({"a.txt": text})
        self.save({"b.txt": b"b\n", "c.txt": b"c\n"})
        self.shelf.discard_draft("main", ["c.txt"])  # points 5 and 6
        self.shelf.commit_draft("main", "With b", ["b.txt"])  # point 4

    def test_all_are_kept_as_long_as_nothing_is_said(self) -> None:
        self.later(4000, then=False)
        self.assertEqual(
            self.shelf.draft_keeping(), DraftKeeping(save_points=None, drafts=None, due_points=0, due_changes=0)
        )
        self.later(0)
        self.assertEqual(self.points(), [6, 5, 4, 3, 2, 1])

    def test_those_that_no_longer_count_go_when_their_time_is_over(self) -> None:
        self.shelf.change_draft_keeping(save_points=30)
        self.later(29)
        self.assertEqual(len(self.points()), 6)
        self.later(2, then=False)
        self.assertEqual(self.shelf.draft_keeping().due_points, 5)
        self.later(0)
        self.assertEqual(self.points(), [3])  # what is pending stays
        self.assertEqual(self.states(), {"a.txt": "edited"})
        self.assertEqual(self.shelf.draft_keeping().due_points, 0)
        self.save({"a.txt": b"5\n", "b.txt": b"bb\n", "c.txt": b"again\n"})
        self.assertEqual(self.points(), [9, 8, 7, 3])
        with self.assertRaisesRegex(ProblemError, "no save point 4"):
            self.shelf.restore_point("main", 4)

    def test_what_only_they_named_is_freed_and_what_commits_name_stays(self) -> None:
        old = self.shelf.save_points("main", "a.txt")[1].content
        committed = self.shelf.save_points("main", "b.txt")[0].content
        self.shelf.change_draft_keeping(save_points=1)
        self.later(2)
        said = self.service.run_python(
            "from everyshelf.core.content.ids import content_id\n"
            "from everyshelf.service.base.config import get_config\n"
            "from everyshelf.service.base.context import get_store\n"
            "from everyshelf.service.keeping.reaching import Reached, follow_records\n"
            "reached = Reached(get_store())\n"
            "follow_records(get_config().database, reached, lambda *_: None)\n"
            f"print([bytes.fromhex(one) in reached.contents for one in ({old!r}, {committed!r})])\n"
        )
        self.assertEqual(said.strip(), "[False, True]")

    def test_those_of_a_merge_that_waits_stay(self) -> None:
        self.put({"flow.json": flow()})
        self.save({"flow.json": flow(weigh_timeout=45)})
        self.put({"flow.json": flow(weigh_timeout=50)})
        with self.assertRaises(ProblemError) as caught:
            self.shelf.commit_draft("main", "Longer", ["flow.json"], merge=True)
        self.save({"flow.json": flow(weigh_timeout=46)})
        before = self.points("flow.json")
        self.shelf.change_draft_keeping(save_points=7, drafts=7)
        self.later(8)
        self.assertEqual(self.points("flow.json"), before)
        self.assertIn("flow.json", self.states())
        self.shelf.abandon_merge(caught.exception.problem["merge"])
        self.later(0)
        self.assertNotIn("flow.json", self.states())


class DraftTests(KeepingCase):
    """Pending changes whose time is over are discarded, and can be restored."""

    def setUp(self) -> None:
        super().setUp()
        self.put({"a.txt": b"1\n"})
        self.save({"a.txt": b"2\n", "b.txt": b"b\n"})

    def test_a_draft_says_until_when_it_is_kept(self) -> None:
        self.assertIsNone(self.shelf.drafts()[0].until)
        self.shelf.change_draft_keeping(drafts=60)
        (draft,) = self.shelf.drafts()
        assert draft.until is not None and draft.saved is not None
        self.assertEqual((draft.until - draft.saved).days, 60)

    def test_it_counts_from_when_any_of_it_was_saved_last(self) -> None:
        self.shelf.change_draft_keeping(drafts=60)
        self.later(59, then=False)
        self.save({"b.txt": b"bb\n"})
        self.later(2)
        self.assertEqual(self.states(), {"a.txt": "edited", "b.txt": "new"})
        self.later(59, then=False)
        self.assertEqual(self.shelf.draft_keeping().due_changes, 2)
        self.later(0)
        self.assertEqual(self.states(), {})
        self.shelf.restore_point("main", 1)
        self.assertEqual(self.states(), {"a.txt": "edited"})

    def test_other_shelves_are_left_alone(self) -> None:
        other = self.client.shelf(self.client.make_shelf("Other").key)
        other.change_draft_keeping(drafts=7, save_points=1)
        self.later(900)
        self.assertEqual(self.states(), {"a.txt": "edited", "b.txt": "new"})


class RuleTests(KeepingCase):
    """What may be set, and that it is told."""

    def test_what_is_not_given_stays_and_null_is_for_ever(self) -> None:
        self.shelf.change_draft_keeping(save_points=30, drafts=90)
        found = self.shelf.change_draft_keeping(save_points=None)
        self.assertEqual((found.save_points, found.drafts), (None, 90))

    def test_days_that_make_no_sense_are_refused(self) -> None:
        for wrong in ({"drafts": 1}, {"save_points": 0}, {"save_points": 100_000}, {"drafts": "soon"}, {"point": 3}):
            with self.subTest(wrong=wrong), self.assertRaises(ProblemError) as caught:
                self.shelf.change_draft_keeping(**wrong)  # type: ignore[arg-type]
            self.assertEqual(caught.exception.status, 400)
        self.assertIsNone(self.shelf.draft_keeping().drafts)

    def test_a_change_is_in_the_log(self) -> None:
        self.shelf.change_draft_keeping(drafts=90)
        newest = next(self.shelf.log(act="shelf.changed"))
        self.assertEqual(newest.detail, {"drafts_days": 90})
