"""Promotion to a platform: what it does by itself, how it fails, and what is brought back from it."""

from __future__ import annotations

import json
import uuid
from typing import Any

from bench.cutting import Cutting

from everyshelf.client import Job, ProblemError
from tests.support.factories import ServiceCase
from tests.support.standin import TOKEN, Space, Standin, shared_standin
from tests.support.waiting import until

BUNDLE = "access/everyone.json"


def screen(title: str, **more: Any) -> bytes:
    controls = [{"id": "title", "type": "label", "text": title}, {"id": "board", "type": "list", "rows": 12}]
    return (json.dumps({"screens": [{"id": "main", "controls": controls, **more}]}, indent=2) + "\n").encode()


class PlatformCase(ServiceCase):
    def setUp(self) -> None:
        super().setUp()
        self.space: Space = shared_standin().space()
        self.put({"apps/board.json": screen("Harbour"), "settings/feeds.json": b'{"feed": "tides"}\n'})
        self.shelf.make_tag("one")
        self.put({"apps/board.json": screen("Harbour board"), "apps/check-in.json": screen("Check-in")})
        self.shelf.make_tag("two")
        self.shelf.make_environment("test", destination="platform", address=self.space.address, token=TOKEN)

    def promote(self, tag: str, **options: Any) -> dict[str, Any]:
        result = self.shelf.wait(self.shelf.promote(tag, "test", **options)).result
        assert result is not None
        return result

    def ours(self) -> dict[str, bytes]:
        return {name: body for name, body in self.space.objects().items() if name != BUNDLE}

    def state(self, number: int = -1) -> str:
        return self.shelf.deployments("test")[0].state


class PuttingInPlaceTests(PlatformCase):
    """Only what differs is written, and what the platform does besides is recorded."""

    def test_only_what_differs_is_written(self) -> None:
        self.promote("one")
        before = len(self.space.trail())
        result = self.promote("two", overwrite_drift=True)
        self.assertEqual(result["counts"], {"added": 1, "changed": 1, "removed": 0, "same": 1})
        written = [(t["name"], t["act"], t["by"]) for t in self.space.trail()[before:]]
        self.assertEqual(
            sorted(written),
            [
                (BUNDLE, "changed", "the platform"),
                ("apps/board.json", "changed", "the service"),
                ("apps/check-in.json", "added", "the service"),
            ],
        )

    def test_what_the_platform_does_by_itself_is_recorded_and_is_no_drift(self) -> None:
        result = self.promote("one")
        self.assertEqual(result["side_effects"], [BUNDLE])
        self.assertEqual(self.shelf.look_for_drift("test"), [])
        rows = {a["path"]: a for a in self.shelf.drift("test")["artifacts"]}
        self.assertTrue(rows[BUNDLE]["side_effects"])
        self.assertEqual((rows[BUNDLE]["side"], rows[BUNDLE]["by"]), ("environment", "the platform"))
        self.assertEqual((rows["apps/check-in.json"]["side"], rows["apps/board.json"]["side"]), ("shelf", "shelf"))
        self.assertEqual(self.promote("two")["counts"]["removed"], 0)  # what is the platform's own stays

    def test_rolling_back_and_the_history(self) -> None:
        self.promote("one")
        self.promote("two")
        self.shelf.wait(self.shelf.roll_back("test", reason="The board flickers"))
        self.assertEqual(
            self.ours(), {"apps/board.json": screen("Harbour"), "settings/feeds.json": b'{"feed": "tides"}\n'}
        )
        newest = self.shelf.deployments("test")[0]
        self.assertEqual((newest.tag, newest.rolled_back_to), ("one", 1))

    def test_a_wrong_token_is_said_and_never_told(self) -> None:
        self.shelf.change_environment("test", token="not-the-right-one")
        with self.assertRaises(ProblemError) as caught:
            self.promote("one")
        self.assertEqual((caught.exception.status, caught.exception.code), (403, "destination.refused"))
        self.assertNotIn("not-the-right-one", str(caught.exception.problem))
        self.assertTrue(self.shelf.environment("test").has_token)

    def test_addresses_that_cannot_be_are_refused(self) -> None:
        for address in ("http://127.0.0.1:1", "ftp://x/y", "http://me:pw@host/space", "http://host/space?token=x"):
            with self.subTest(address=address), self.assertRaises(ProblemError) as caught:
                self.shelf.make_environment("other", destination="platform", address=address)
            self.assertEqual(caught.exception.code, "environment.address")


