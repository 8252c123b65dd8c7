"""Several processes answer: what one of them writes holds for all, and none of them is missed when it ends."""

from __future__ import annotations

import contextlib
import json
import os
import signal
import subprocess
import sys
import tempfile
import threading
import unittest
from collections.abc import Callable
from pathlib import Path
from typing import Any

import httpx

from everyshelf.client import Client, ProblemError
from tests.support.factories import ServiceCase, commit_files
from tests.support.service import PASSWORD, Service
from tests.support.waiting import until

PROCESSES = 3


def children_of(pid: int) -> set[int]:
    """Process ids of what a process started and is still there."""
    found = set()
    for entry in Path("/proc").iterdir():
        try:
            parent = int((entry / "stat").read_text().rpartition(")")[2].split()[1])
            if parent == pid:
                found.add(int(entry.name))
        except (OSError, ValueError, IndexError):
            continue
    return found


def end(pid: int) -> None:
    """End a process that may have ended."""
    with contextlib.suppress(ProcessLookupError):
        os.kill(pid, signal.SIGKILL)


class ProcessCase(unittest.TestCase):
    def setUp(self) -> None:
        self.service = Service(settings={"EVERYSHELF_WORKERS": str(PROCESSES)})
        self.addCleanup(self.service.stop)
        assert self.service.process is not None
        self.first = self.service.process.pid
        # The first that is ready answers; the others may still be on their way.
        until((self.service.data / "processes.json").exists, "the first process did not write what it has started")

    def web(self) -> set[int]:
        """Those that answer."""
        states = json.loads((self.service.data / "processes.json").read_text())
        noted = {state["pid"] for name, state in states.items() if name.startswith("web process")}
        return noted & children_of(self.first)


class KeptAliveTests(ProcessCase):
    """The first process keeps the others running, and ends them when it ends."""

    def test_one_that_ends_is_started_again_and_nobody_waits(self) -> None:
        before = self.web()
        self.assertEqual(len(before), PROCESSES)
        gone = min(before)
        os.kill(gone, signal.SIGKILL)
        for _ in range(20):
            self.assertEqual(httpx.get(f"{self.service.address}/api/v1/session").status_code, 200)
        until(lambda: len(self.web() - {gone}) == PROCESSES, "it was not started again")
        self.assertIn("ended and is started again", self.service.log())

    def test_in_good_order_all_end_with_it(self) -> None:
        children = children_of(self.first)
        self.assertEqual(len(children), PROCESSES + 2)  # the worker, and what forks reading processes
        assert self.service.process is not None
        self.service.process.terminate()
        self.service.process.wait()
        self.assertEqual(self.service.process.returncode, 0)
        until(lambda: not any(Path(f"/proc/{pid}").exists() for pid in children), "a process stayed")
        segments = self.service.data / "segments"
        unsealed = [s for s in segments.glob("*.seg") if not s.with_suffix(".dir").exists()]
        self.assertEqual(unsealed, [], "each process seals what it wrote")

    def test_an_orderly_stop_is_quick_and_says_nothing(self) -> None:
        """Also after the engine of tables was used, and with files that only its user may read."""
        with self.service.client() as client:
            shelf = client.shelf(client.make_shelf("Stop").key)
            commit_files(shelf, {"a.csv": b"a,b\n1,2\n"}, "First")
            self.assertEqual(shelf.query("SELECT a FROM 'a.csv'").rows, [["1"]])
            shelf.make_environment("dev")
        made = {self.service.data / "log.txt", self.service.repositories}  # by this test
        places = self.service.data / "environments"
        open_to_others = [
            path
            for path in self.service.data.rglob("*")
            if path not in made and not path.is_relative_to(places) and not path.is_symlink()
            if path.exists() and path.stat().st_mode & 0o077
        ]
        self.assertEqual(open_to_others, [])
        process = self.service.process
        assert process is not None
        process.terminate()
        process.wait()
        self.assertEqual(process.returncode, 0)
        self.assertEqual(len(self.service.log().splitlines()), 1, self.service.log())

    def test_killed_all_are_gone_and_the_address_is_free(self) -> None:
        children = children_of(self.first)
        os.kill(self.first, signal.SIGKILL)
        assert self.service.process is not None
        self.service.process.wait()
        self.service.start()
        until(lambda: not any(Path(f"/proc/{pid}").exists() for pid in children), "a process stayed")
        self.service.client().close()

    def test_a_service_that_starts_waits_for_what_a_killed_one_has_left(self) -> None:
        """A busy system takes a while to end processes, and they have the lock of the folder until then."""
        self.service.kill_group()
        left = subprocess.Popen(
            [sys.executable, "-c", _LEFT_BEHIND],
            env={**os.environ, "EVERYSHELF_DATA": str(self.service.data)},
            stdout=subprocess.PIPE,
            text=True,
        )
        assert left.stdout is not None
        pid = int(left.stdout.readline())
        self.addCleanup(end, pid)
        left.wait()
        starting = threading.Thread(target=self.service.start)
        starting.start()
        starting.join(3)
        self.assertNotIn("another service works", self.service.log().lower())
        self.assertTrue(starting.is_alive(), "it worked on the folder beside what was left")
        end(pid)
        starting.join()
        self.service.client().close()


