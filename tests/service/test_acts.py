"""A.4 and A.6: one act is one transaction with its answer, done once however often it is sent."""

from __future__ import annotations

import json
import sqlite3
import subprocess
import sys
import threading
import time
import unittest
import uuid
from concurrent.futures import ThreadPoolExecutor
from contextlib import closing
from pathlib import Path
from typing import Any

import httpx

from everyshelf.client import Saving
from tests.service.test_rights import ROWS, World
from tests.support.factories import ServiceCase, commit_files
from tests.support.laws import SHARE
from tests.support.service import Service, shared_service
from tests.support.waiting import until

# What is content and not JSON is the same however often it is sent; a session is nothing without its cookie.
NOT_KEPT = {"contents_put", "contents_put_many", "session_begin", "session_end", "session_token"}
LOOKING = {"environments_rehearse", "environments_look", "contents_missing", "invitations_look"}
# These are refused while an earlier promotion of the same environment is still under way.
AFTER_JOBS = {"environments_try_draft", "environments_roll_back"}
READING = {"get", "head", "options"}


class WholeTests(unittest.TestCase):
    """What a request or a job writes is there as a whole or not at all."""

    def written(self, code: str) -> str:
        """The names of the people that are there after the statements, of those that they make."""
        start = (
            "from django.contrib.auth.models import User\n"
            "from everyshelf.service.base.acts import one_act, open_act\n"
            "def make(name): User.objects.create(username=name)\n"
        )
        ask = "print(*User.objects.filter(username__startswith='whole-').values_list('username', flat=True))\n"
        return shared_service().run_python(start + code + ask).strip()

    def test_a_request_that_failed_after_it_wrote(self) -> None:
        code = "with open_act(lambda: None) as act:\n make('whole-1')\n act.failed = True\n act.end()\n"
        self.assertEqual(self.written(code), "")

    def test_a_request_that_nobody_ended(self) -> None:
        code = "try:\n with open_act(lambda: None):\n  make('whole-2')\n  raise OSError\nexcept OSError: pass\n"
        self.assertEqual(self.written(code), "")

    def test_an_act_without_a_request(self) -> None:
        code = "try:\n with one_act():\n  make('whole-3')\n  raise OSError\nexcept OSError: pass\n"
        self.assertEqual(self.written(code), "")


