"""Queries that take longer than an answer may: a job runs them, and the answer is there when it is asked for again."""

from __future__ import annotations

import json

import httpx
import pyarrow.parquet as pq

from everyshelf.client import Client, ProblemError
from tests.support.factories import ServiceCase, Terminal, commit_files
from tests.support.service import Service

# Some billion pairs: minutes for a machine by hand, seconds for the engine, and more than the one that is allowed.
_LONG = """
SELECT a.zone, count(*) AS pairs, max((a.n * b.n + c.n) % 9973) AS most
FROM 'numbers.csv' a, 'numbers.csv' b, 'numbers.csv' c WHERE a.n < 700 AND b.n < 1500 AND c.n < 700 GROUP BY a.zone ORDER BY a.zone"""


class LongQueryTests(ServiceCase):
    """A service whose answers may take a second of processor time."""

    own: Service

    @classmethod
    def setUpClass(cls) -> None:
        super().setUpClass()
        cls.own = Service(module="tests.support.impatient")
        cls.addClassCleanup(cls.own.stop)

    def setUp(self) -> None:
        self.client: Client = self.own.client()
        self.addCleanup(self.client.close)
        self.shelf = self.client.shelf(self.client.make_shelf(f"Long {self.id().rpartition('.')[2]}").key)
        # A table of its own for each test: answers are kept by what they depend on, whichever shelf has it.
        rows = "".join(f"{n},{'ABC'[n % 3]},{self.id()}\n" for n in range(2000))
        commit_files(self.shelf, {"numbers.csv": f"n,zone,of\n{rows}".encode()}, "Numbers")

    def jobs(self) -> list[tuple[str, str]]:
        code = "from everyshelf.service.jobs.models import Job\nprint(list(Job.objects.filter(kind='query').values_list('shelf__key', 'state')))"
        found = self.own.run_python(code).strip().splitlines()[-1]
        return [one for one in eval(found) if one[0] == self.shelf.key]

    def test_the_client_waits_and_gets_the_rows(self) -> None:
        found = self.shelf.query(_LONG)
        pairs = [sum(n % 3 == k for n in range(700)) * 1500 * 700 for k in range(3)]
        self.assertEqual([row[:2] for row in found.rows], [[z, str(p)] for z, p in zip("ABC", pairs, strict=True)])
        self.assertEqual([one.path for one in found.tables], ["numbers.csv"] if len(found.tables) == 1 else [])
        self.assertEqual(self.jobs(), [(self.shelf.key, "done")])
        self.assertEqual(self.shelf.query(_LONG).rows, found.rows)
        table = self.shelf.query_table(_LONG)
        self.assertEqual([str(one) for one in table.column("pairs").to_pylist()], [str(p) for p in pairs])
        self.assertEqual(len(self.jobs()), 1, "what a job had kept was worked out again")

    def test_another_version_is_another_answer(self) -> None:
        first = self.shelf.query(_LONG)
        commit_files(
            self.shelf, {"numbers.csv": b"n,zone\n" + b"".join(b"%d,A\n" % n for n in range(2000))}, "One zone"
        )
        second = self.shelf.query(_LONG)
        self.assertEqual((len(first.rows), len(second.rows)), (3, 1))

    def asked(self, sql: str) -> httpx.Response:
        """The answer over HTTP; on a busy machine reading the table may be left to a job, too, which comes first."""
        address = f"{self.own.address}/api/v1/shelves/{self.shelf.key}/query"
        headers = {"Authorization": f"Bearer {self.own.token()}"}
        while True:
            answer = httpx.get(address, params={"sql": sql}, headers=headers, timeout=60)
            if answer.status_code != 409 or answer.json()["code"] != "rows.reading":
                return answer
            self.client.wait(self.client.job(answer.json()["job"]))

    def test_who_asks_over_http_is_told_of_the_job(self) -> None:
        answer = self.asked(_LONG)
        self.assertEqual((answer.status_code, answer.json()["code"]), (409, "query.working"))
        self.client.wait(self.client.job(answer.json()["job"]))
        self.assertEqual(self.asked(_LONG).status_code, 200)

    def test_what_is_wrong_is_said_and_a_job_can_be_cancelled(self) -> None:
        with self.assertRaises(ProblemError) as caught:
            self.shelf.query("SELECT nothing FROM 'numbers.csv'")
        self.assertEqual(caught.exception.code, "query.failed")
        self.assertEqual(self.jobs(), [])
        endless = "SELECT count(*) FROM 'numbers.csv' a, 'numbers.csv' b, 'numbers.csv' c, 'numbers.csv' d, 'numbers.csv' e WHERE sin(a.n + b.n + c.n + d.n + e.n) > 2"
        job = self.asked(endless).json()["job"]
        self.client.cancel(job)
        with self.assertRaises(ProblemError):
            self.client.wait(self.client.job(job))
        self.assertEqual(self.client.job(job).state, "cancelled")

    def test_on_the_command_line(self) -> None:
        terminal = Terminal(self, self.own)
        said = terminal.run("query", _LONG, "--shelf", self.shelf.key).stdout
        self.assertIn("3 rows.", said)
        target = terminal.folder / "pairs.parquet"
        terminal.run("query", _LONG, "--shelf", self.shelf.key, "--output", str(target))
        self.assertEqual(pq.read_table(target).num_rows, 3)
        self.assertEqual(
            json.loads(terminal.run("query", _LONG, "--json", "--shelf", self.shelf.key).stdout)["more"], False
        )