_LEFT_BEHIND = """
import os, time
from everyshelf.service.base.config import get_config
from everyshelf.service.base.data_folder import open_data_folder
lock = open_data_folder(get_config())
pid = os.fork()
if pid:
    print(pid, flush=True)
    os._exit(0)
time.sleep(600)
"""


_FREED_IN_BETWEEN = """
import psutil
from everyshelf.service.base.processes import give_back_memory
held = lambda: psutil.Process().memory_info().rss >> 20
many = [bytes(3_000) for _ in range(60_000)]
few = many[::100]
full = held()
del many
freed = held()
give_back_memory()
print(full, freed, held(), len(few))
"""


_ASKED_TO = """
from everyshelf.service import serve
from everyshelf.service.base import processes

def given_back():
    raise SystemExit("given back")

processes.give_back_memory, serve._SEAL_SECONDS = given_back, 0.001
serve._look_after_process()
"""


class MemoryTests(unittest.TestCase):
    def test_what_is_free_between_what_is_kept_goes_back_to_the_system(self) -> None:
        run = subprocess.run([sys.executable, "-c", _FREED_IN_BETWEEN], capture_output=True, text=True, check=True)
        full, freed, given_back, _ = map(int, run.stdout.split())
        self.assertGreater(freed, full - 80, "the system took it back by itself: this shows nothing")
        self.assertLess(given_back, full - 120)

    def test_a_process_that_answers_does_so_from_time_to_time(self) -> None:
        with tempfile.TemporaryDirectory() as data:
            told = subprocess.run(
                [sys.executable, "-c", _ASKED_TO],
                check=False,
                env={**os.environ, "EVERYSHELF_DATA": data},
                capture_output=True,
                text=True,
                timeout=120,
            )
        self.assertIn("given back", told.stderr)


class SharedStateTests(ServiceCase):
    """What was read is kept by each process only as long as nothing changes."""

    def each(self, ask: Callable[[Client], Any], token: str) -> list[Any]:
        """Answers over twenty connections: with several processes, from all of them."""
        found = []
        for _ in range(20):
            with Client(self.service.address, token) as client:
                try:
                    found.append(ask(client))
                except ProblemError as error:
                    found.append(error.code)
        return found

    def test_a_revoked_token_is_refused_at_once_everywhere(self) -> None:
        made = self.client.make_token("soon gone", ["read"], 1)
        self.assertEqual(set(self.each(lambda c: c.person(), made.value)), {"owner"})
        self.client.revoke_token("soon gone")
        self.assertEqual(set(self.each(lambda c: c.person(), made.value)), {"session.wrong"})

    def test_a_role_holds_at_once_everywhere(self) -> None:
        key, token = self.shelf.key, self.service.token("stranger", ["read", "write"])
        self.assertEqual(set(self.each(lambda c: c.shelf(key).info().role, token)), {"shelf.missing"})
        for role in ("reader", "keeper"):
            self.shelf.set_member("stranger", role)
            self.assertEqual(set(self.each(lambda c: c.shelf(key).info().role, token)), {role})
        self.shelf.remove_member("stranger")
        self.assertEqual(set(self.each(lambda c: c.shelf(key).info().role, token)), {"shelf.missing"})

    def test_a_commit_is_seen_at_once_everywhere(self) -> None:
        token = self.service.token()
        for number in range(8):
            made = self.put({"fares.csv": b"route,fare\nAB,%d\n" % number})
            heads = self.each(lambda c: c.shelf(self.shelf.key).artifact("fares.csv").commit, token)
            self.assertEqual(set(heads), {made.commit})

    def test_failed_tries_count_over_all_processes(self) -> None:
        name = f"guessed{id(self) % 10**8}"
        self.client.add_person(name, "Guessed", PASSWORD)
        answers = []
        for _ in range(9):
            with httpx.Client(base_url=self.service.address, trust_env=False) as http:
                http.get("/api/v1/session")
                headers = {"X-CSRFToken": http.cookies["everyshelf_csrf"]}
                body = {"name": name, "password": "wrong-every-time"}
                answers.append(http.post("/api/v1/session", json=body, headers=headers).status_code)
        self.assertEqual(answers, [401] * 5 + [429] * 4)