class MisbehavingTests(PlatformCase):
    """Whatever the platform does, it holds wholly the old or wholly the new, and the records say which."""

    def setUp(self) -> None:
        super().setUp()
        self.promote("one")
        self.old = self.ours()

    def failed(self, code: str) -> None:
        with self.assertRaises(ProblemError) as caught:
            self.promote("two")
        self.assertEqual(caught.exception.code, code)

    def test_one_that_fails_in_the_middle_and_takes_back(self) -> None:
        self.space.behave(fail_after=1)
        self.failed("destination.failed")
        self.assertEqual((self.state(), self.ours()), ("undone", self.old))
        self.promote("two")  # and can be tried again
        self.assertEqual(self.ours()["apps/board.json"], screen("Harbour board"))

    def test_one_that_leaves_half_is_finished(self) -> None:
        self.space.behave(half_after=1)
        self.promote("two")
        self.assertEqual(self.state(), "recorded")
        self.assertEqual(self.ours()["apps/check-in.json"], screen("Check-in"))

    def test_one_that_leaves_half_again_and_again_is_brought_back(self) -> None:
        self.space.behave(half_after=1, times=4)
        self.failed("destination.failed")
        self.assertEqual((self.state(), self.ours()), ("undone", self.old))

    def test_an_answer_that_is_lost_is_asked_for_again(self) -> None:
        self.space.behave(lost=True)
        self.promote("two")
        self.assertEqual((self.state(), self.ours()["apps/check-in.json"]), ("recorded", screen("Check-in")))

    def test_one_out_of_reach_is_told_and_nothing_is_recorded(self) -> None:
        self.shelf.make_environment("gone", destination="platform", address="http://127.0.0.1:9/space", route="gone")
        with self.assertRaises(ProblemError) as caught:
            self.shelf.rehearse("one", "gone")
        self.assertEqual((caught.exception.status, caught.exception.code), (502, "destination.out_of_reach"))
        self.assertIn("cannot be reached", caught.exception.problem["detail"])

    def test_a_switch_nobody_could_ask_about_is_settled_when_it_answers_again(self) -> None:
        own = Standin()
        self.addCleanup(own.close)
        space = own.space()
        self.shelf.make_environment("far", destination="platform", address=space.address, token=TOKEN, route="far")
        space.behave(late=30)  # the platform does it, and is killed before it says so
        job = self.shelf.promote("one", "far")
        until(space.objects, "nothing was switched")
        own.kill()
        with self.assertRaises(ProblemError) as caught:
            self.shelf.wait(job)
        self.assertEqual(caught.exception.code, "promotion.unsettled")
        self.assertEqual(self.shelf.deployments("far")[0].state, "switching")
        own.start()
        until(lambda: self.shelf.deployments("far")[0].state == "recorded", "it was not recorded")
        self.assertIn("apps/board.json", space.objects())

    def test_one_cut_off_before_it_could_be_read_back_is_finished_when_it_answers_again(self) -> None:
        far = self._behind_a_connection()
        self.connection.cut_after(b"/import HTTP")
        with self.assertRaises(ProblemError) as caught:
            self.shelf.wait(self.shelf.promote("one", "far"))
        self.assertEqual(caught.exception.code, "promotion.unsettled")
        self.assertIn("whether all of it is there is not known", caught.exception.problem["detail"])
        self.assertIn("apps/board.json", far.objects())
        self.assertEqual(self.shelf.deployments("far")[0].state, "switched")
        self.connection.mend()
        until(lambda: self.shelf.deployments("far")[0].state == "recorded", "it was not recorded")

    def test_one_cut_off_while_it_is_made_ready_is_undone_when_it_answers_again(self) -> None:
        far = self._behind_a_connection()
        self.connection.cut_after(b"PUT /")
        with self.assertRaises(ProblemError) as caught:
            self.shelf.wait(self.shelf.promote("one", "far"))
        self.assertEqual(caught.exception.code, "destination.out_of_reach")
        self.assertEqual(self.shelf.deployments("far")[0].state, "planned")
        self.connection.mend()
        until(lambda: self.shelf.deployments("far")[0].state == "undone", "it was not undone")
        self.assertEqual(far.objects(), {})
        self.shelf.wait(self.shelf.promote("one", "far"))
        self.assertIn("apps/board.json", far.objects())

    def _behind_a_connection(self) -> Space:
        self.connection = Cutting(int(self.space.address.rpartition(":")[2].partition("/")[0]))
        self.addCleanup(self.connection.close)
        address = f"http://127.0.0.1:{self.connection.port}/far-{uuid.uuid4().hex[:8]}"
        self.shelf.make_environment("far", destination="platform", address=address, token=TOKEN, route="far")
        host = self.space.address.rpartition("/")[0]
        return Space(f"{host}/{address.rpartition('/')[2]}")


