"""Long work: progress, polling, cancel, and what a restart makes of it."""

from __future__ import annotations

import sqlite3
import unittest
from pathlib import Path

import httpx

from everyshelf.client import ChangeRequest, ProblemError
from tests.support.factories import ServiceCase, commit_files
from tests.support.service import Service
from tests.support.waiting import until


class JobTests(ServiceCase):
    """A job is a row that can be looked at."""

    def test_job_tells_how_it_ended(self) -> None:
        self.put({"a.txt": b"1"})
        seen = []
        job = self.shelf.wait(self.shelf.verify(), seen.append)
        self.assertEqual((job.state, job.kind, job.problem), ("done", "verify", None))
        self.assertEqual(seen[-1].job, job.job)

    def test_polling_answers_unchanged_with_304(self) -> None:
        self.put({"a.txt": b"1"})
        job = self.shelf.wait(self.shelf.verify())
        address = f"{self.service.address}/api/v1/jobs/{job.job}"
        headers = {"Authorization": f"Bearer {self.service.token()}"}
        first = httpx.get(address, headers=headers)
        again = httpx.get(address, headers={**headers, "If-None-Match": first.headers["etag"]})
        self.assertEqual((first.status_code, again.status_code, again.content), (200, 304, b""))

    def test_jobs_of_others_are_missing(self) -> None:
        self.put({"a.txt": b"1"})
        job = self.shelf.verify()
        with self.assertRaises(ProblemError) as caught:
            self.client_of("stranger").job(job.job)
        self.assertEqual((caught.exception.status, caught.exception.code), (404, "job.missing"))

    def test_ended_job_cannot_be_cancelled(self) -> None:
        self.put({"a.txt": b"1"})
        job = self.shelf.wait(self.shelf.verify())
        self.assertEqual(self.client.cancel(job.job).state, "done")

    def test_reader_cannot_cancel_what_a_keeper_started(self) -> None:
        self.put({"a.txt": b"1"})
        self.shelf.set_member("reader", "reader")
        job = self.shelf.verify()
        with self.assertRaises(ProblemError) as caught:
            self.client_of("reader").cancel(job.job)
        self.assertEqual(caught.exception.code, "rights.role")

    def test_many_long_jobs_of_one_person_do_not_keep_the_others_waiting(self) -> None:
        order = self.service.run_python("""
from datetime import timedelta
from django.contrib.auth.models import User
from django.db import transaction
from django.utils import timezone
from everyshelf.service.exchange.jobs import KIND
from everyshelf.service.jobs.actions import Sort
from everyshelf.service.jobs.models import Job, State
from everyshelf.service.jobs.working import next_job
now = timezone.now() + timedelta(days=1)
with transaction.atomic():  # never seen by the worker
    people = [User.objects.create(username=name) for name in ("mallory", "ines")]
    for place, person in enumerate([0, 0, 0, 1]):
        Job.objects.create(uid=f"{place}", kind=KIND, person=people[person], queued=now + timedelta(seconds=place))
    for step in range(4):
        job = Job.objects.get(uid=next_job((Sort.LONG,)))
        job.state, job.heartbeat = State.DONE, now + timedelta(minutes=step)
        job.save()
        print(job.person.username, job.uid)
    transaction.set_rollback(True)
""")
        self.assertEqual(order.splitlines(), ["mallory 0", "ines 3", "mallory 1", "mallory 2"])

    def test_versions_are_described_after_the_commit(self) -> None:
        self.put({"f.csv": b"id,x\n1,2\n"})
        self.put({"f.csv": b"id,x\n1,3\n"})
        until(lambda: all(v.headline for v in self.shelf.history("f.csv")), "the versions were not described")
        self.assertEqual(
            [(v.effect, v.headline) for v in self.shelf.history("f.csv")],
            [("alters", "1 cell in x"), ("alters", "first version")],
        )

    def test_a_version_is_described_against_the_one_it_was_made_of(self) -> None:
        self.put({"f.csv": b"id,x\n1,2\n2,2\n"})
        self.shelf.make_branch("try", "main")
        self.put({"f.csv": b"id,x\n1,9\n2,2\n3,3\n"}, branch="try")
        self.put({"f.csv": b"id,x\n1,2\n2,5\n"})
        self.put({"f.csv": None})
        self.put({"f.csv": b"id,x\n1,2\n2,6\n"}, "Again")
        until(lambda: all(v.headline for v in self.shelf.history("f.csv") if not v.removed), "they were not described")
        self.assertEqual(
            [v.headline for v in self.shelf.history("f.csv") if not v.removed],
            ["1 cell in x", "1 cell in x", "1 cell in x, 1 row added", "first version"],
        )


