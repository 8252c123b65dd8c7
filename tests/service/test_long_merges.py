"""Merges that take longer than an answer may: a job works them out, and whoever asked gets the answer all the same."""

from __future__ import annotations

import contextlib
import json
import threading
import time
import unittest
from collections.abc import Iterator
from typing import Any

from everyshelf.client import ChangeRequest, Client, ProblemError
from everyshelf.client.shelf import ShelfClient
from tests.service.test_merging import flow
from tests.support.factories import Terminal, commit_files
from tests.support.laws import in_full
from tests.support.service import Service

MANY = 60


class LongMergeTests(unittest.TestCase):
    """On a service that merges nothing within a request."""

    def setUp(self) -> None:
        self.service = Service(settings={"EVERYSHELF_MERGE_SECONDS": "0"})
        self.addCleanup(self.service.stop)
        self.told: list[tuple[int, int, str]] = []
        self.client = Client(self.service.address, self.service.token(), working=self._working)
        self.addCleanup(self.client.close)

    @contextlib.contextmanager
    def _working(self) -> Iterator[Any]:
        yield lambda done, total, note: self.told.append((done, total, note))

    def split(self, count: int, this: bytes, other: bytes) -> ShelfClient:
        """A shelf on which both branches changed so many artifacts."""
        made = self.client.make_shelf(f"Long {time.monotonic_ns()}")
        shelf = self.client.shelf(made.key)
        paths = [f"flows/{n:02d}.json" for n in range(count)]

        def put(data: bytes, branch: str) -> None:
            # Each its own content, so that no two merges are one.
            ids = [shelf.upload(data.replace(b'"weigh.py"', b'"weigh-%d.py"' % n)).id for n in range(count)]
            changes = [ChangeRequest(p, i) for p, i in zip(paths, ids, strict=True)]
            shelf.commit(branch, shelf.branch(branch).head, changes, "A change")

        put(flow(), "main")
        shelf.make_branch("try")
        put(this, "main")
        put(other, "try")
        return shelf

    def job_of(self, shelf: ShelfClient) -> str:
        """Ask with a client that waits for nothing: the job that works the answer out."""
        answer = self._post(f"shelves/{shelf.key}/merge", {"source": "try", "target": "main"})
        self.assertEqual((answer["status"], answer["code"]), (409, "merge.reading"))
        return str(answer["job"])

    def _post(self, path: str, body: dict[str, Any]) -> dict[str, Any]:
        import httpx

        headers = {"Authorization": f"Bearer {self.service.token()}"}
        with httpx.Client(base_url=f"{self.service.address}/api/v1/", headers=headers, trust_env=False) as http:
            return dict(http.post(path, json=body).json())

    def test_client_waits_and_is_told_how_far_it_is(self) -> None:
        shelf = self.split(MANY, flow(weigh_timeout=45), flow(sail_run="go.py"))
        self.assertEqual(shelf.merge("try", "main").combined, MANY)
        merged = json.loads(shelf.read("flows/07.json"))["steps"]
        self.assertEqual((merged[0]["run"], merged[0]["timeout"], merged[2]["run"]), ("weigh-7.py", 45, "go.py"))
        self.assertTrue(self.told)
        self.assertTrue(all(0 <= done <= total <= MANY for done, total, _ in self.told), self.told)

    @in_full
    def test_conflicts_are_settled_through_jobs_too_on_the_command_line(self) -> None:
        shelf = self.split(3, flow(weigh_timeout=45), flow(weigh_timeout=60))
        with self.assertRaises(ProblemError) as caught:
            shelf.merge("try", "main")
        self.assertEqual(caught.exception.code, "merge.conflict")
        terminal = Terminal(self, self.service)
        terminal.run("settle", "--take", "source", "--shelf", shelf.key)
        terminal.run("settle", "--finish", "--shelf", shelf.key)
        self.assertEqual(json.loads(shelf.read("flows/01.json"))["steps"][0]["timeout"], 60)

    @in_full
    def test_commit_onto_a_branch_that_moved_on_and_a_proposal_wait_as_well(self) -> None:
        shelf = self.split(2, flow(weigh_timeout=45), flow(sail_run="go.py"))
        number = shelf.open_proposal("Go", "try")["number"]
        seen = shelf.proposal(number)
        self.assertTrue(seen["reading"] or not seen["conflicts"])
        self.assertEqual(shelf.merge_proposal(number)["state"], "merged")
        base = shelf.branch("main").head
        commit_files(shelf, {"flows/00.json": flow(load_timeout=61)}, "Meanwhile")
        made = shelf.commit(
            "main", base, [ChangeRequest("flows/00.json", shelf.upload(flow(load_run="x.py")).id)], "Late", merge=True
        )
        self.assertTrue(made.commit)

    def test_cancelled_job_leaves_both_branches_as_they_were(self) -> None:
        shelf = self.split(MANY, flow(weigh_timeout=45), flow(sail_run="go.py"))
        head = shelf.branch("main").head
        failures: list[ProblemError] = []

        def merge() -> None:
            try:
                shelf.merge("try", "main")
            except ProblemError as error:
                failures.append(error)

        job = self.job_of(shelf)
        asking = threading.Thread(target=merge)
        asking.start()
        self._post(f"jobs/{job}/cancel", {})
        asking.join(60)
        if not failures:
            self.skipTest("the merge was done before the cancel came")
        self.assertEqual(failures[0].code, "job.cancelled")
        self.assertEqual(shelf.branch("main").head, head)

    def test_job_goes_on_after_the_service_was_killed(self) -> None:
        shelf = self.split(MANY, flow(weigh_timeout=45), flow(sail_run="go.py"))
        self.job_of(shelf)
        time.sleep(0.3)
        self.service.kill_group()
        self.service.start()
        self.assertEqual(shelf.merge("try", "main").combined, MANY)
        self.assertEqual(shelf.wait(shelf.verify()).result["problems"], [])  # type: ignore[index]


if __name__ == "__main__":
    unittest.main()
