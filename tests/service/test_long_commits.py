"""A commit that landed is a commit: answers that are lost are asked for again, long commits are jobs, and nothing is made
twice or called unsent although it is there."""

from __future__ import annotations

import json
import tempfile
import unittest
import uuid
from pathlib import Path

from everyshelf.client import ChangeRequest, Client, ProblemError, ShelfClient
from tests.support.factories import ServiceCase, Terminal
from tests.support.lossy import LossyLine
from tests.support.service import Service

MANY = 1_200


def changes_of(contents: list[str], word: str = "part") -> list[ChangeRequest]:
    return [ChangeRequest(f"{word}/{n % 40}/{n}.json", content) for n, content in enumerate(contents)]


def upload_numbers(shelf: ShelfClient, count: int) -> list[str]:
    """Small contents, many in one call; gives their ids."""
    with tempfile.TemporaryDirectory(prefix="es-numbers-") as folder:
        files = [Path(folder, str(n)) for n in range(count)]
        for n, file in enumerate(files):
            file.write_text(json.dumps(n))
        return [content.id for content in shelf.upload_many(files)]


class LostAnswerTests(ServiceCase):
    """The command line over a line that loses the answer to a commit."""

    def desk_over(self, lost: int) -> tuple[Terminal, LossyLine]:
        left = [lost]

        def loses(piece: bytes) -> bool:
            is_commit = piece.startswith(b"POST ") and piece.split(b" ", 2)[1].endswith(b"/commits")
            if is_commit and left[0]:
                left[0] -= 1
                return True
            return False

        line = LossyLine(self.service.address, loses)
        self.addCleanup(line.close)
        self.put({"a.json": b'{"n": 1}'})
        terminal = Terminal(self, self.service)
        terminal.set("EVERYSHELF_ADDRESS", line.address)
        terminal.run("connect", line.address, "--name", "owner", "--scope", "admin")
        terminal.run("take", self.shelf.key, "desk")
        terminal.folder = terminal.home / "desk"
        terminal.write("a.json", b'{"n": 2}')
        return terminal, line

    def summaries(self) -> list[str]:
        return [commit.summary for commit in self.shelf.commits("main")]

    def test_one_lost_answer_is_asked_for_again(self) -> None:
        desk, line = self.desk_over(1)
        said = desk.run("commit", "--summary", "Two berths").stdout
        self.assertEqual(line.lost, 1)
        self.assertIn("Committed 1 artifact to main", said)
        self.assertEqual(self.summaries(), ["Two berths", "A change"])
        self.assertEqual(desk.json("pending")["unsent"], [])

    def test_a_commit_without_any_answer_is_found_and_not_made_twice(self) -> None:
        desk, line = self.desk_over(4)
        said = desk.run("commit", "--summary", "Two berths").stdout
        self.assertEqual(line.lost, 4)
        self.assertIn("out of reach", said)
        self.assertEqual(self.summaries(), ["Two berths", "A change"], "it landed, and nobody could say so")
        desk.write("b.json", b"{}")
        desk.run("commit", "--summary", "One more")
        self.assertEqual(self.summaries(), ["One more", "Two berths", "A change"])
        self.assertEqual(desk.json("pending")["unsent"], [])