class BringingBackTests(PlatformCase):
    """What was changed in the platform comes into a draft."""

    def setUp(self) -> None:
        super().setUp()
        self.promote("two")

    def draft(self) -> dict[str, bytes]:
        entries = self.shelf.drafts()[0].entries if self.shelf.drafts() else []
        return {e.path: self.shelf.read(e.path, "draft:main") for e in entries}

    def test_changes_and_side_effects_come_along_and_are_told_apart(self) -> None:
        self.space.write("apps/board.json", screen("Harbour board, both quays"), "screen")
        self.space.write("apps/lost-luggage.json", screen("Lost luggage"), "screen")
        drift = {d["path"]: (d["where"], d["by"]) for d in self.shelf.look_for_drift("test")}
        self.assertEqual(drift["apps/board.json"], ("changed there", "purser"))
        self.assertEqual(drift["apps/lost-luggage.json"], ("added there", "purser"))
        found = {a["path"]: (a["taken"], a["side_effects"]) for a in self.shelf.capture("test")["artifacts"]}
        self.assertEqual(
            found,
            {"apps/board.json": (True, False), "apps/lost-luggage.json": (True, False), BUNDLE: (True, True)},
        )
        self.assertEqual(self.draft()["apps/board.json"], screen("Harbour board, both quays"))
        self.assertIn(b"lost-luggage", self.draft()[BUNDLE])
        self.shelf.commit_draft("main", "What the purser changed")
        self.shelf.make_tag("three")
        self.assertEqual(self.shelf.rehearse("three", "test")["counts"]["changed"], 0)

    def test_what_changed_on_both_sides_is_merged_by_meaning(self) -> None:
        here = screen("Harbour board", wide=True)
        self.put({"apps/board.json": here})
        self.space.write("apps/board.json", screen("Harbour board, both quays"), "screen")
        self.assertEqual(
            {a["path"]: a["side"] for a in self.shelf.drift("test")["artifacts"]}["apps/board.json"], "both"
        )
        self.shelf.capture("test", paths=["apps/board.json"])
        self.assertEqual(self.draft()["apps/board.json"], screen("Harbour board, both quays", wide=True))

    def test_what_collides_is_told_until_a_side_is_chosen(self) -> None:
        self.put({"apps/board.json": screen("Quay board")})
        self.space.write("apps/board.json", screen("Boats"), "screen")
        told = self.shelf.capture("test", paths=["apps/board.json"])["artifacts"][0]
        self.assertFalse(told["taken"])
        self.assertIn("Quay board", told["message"])
        self.assertEqual(self.shelf.drafts(), [])
        self.shelf.capture("test", paths=["apps/board.json"], prefer="environment")
        self.assertEqual(self.draft()["apps/board.json"], screen("Boats"))

    def test_what_was_removed_there_is_gone_in_the_draft(self) -> None:
        self.space.remove("settings/feeds.json")
        self.shelf.capture("test", paths=["settings/feeds.json"])
        self.assertEqual([(e.path, e.state) for e in self.shelf.drafts()[0].entries], [("settings/feeds.json", "gone")])

    def test_what_was_not_changed_cannot_be_brought_back(self) -> None:
        with self.assertRaises(ProblemError) as caught:
            self.shelf.capture("test", paths=["apps/board.json"])
        self.assertEqual(caught.exception.code, "capture.unchanged")

    def test_drift_is_looked_for_on_a_schedule(self) -> None:
        self.space.write("apps/board.json", screen("Boats"), "screen")
        self.shelf.change_environment("test", watch_minutes=1)
        until(lambda: self.shelf.environment("test").drift, "nobody looked")
        self.assertEqual([d["path"] for d in self.shelf.environment("test").drift], ["apps/board.json"])


class TrialTests(PlatformCase):
    """Environments for trying things."""

    def test_a_draft_is_tried_and_what_was_changed_there_comes_back(self) -> None:
        space = shared_standin().space()
        self.shelf.set_member("author", "author")
        author = self.client_of("author").shelf(self.shelf.key)
        made = author.make_trial("try-quays", "two", days=2, destination="platform", address=space.address, token=TOKEN)
        self.assertEqual((made.trial_of, made.route), ("two", "trial"))
        self.assertIsNotNone(made.expires)
        content = author.upload(screen("Quays")).id
        author.save("main", [self._saving("apps/board.json", content)])
        author.wait(author.try_draft("main", "try-quays"))
        self.assertEqual(space.objects()["apps/board.json"], screen("Quays"))
        self.assertEqual(author.deployments("try-quays")[0].tag, "two")
        with self.assertRaises(ProblemError) as caught:
            author.try_draft("main", "test")
        self.assertEqual(caught.exception.code, "rights.role")
        author.remove_environment("try-quays")
        self.assertEqual(set(space.objects()), {BUNDLE})
        self.assertNotIn("try-quays", [e.name for e in author.environments()])

    @staticmethod
    def _saving(path: str, content: str) -> Any:
        from everyshelf.client import Saving

        return Saving(path, content)


class QueueTests(PlatformCase):
    """Two promotions to one environment take place one after the other."""

    def test_the_second_waits_for_the_first(self) -> None:
        self.space.behave(slow=0.4)
        jobs: list[Job] = [self.shelf.promote("one", "test"), self.shelf.promote("two", "test")]
        for job in jobs:
            self.shelf.wait(job)
        self.assertEqual([d.state for d in self.shelf.deployments("test")], ["recorded", "recorded"])
        self.assertEqual(self.ours()["apps/board.json"], screen("Harbour board"))
        self.assertEqual(self.shelf.deployments("test")[0].counts, {"added": 1, "changed": 1, "removed": 0, "same": 1})