class ListingTests(ServiceCase):
    """A page says of its artifacts what the whole listing says."""

    def names(self, ref: str = "main", *, files: bool = False) -> dict[str, str]:
        return {a.path: a.name for a in self.shelf.artifacts(ref, files=files)}

    def test_names_tell_artifacts_apart(self) -> None:
        self.put({f"{folder}settings.json": b"{}" for folder in ("", "app/", "web/", "old/app/")})
        self.put({"app/only.json": b"{}", "settings.json.bak": b"x"})
        self.assertEqual(
            self.names(),
            {
                "settings.json": "settings.json",
                "app/settings.json": "app/settings.json",
                "web/settings.json": "web/settings.json",
                "old/app/settings.json": "old/app/settings.json",
                "app/only.json": "only.json",
                "settings.json.bak": "settings.json.bak",
            },
        )
        alone = {a.path: a.name for a in self.shelf.artifacts(folder="web")}
        self.assertEqual(alone, {"web/settings.json": "web/settings.json"})

    def test_what_is_gone_or_elsewhere_takes_no_name(self) -> None:
        self.put({f"part-{n:02}/settings.json": b"%d" % n for n in range(30)})
        self.shelf.make_branch("side")
        self.put({"elsewhere/settings.json": b"side"}, branch="side")
        self.put({f"part-{n:02}/settings.json": None for n in range(30) if n != 7})
        self.assertEqual(self.names(), {"part-07/settings.json": "settings.json"})
        self.assertEqual(self.names("side")["part-07/settings.json"], "part-07/settings.json")

    def test_pages_join_to_the_whole(self) -> None:
        self.put({f"area-{n % 7}/artifact-{n:03}.json": b"%d" % n for n in range(90)})
        at = f"shelves/{self.shelf.key}/artifacts"
        whole = self.client._transport.get(at, dict[str, Any], limit=500)
        rows, cursor = [], ""
        while cursor is not None:
            page = self.client._transport.get(at, dict[str, Any], limit=13, cursor=cursor or None)
            rows, cursor = rows + page["items"], page["next"]
            self.assertEqual(page["total"], 90)
        self.assertEqual([r["path"] for r in rows], [r["path"] for r in whole["items"]])
        inner = self.client._transport.get(at, dict[str, Any], folder="area-3")
        self.assertEqual(inner["total"], len([r for r in rows if r["path"].startswith("area-3/")]))
        self.assertEqual(self.client._transport.get(at, dict[str, Any], folder="absent")["total"], 0)

    def test_a_page_shows_the_effect_once_it_is_known(self) -> None:
        self.put({"fares.csv": b"route,fare\nAB,1\n"})
        self.put({"fares.csv": b"route,fare\nAB,2\n"})
        until(lambda: all(row.headline for row in self.shelf.artifacts()), "the commit was not described")
        (row,) = self.shelf.artifacts()
        self.assertEqual((row.version, row.effect), (2, "alters"))
        self.assertTrue(row.headline)


class ManyContentsTests(ServiceCase):
    """Several contents in one answer."""

    def test_they_are_those_asked_for_one_by_one(self) -> None:
        data = [b"", b"a", b"two\n" * 20_000, bytes(range(256)) * 2_000]
        held = {self.shelf.upload(one).id: one for one in data}
        self.assertEqual(dict(self.shelf.read_many({i: len(one) for i, one in held.items()})), held)

    def test_of_another_shelf_nothing_is_said(self) -> None:
        commit_files(self.shelf, {"own.txt": b"own"}, "One")
        other = self.make_shelf()
        theirs = other.upload(b"not for everybody").id
        with self.assertRaises(ProblemError) as caught:
            list(self.shelf.read_many({theirs: 17}))
        self.assertEqual(caught.exception.code, "content.missing")

    def test_too_many_are_refused_with_a_way_out(self) -> None:
        big = [self.shelf.upload(bytes([n]) * 6_000_000).id for n in range(3)]
        with self.assertRaises(ProblemError) as caught:
            list(self.shelf._read(big))
        self.assertEqual(caught.exception.code, "content.too_many")