class OnceTests(unittest.TestCase):
    """Every writing operation of the interface, sent twice with one key."""

    @classmethod
    def setUpClass(cls) -> None:
        cls.service = shared_service()
        cls.http = httpx.Client(
            base_url=f"{cls.service.address}/api/v1",
            headers={"Authorization": f"Bearer {cls.service.token()}"},
            trust_env=False,
            timeout=60,
        )
        cls.addClassCleanup(cls.http.close)
        document = cls.http.get("/openapi", headers={"Accept": "application/json"}).json()
        routes = {
            operation["operationId"]: (method, path.removeprefix("/api/v1"))
            for path, methods in document["paths"].items()
            for method, operation in methods.items()
            if method not in READING and operation["operationId"] not in NOT_KEPT
        }
        # In the order of the table of rights, in which what one needs comes before it.
        cls.done: set[str] = set()
        cls.writing = {operation: routes[operation] for operation in ROWS if operation in routes}

    def call(self, world: World, operation: str, key: str) -> httpx.Response:
        method, address = self.writing[operation]
        row = ROWS[operation]
        names = {"shelf": world.names["shelf"], **world.filled(row.path, "owner")}
        if operation == "members_remove":
            names["name"] = "reader"
        body = world.filled(row.body, "owner")
        options: dict[str, Any] = {"params": world.filled(row.query, "owner"), "headers": {"Idempotency-Key": key}}
        if method != "delete":
            options["json"] = body if body is not None else {}
        return self.http.request(method.upper(), address.format(**names).replace(" ", "%20"), **options)

    def same(self, operation: str, one: httpx.Response, other: httpx.Response) -> None:
        """The same answer; of errors, and of what only looks, the number of the request and the moment may differ."""
        self.assertEqual(one.status_code, other.status_code, f"{one.text[:300]} {other.text[:300]}")
        if not one.is_success:
            self.assertEqual(one.json()["code"], other.json()["code"])
        elif operation not in LOOKING:
            self.assertEqual(one.content, other.content)
            self.done.add(operation)

    def acts(self, world: World) -> int:
        """How many acts the log has of the shelf and its owner."""
        with closing(sqlite3.connect(self.service.data / "records.sqlite")) as records:
            return int(
                records.execute(
                    "SELECT count(*) FROM log_logentry WHERE via <> 'the service' AND (shelf = ? OR person = 'owner')",
                    [world.names["shelf"]],
                ).fetchone()[0]
            )

    def test_one_after_the_other(self) -> None:
        world = World(self.service, is_open=False)
        for operation in self.writing:
            if operation in AFTER_JOBS:
                self.wait_for_jobs(world)
            with self.subTest(operation):
                key = uuid.uuid4().hex
                first = self.call(world, operation, key)
                before = self.acts(world)
                again = self.call(world, operation, key)
                self.same(operation, first, again)
                self.assertEqual(self.acts(world), before, f"{operation} was done twice")
        self.assertGreater(len(self.done), 45)

    def test_both_at_once(self) -> None:
        world = World(self.service, is_open=False)
        for operation in self.writing:
            if operation in AFTER_JOBS:
                self.wait_for_jobs(world)
            with self.subTest(operation):
                key, answers = uuid.uuid4().hex, []
                gate = threading.Barrier(2)
                before = self.acts(world)

                def ask(key: str = key, answers: list[httpx.Response] = answers, operation: str = operation) -> None:
                    gate.wait()  # noqa: B023 - each thread ends within its round
                    answers.append(self.call(world, operation, key))

                threads = [threading.Thread(target=ask) for _ in range(2)]
                for thread in threads:
                    thread.start()
                for thread in threads:
                    thread.join()
                one, other = answers
                self.same(operation, one, other)
                if one.is_success:
                    self.assertLessEqual(self.acts(world) - before, 3, f"{operation} was done twice")

    def wait_for_jobs(self, world: World) -> None:
        with closing(sqlite3.connect(self.service.data / "records.sqlite")) as records:
            left = (
                "SELECT count(*) FROM jobs_job j JOIN shelves_shelf s ON s.id = j.shelf_id"
                " WHERE s.key = ? AND j.state IN ('waiting', 'running')"
            )
            until(lambda: not records.execute(left, [world.names["shelf"]]).fetchone()[0], "its jobs did not end")


