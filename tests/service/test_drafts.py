"""Edits kept on the server as they are made: save points, their trail, committing a selection, surviving kills."""

from __future__ import annotations

import unittest

from everyshelf.client import Draft, ProblemError, Saving
from tests.service.test_merging import MergingCase, flow
from tests.support.service import Service


class DraftCase(MergingCase):
    def save(self, files: dict[str, bytes | None], onto: dict[str, int] | None = None) -> Draft:
        entries = [
            Saving(p, self.shelf.upload(d).id if d is not None else None, onto=(onto or {}).get(p))
            for p, d in files.items()
        ]
        return self.shelf.save("main", entries)

    def states(self) -> dict[str, str]:
        return {e.path: e.state for d in self.shelf.drafts() for e in d.entries}


class SavingTests(DraftCase):
    """What a person has pending on a branch."""

    def test_states_are_told_against_the_commit_it_builds_on(self) -> None:
        self.put({"a.txt": b"1\n", "b.txt": b"1\n"})
        draft = self.save({"a.txt": b"2\n", "b.txt": None, "c.txt": b"new\n"})
        self.assertEqual(self.states(), {"a.txt": "edited", "b.txt": "gone", "c.txt": "new"})
        self.assertEqual((draft.branch, draft.base, draft.behind), ("main", draft.head, False))
        self.assertIsNotNone(draft.saved)

    def test_every_edit_is_a_save_point_and_an_equal_one_is_none(self) -> None:
        self.put({"a.txt": b"1\n"})
        for text in (b"2\n", b"3\n", b"3\n", b"4\n"):
            self.save({"a.txt": text})
        trail = self.shelf.save_points("main", "a.txt")
        self.assertEqual([p.point for p in trail], [3, 2, 1])
        self.assertEqual([self.shelf.content(p.content or "") for p in trail], [b"4\n", b"3\n", b"2\n"])

    def test_back_to_what_was_committed_is_not_pending(self) -> None:
        self.put({"a.txt": b"1\n"})
        self.save({"a.txt": b"2\n"})
        self.save({"a.txt": b"1\n"})
        self.assertEqual(self.states(), {})

    def test_an_edit_made_on_another_save_point_is_refused(self) -> None:
        self.put({"a.txt": b"1\n"})
        self.save({"a.txt": b"2\n"}, {"a.txt": 0})
        self.save({"a.txt": b"3\n"}, {"a.txt": 1})
        with self.assertRaises(ProblemError) as caught:
            self.save({"a.txt": b"other\n", "b.txt": b"x\n"}, {"a.txt": 1})
        self.assertEqual((caught.exception.status, caught.exception.problem["code"]), (409, "draft.moved"))
        self.assertEqual(caught.exception.problem["point"], 2)
        self.assertEqual(self.states(), {"a.txt": "edited"})  # all or none

    def test_discarded_entries_can_be_brought_back(self) -> None:
        self.put({"a.txt": b"1\n"})
        self.save({"a.txt": b"2\n"})
        self.save({"a.txt": b"3\n", "b.txt": b"b\n"})
        self.assertEqual([e.path for e in self.shelf.discard_draft("main", ["a.txt"]).entries], ["b.txt"])
        draft = self.shelf.restore_point("main", 1)
        found = {e.path: self.shelf.content(e.content or "") for e in draft.entries}
        self.assertEqual(found, {"a.txt": b"2\n", "b.txt": b"b\n"})
        self.assertEqual(self.shelf.discard_draft("main").entries, [])

    def test_nobody_else_sees_a_draft(self) -> None:
        self.put({"a.txt": b"1\n"})
        self.save({"a.txt": b"2\n"})
        self.shelf.set_member("keeper", "keeper")
        other = self.client_of("keeper").shelf(self.shelf.key)
        self.assertEqual(other.drafts(), [])
        with self.assertRaises(ProblemError) as caught:
            other.save_points("main")
        self.assertEqual(caught.exception.problem["code"], "draft.none")

    def test_readers_have_no_drafts(self) -> None:
        self.put({"a.txt": b"1\n"})
        self.shelf.set_member("reader", "reader")
        reader = self.client_of("reader").shelf(self.shelf.key)
        with self.assertRaises(ProblemError) as caught:
            reader.save("main", [Saving("a.txt", None)])
        self.assertEqual(caught.exception.status, 403)

    def test_what_cannot_be_saved_is_refused_in_words(self) -> None:
        self.put({"a.txt": b"1\n"})
        for entry, code in (
            (Saving("../a.txt", None), "path.invalid"),
            (Saving("none.txt", None), "draft.missing"),
            (Saving("a.txt", "f" * 64), "content.missing"),
        ):
            with self.assertRaises(ProblemError) as caught:
                self.shelf.save("main", [entry])
            self.assertEqual(caught.exception.problem["code"], code)
        with self.assertRaises(ProblemError) as caught:
            self.shelf.save("nowhere", [Saving("a.txt", None)])
        self.assertEqual(caught.exception.problem["code"], "branch.missing")
        self.save({"a.txt": b"2\n"})
        with self.assertRaises(ProblemError) as caught:
            self.shelf.restore_point("main", 99)
        self.assertEqual(caught.exception.problem["code"], "draft.point")