class TurnTests(unittest.TestCase):
    """Two large commits are being described: more than there are threads for long work."""

    def setUp(self) -> None:
        self.service = Service()
        self.addCleanup(self.service.stop)
        client = self.service.client()
        for key in ("large", "larger", "small"):
            client.make_shelf(key, key=key)
        self.large, self.larger, self.small = (client.shelf(key) for key in ("large", "larger", "small"))

    def ended(self, kind: str, shelf: str) -> str:
        """When the job of a shelf ended; empty while it has not."""
        asked = (
            "SELECT COALESCE(MAX(j.ended), '') FROM jobs_job j JOIN shelves_shelf s ON s.id = j.shelf_id "
            "WHERE j.kind = ? AND s.key = ? AND j.state = 'done'"
        )
        with sqlite3.connect(self.service.data / "records.sqlite") as records:
            return str(records.execute(asked, (kind, shelf)).fetchone()[0])

    def test_short_work_does_not_wait_for_long_work(self) -> None:
        for shelf in (self.large, self.larger):
            content = shelf.upload(b'{"part": 1}').id
            shelf.commit("main", None, [ChangeRequest(f"{n % 20}/part {n}.json", content) for n in range(2500)], "Many")
        commit_files(self.small, {"f.csv": b"id,x\n1,2\n"}, "Few")
        self.small.make_tag("spring-1")
        self.small.make_environment("test")
        busy = [key for key in ("large", "larger") if not self.ended("describe", key)]
        self.assertTrue(busy, "the large commits were described before anything could wait for them")
        self.small.wait(self.small.promote("spring-1", "test"))
        promoted = self.ended("promote", "small")
        until(lambda: self.ended("describe", "small"), "the small commit was not described")
        described = self.ended("describe", "small")
        for key in busy:
            later = self.ended("describe", key) or "9"
            self.assertLess(promoted, later, f"the promotion waited for {key}")
            self.assertLess(described, later, f"the small commit waited for {key}")


class RestartTests(unittest.TestCase):
    """Every phase a promotion can be cut short in, as the journal would have it."""

    def setUp(self) -> None:
        self.service = Service()
        self.addCleanup(self.service.stop)
        client = self.service.client()
        client.make_shelf("journal", key="journal")
        self.shelf = client.shelf("journal")
        commit_files(self.shelf, {"a.txt": b"one"}, "one")
        self.shelf.make_tag("one")
        commit_files(self.shelf, {"a.txt": b"two"}, "two")
        self.shelf.make_tag("two")
        self.folder = Path(self.shelf.make_environment("test").address)
        for tag in ("one", "two"):
            self.shelf.wait(self.shelf.promote(tag, "test"))

    def set_state(self, state: str) -> str:
        """Turn the clock of the newest deployment back to ``state``; returns its key."""
        with sqlite3.connect(self.service.data / "records.sqlite") as records:
            key = records.execute("SELECT key FROM environments_deployment ORDER BY id DESC").fetchone()[0]
            records.execute("UPDATE environments_deployment SET state = ?, ended = NULL WHERE key = ?", (state, key))
        return str(key)

    def restarted(self) -> tuple[str, bytes]:
        self.service.start()
        with httpx.Client(headers={"Authorization": f"Bearer {self.service.token()}"}) as http:
            address = f"{self.service.address}/api/v1/shelves/journal/environments/test/deployments"

            def ended() -> str:
                state = str(http.get(address).json()["items"][0]["state"])
                return state if state in ("recorded", "undone") else ""

            state = until(ended, "the promotion was neither recorded nor undone")
        return state, (self.folder / "now" / "a.txt").read_bytes()

    def test_switched_promotion_is_finished(self) -> None:
        for state in ("staged", "switching", "switched", "verified"):
            self.service.kill_group()
            self.set_state(state)
            self.assertEqual(self.restarted(), ("recorded", b"two"), state)

    def test_unswitched_promotion_is_undone(self) -> None:
        self.service.kill_group()
        key = self.set_state("switching")
        first = next(p.name for p in (self.folder / "deployed").iterdir() if p.is_dir() and p.name != key)
        (self.folder / "now").unlink()
        (self.folder / "now").symlink_to(f"deployed/{first}")
        self.assertEqual(self.restarted(), ("undone", b"one"))
        self.assertFalse((self.folder / "deployed" / key).exists())
        self.shelf.wait(self.shelf.promote("two", "test"))
        self.assertEqual((self.folder / "now" / "a.txt").read_bytes(), b"two")

    def test_waiting_jobs_are_taken_up_and_running_ones_decided(self) -> None:
        self.service.kill_group()
        with sqlite3.connect(self.service.data / "records.sqlite") as records:
            shelf, person = records.execute("SELECT shelf_id, person_id FROM jobs_job").fetchone()
            for uid, kind, state in (
                ("a" * 32, "verify", "waiting"),
                ("b" * 32, "verify", "running"),
                ("c" * 32, "promote", "running"),
            ):
                records.execute(
                    "INSERT INTO jobs_job (uid, kind, shelf_id, person_id, parameters, state, done, total, note, cancel_asked, attempts, created, queued) "
                    "VALUES (?, ?, ?, ?, '{}', ?, 0, 0, '', 0, 0, '2026-03-01', '2026-03-01')",
                    (uid, kind, shelf, person, state),
                )
        self.service.start()
        client = self.service.client()
        self.assertEqual(self.shelf.wait(client.job("a" * 32)).state, "done")
        self.assertEqual(self.shelf.wait(client.job("b" * 32)).state, "done")  # verifying again harms nothing
        self.assertEqual((client.job("c" * 32).problem or {})["code"], "job.interrupted")