class KeyTests(ServiceCase):
    """What a key stands for."""

    def test_what_lies_beside_the_records_is_made_and_removed_once(self) -> None:
        """Stores are written into a file: the second of two equal requests finds it there before the first one's answer
        is recorded."""
        for round in range(6):
            name = f"twice-{self.shelf.key[-8:].lower()}-{round}"
            for method, path, body in (
                ("POST", "/storage/stores", {"name": name, "to": "folder"}),
                ("DELETE", f"/storage/stores/{name}", None),
            ):
                one, other = self.two_at_once(method, path, body)
                self.assertTrue(one.is_success, one.text)
                self.assertEqual((one.status_code, one.content), (other.status_code, other.content), other.text)

    def two_at_once(self, method: str, path: str, body: Any) -> list[httpx.Response]:
        key, gate = uuid.uuid4().hex, threading.Barrier(2)
        headers = {"Authorization": f"Bearer {self.service.token()}", "Idempotency-Key": key}

        def ask(_: int) -> httpx.Response:
            address = f"{self.service.address}/api/v1{path}"
            gate.wait()
            return httpx.request(method, address, json=body, headers=headers, trust_env=False, timeout=60)

        with ThreadPoolExecutor(2) as pool:
            return list(pool.map(ask, range(2)))

    def test_a_key_is_for_one_request(self) -> None:
        http = httpx.Client(
            base_url=f"{self.service.address}/api/v1/shelves/{self.shelf.key}",
            headers={"Authorization": f"Bearer {self.service.token()}", "Idempotency-Key": "k1" + self.shelf.key},
            trust_env=False,
        )
        self.addCleanup(http.close)
        self.assertEqual(http.post("/branches", json={"name": "one"}).status_code, 201)
        answer = http.post("/branches", json={"name": "two"})
        self.assertEqual((answer.status_code, answer.json()["code"]), (409, "input.key_reused"))

    def test_kept_answers_hold_no_secret_in_the_clear(self) -> None:
        key = uuid.uuid4().hex
        answer = httpx.post(
            f"{self.service.address}/api/v1/tokens",
            json={"name": f"kept {key}", "scopes": ["read"]},
            headers={"Authorization": f"Bearer {self.service.token()}", "Idempotency-Key": key},
        )
        value = answer.json()["value"].encode()
        with closing(sqlite3.connect(self.service.data / "records.sqlite")) as records:
            kept = records.execute("SELECT answer FROM idempotency_keptanswer WHERE key = ?", [key]).fetchone()[0]
        self.assertNotIn(value, kept)
        self.assertGreater(len(kept), 50)

    def test_old_answers_are_forgotten(self) -> None:
        service = Service()
        self.addCleanup(service.stop)
        with service.client() as client:
            client.make_shelf("One")
        service.run_python(
            "from datetime import timedelta; from django.utils import timezone\n"
            "from everyshelf.service.idempotency.models import KeptAnswer\n"
            "from everyshelf.service.idempotency.actions import prune_answers\n"
            "KeptAnswer.objects.update(made=timezone.now() - timedelta(days=8))\n"
            "assert prune_answers() >= 1 and not KeptAnswer.objects.exists()"
        )