class LongCommitTests(ServiceCase):
    """Thousands of artifacts at once."""

    def contents(self, word: str) -> list[str]:
        folder = Path(self.enterContext(tempfile.TemporaryDirectory()))
        files = []
        for n in range(MANY):
            file = folder / f"{n}.json"
            file.write_text(json.dumps({word: n}))
            files.append(file)
        return [content.id for content in self.shelf.upload_many(files)]

    def jobs(self) -> list[dict[str, object]]:
        out = self.service.run_python(
            "import json\nfrom everyshelf.service.jobs.models import Job\n"
            f"rows = Job.objects.filter(kind='commit', shelf__key='{self.shelf.key}').order_by('pk')\n"
            "print(json.dumps([{'state': j.state, 'uid': j.uid, 'result': j.result, 'total': j.total} for j in rows]))"
        )
        found: list[dict[str, object]] = json.loads(out)
        return found

    def test_many_contents_in_one_call_are_those_sent_one_by_one(self) -> None:
        folder = Path(self.enterContext(tempfile.TemporaryDirectory()))
        files = []
        for n, size in enumerate((0, 1, 200_000, 3 * 1024 * 1024, 5)):
            file = folder / str(n)
            file.write_bytes(bytes([n]) * size)
            files.append(file)
        sent = [content.id for content in self.shelf.upload_many(files)]
        self.assertEqual(sent, [self.shelf.upload(file).id for file in files])

    def test_a_broken_body_keeps_nothing(self) -> None:
        for body in (b"\0" * 7, (9).to_bytes(8, "big") + b"short", b"\xff" * 8):
            with self.subTest(body=body), self.assertRaises(ProblemError) as caught:
                self.shelf._transport.put_bytes(
                    f"shelves/{self.shelf.key}/contents/many", iter([body]), len(body), dict[str, object]
                )
            self.assertEqual(caught.exception.code, "content.incomplete")

    def test_a_job_makes_it_and_the_same_key_finds_it(self) -> None:
        changes, key = changes_of(self.contents("a")), uuid.uuid4().hex
        made = self.shelf.commit("main", None, changes, "Everything", key=key)
        jobs = self.jobs()
        self.assertEqual([job["state"] for job in jobs], ["done"])
        self.assertEqual(jobs[0]["result"], {"commit": made.commit})
        self.assertEqual(jobs[0]["total"], MANY)
        again = self.shelf.commit("main", None, changes, "Everything", key=key)
        self.assertEqual((again.commit, len(self.jobs())), (made.commit, 1))
        self.assertEqual(len(list(self.shelf.artifacts("main"))), MANY)

    def test_a_job_that_cannot_be_done_says_why(self) -> None:
        contents = self.contents("b")
        first = self.shelf.commit("main", None, changes_of(contents), "Everything")
        with self.assertRaises(ProblemError) as caught:
            self.shelf.commit("main", first.commit, changes_of(contents), "Again")
        self.assertEqual(caught.exception.code, "commit.empty")
        with self.assertRaises(ProblemError) as caught:
            self.shelf.commit("main", None, changes_of(contents[::-1]), "On nothing")
        self.assertEqual(caught.exception.code, "branch.moved")

    def test_a_job_that_runs_again_finds_its_own_commit(self) -> None:
        """As after a restart between the commit and the word that the job is done."""
        made = self.shelf.commit("main", None, changes_of(self.contents("c")), "Everything")
        uid = self.jobs()[0]["uid"]
        self.service.run_python(
            "from everyshelf.service.jobs.models import Job\n"
            f"Job.objects.filter(uid='{uid}').update(state='waiting', ended=None)"
        )
        self.shelf.wait(self.client._transport.get(f"jobs/{uid}", type(self.shelf.verify())))
        self.assertEqual(self.jobs()[0]["result"], {"commit": made.commit})
        self.assertEqual([c.summary for c in self.shelf.commits("main")], ["Everything"])


class RestartTests(unittest.TestCase):
    """The service dies in the middle of a long commit."""

    def test_the_commit_is_made_once(self) -> None:
        service = Service()
        self.addCleanup(service.stop)
        with service.client() as client:
            shelf = client.shelf(client.make_shelf("Long").key)
            contents = upload_numbers(shelf, 1_100)
            body = {
                "branch": "main",
                "base": None,
                "changes": [{"path": c.path, "content": c.content, "moved_from": ""} for c in changes_of(contents)],
                "summary": "Everything",
            }
            with self.assertRaises(ProblemError) as caught:
                client._transport._sent(
                    "POST",
                    f"shelves/{shelf.key}/commits",
                    content=json.dumps(body).encode(),
                    headers={"Content-Type": "application/json", "Idempotency-Key": "one"},
                )
            self.assertEqual(caught.exception.code, "commit.working")
            uid = str(caught.exception.problem["job"])
        service.kill_group()
        service.start()
        with Client(service.address, service.token()) as client:
            client._transport._wait(uid)
            made = client._transport.send("POST", f"shelves/{shelf.key}/commits", body, dict[str, object], "one")
            summaries = [commit.summary for commit in client.shelf(shelf.key).commits("main")]
            self.assertEqual(summaries, ["Everything"])
            self.assertEqual(made["commit"], client.shelf(shelf.key).branch("main").head)