class CommittingTests(DraftCase):
    """From a draft to a commit."""

    def test_a_selection_is_committed_and_the_rest_stays(self) -> None:
        self.put({"a.txt": b"1\n"})
        self.save({"a.txt": b"2\n", "b.txt": b"b\n"})
        made = self.shelf.commit_draft("main", "Only a", ["a.txt"])
        self.assertEqual(self.states(), {"b.txt": "new"})
        self.assertEqual(self.shelf.read("a.txt"), b"2\n")
        trail = {p.path: p.commit for p in self.shelf.save_points("main")}
        self.assertEqual(trail, {"a.txt": made.commit, "b.txt": None})
        self.shelf.commit_draft("main", "And b")
        self.assertEqual((self.states(), self.shelf.read("b.txt")), ({}, b"b\n"))

    def test_a_branch_that_moved_on_is_combined_by_meaning(self) -> None:
        self.put({"flow.json": flow()})
        self.save({"flow.json": flow(sail_timeout=99)})
        self.put({"flow.json": flow(weigh_timeout=45)})
        self.assertTrue(self.shelf.drafts()[0].behind)
        with self.assertRaises(ProblemError) as caught:
            self.shelf.commit_draft("main", "Mine")
        self.assertEqual(caught.exception.problem["code"], "branch.moved")
        self.shelf.commit_draft("main", "Mine", merge=True)
        self.assertEqual(self.shelf.read("flow.json"), flow(weigh_timeout=45, sail_timeout=99))
        self.assertEqual(self.states(), {})

    def test_a_merge_that_waits_takes_the_draft_up_when_it_is_finished(self) -> None:
        self.put({"flow.json": flow()})
        self.save({"flow.json": flow(weigh_timeout=60)})
        self.put({"flow.json": flow(weigh_timeout=45)})
        with self.assertRaises(ProblemError) as caught:
            self.shelf.commit_draft("main", "Mine", merge=True)
        self.assertEqual(self.states(), {"flow.json": "edited"})
        merge = caught.exception.problem["merge"]
        self.shelf.settle(merge, [{"take": "source"}])
        made = self.shelf.finish_merge(merge)
        self.assertEqual(self.states(), {})
        self.assertEqual(self.shelf.save_points("main")[0].commit, made.commit)
        self.assertEqual(self.shelf.read("flow.json"), flow(weigh_timeout=60))


class KilledTests(unittest.TestCase):
    """What was acknowledged is there after the service was killed."""

    def test_every_acknowledged_save_point_survives_kills(self) -> None:
        service = Service()
        self.addCleanup(service.stop)
        with service.client() as client:
            key = client.make_shelf("Kept").key
        acknowledged: list[bytes] = []
        for _ in range(3):
            with service.client() as client:
                shelf = client.shelf(key)
                for n in range(4):
                    text = b"state %d\n" % (len(acknowledged) + n)
                    shelf.save("main", [Saving("a.txt", shelf.upload(text).id)])
                    acknowledged.append(text)
            service.kill_group()
            service.start()
        with service.client() as client:
            shelf = client.shelf(key)
            trail = shelf.save_points("main", "a.txt")
            self.assertEqual([shelf.content(p.content or "") for p in reversed(trail)], acknowledged)