class CrashTests(unittest.TestCase):
    """The process ends between any two statements of an act: nothing of it is there, or all of it."""

    def test_every_act_is_all_or_nothing(self) -> None:
        service = Service()
        self.addCleanup(service.stop)
        with service.client() as client:
            shelf = client.shelf(client.make_shelf("Crashes").key)
            for name in ("keeper", "author"):
                client.add_person(name, name, "a-password-for-tests")
            flow = b'{"steps": [{"id": "a", "n": 1}]}\n'
            commit_files(shelf, {"flow.json": flow, "a.txt": b"1\n", "b.txt": b"1\n"}, "First")
            shelf.make_tag("one")
            for name in ("clean", "clash", "proposed"):
                shelf.make_branch(name)
            commit_files(shelf, {"a.txt": b"2\n"}, "Clean", branch="clean")
            commit_files(shelf, {"c.txt": b"2\n"}, "Proposed", branch="proposed")
            commit_files(shelf, {"flow.json": flow.replace(b"1", b"2")}, "Clash", branch="clash")
            commit_files(shelf, {"flow.json": flow.replace(b"1", b"3")}, "Second")
            shelf.make_environment("dev")
            proposal = shelf.open_proposal("One", "proposed", delete_source=True)["number"]
            merge = self.waiting(service, shelf.key)
            shelf.settle(merge, [{"path": None, "conflict": None, "take": "target"}])
            shelf.save("main", [Saving("b.txt", shelf.upload(b"draft\n").id), Saving("d.txt", shelf.upload(b"d").id)])
            content = shelf.upload(b"new\n").id
            head = shelf.branch("main").head
            base = f"/api/v1/shelves/{shelf.key}"
            changes = [{"path": f"n{n}.txt", "content": content} for n in range(3)]
            acts = {
                "save points": ("post", f"{base}/drafts", {"branch": "clean", "entries": changes}),
                "restore": ("post", f"{base}/restore", {"branch": "clean", "ref": "tag:one", "path": "a.txt"}),
                "promote": ("post", f"{base}/environments/dev/promote", {"tag": "one"}),
                "commit": (
                    "post",
                    f"{base}/commits",
                    {"branch": "main", "base": head, "changes": changes, "summary": "A commit"},
                ),
                "commit a draft": ("post", f"{base}/drafts/commit", {"branch": "main", "summary": "x", "merge": True}),
                "merge and drop": (
                    "post",
                    f"{base}/merge",
                    {"source": "clean", "target": "main", "delete_source": True},
                ),
                "proposal": ("post", f"{base}/proposals/{proposal}/merge", {"reason": "to see"}),
                "finish a merge": ("post", f"{base}/merges/{merge}/finish", {}),
            }
        if SHARE < 1:  # those that write most; make nightly has all of them
            acts = {name: acts[name] for name in ("promote", "commit a draft", "merge and drop", "finish a merge")}
        service.kill_group()
        done = subprocess.run(
            [sys.executable, "-m", "tests.support.crashing", str(service.data), json.dumps(acts)],
            capture_output=True,
            text=True,
            check=False,
        )
        self.assertEqual(done.returncode, 0, done.stdout[-3000:] + done.stderr[-3000:])
        told = json.loads(done.stdout.splitlines()[-1])
        self.assertEqual(told["halves"], [], "something of an act was there after a crash in the middle")
        self.assertEqual(sorted(told["crashes"]), sorted(acts))
        self.assertTrue(all(count >= 3 for count in told["crashes"].values()), told)
        self.assertEqual(told["failed"], [])

    def waiting(self, service: Service, key: str) -> str:
        answer = httpx.post(
            f"{service.address}/api/v1/shelves/{key}/merge",
            json={"source": "clash", "target": "main", "delete_source": True},
            headers={"Authorization": f"Bearer {service.token()}"},
        )
        return str(answer.json()["merge"])


class AfterwardsTests(unittest.TestCase):
    """What was recorded is answered as recorded, and its jobs are done, whatever happens to the worker."""

    def test_a_worker_that_is_killed_is_started_again(self) -> None:
        service = Service()
        self.addCleanup(service.stop)
        for _ in range(2):
            worker = self.worker_of(service)
            subprocess.run(["kill", "-9", str(worker)], check=True)
            gone = (None, worker)
            until(lambda gone=gone: self.worker_of(service) not in gone, "it was not started again")  # type: ignore[misc]
        with service.client() as client:
            shelf = client.shelf(client.make_shelf("Jobs").key)
            commit_files(shelf, {"a.txt": b"1\n"}, "First")
            commit_files(shelf, {"a.txt": b"2\n"}, "Second")
            until(lambda: next(iter(shelf.history("a.txt"))).headline, "the commit was not described")
        health = httpx.get(f"{service.address}/readyz").json()
        self.assertGreaterEqual(health["worker"]["starts"], 3)
        self.assertEqual((health["status"], health["queue"]["waiting"]), ("ready", 0))

    def test_health_says_that_the_worker_is_gone(self) -> None:
        service = Service()
        self.addCleanup(service.stop)
        worker = self.worker_of(service)
        seen = set()
        subprocess.run(["kill", "-9", str(worker)], check=True)
        for _ in range(2000):
            answer = httpx.get(f"{service.address}/healthz")
            seen.add(answer.status_code)
            if answer.status_code == 200 and 503 in seen:
                break
            time.sleep(0.01)
        self.assertEqual(seen, {200, 503})

    def worker_of(self, service: Service) -> int | None:
        path = service.data / "processes.json"
        until(path.exists, "the first process did not write what it has started")
        found = json.loads(path.read_text())["worker"]["pid"]
        return found if found is not None and Path(f"/proc/{found}").exists() else None
