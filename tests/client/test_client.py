"""The client against servers that do not behave: retries, problems, strangers; and typed answers from the real one."""

from __future__ import annotations

import http.server
import json
import threading
import unittest
from collections.abc import Callable
from typing import Any

import everyshelf.client
from everyshelf.client import (
    Artifact,
    ChangeRequest,
    Client,
    ClientError,
    CommitMessage,
    Job,
    ProblemError,
    UnreachableError,
)
from tests.support.factories import ServiceCase

Answer = tuple[int, dict[str, str], bytes]


class Stranger:
    """A small server that answers whatever a test tells it to, and remembers what was asked."""

    def __init__(self, answer: Callable[[int, str, str], Answer | None]) -> None:
        self.asked: list[tuple[str, str, dict[str, str]]] = []
        outer = self

        class Handler(http.server.BaseHTTPRequestHandler):
            def handle_any(self) -> None:
                length = int(self.headers.get("Content-Length") or 0)
                self.rfile.read(length)
                outer.asked.append((self.command, self.path, dict(self.headers)))
                found = answer(len(outer.asked), self.command, self.path)
                if found is None:
                    self.close_connection = True
                    self.connection.close()
                    return
                status, headers, body = found
                self.send_response(status)
                for name, value in {"Content-Length": str(len(body)), **headers}.items():
                    self.send_header(name, value)
                self.end_headers()
                self.wfile.write(body)

            do_GET = do_POST = do_PUT = do_DELETE = do_PATCH = handle_any

            def log_message(self, *arguments: Any) -> None:
                pass

        self.server = http.server.ThreadingHTTPServer(("127.0.0.1", 0), Handler)
        threading.Thread(target=self.server.serve_forever, daemon=True).start()
        self.address = f"http://127.0.0.1:{self.server.server_address[1]}"

    def close(self) -> None:
        self.server.shutdown()
        self.server.server_close()


def answered(document: Any, status: int = 200) -> Answer:
    return status, {"Content-Type": "application/json"}, json.dumps(document).encode()


class FailureTests(unittest.TestCase):
    """What went wrong is an error with a code and a next step."""

    def client(self, answer: Callable[[int, str, str], Answer | None]) -> tuple[Client, Stranger]:
        stranger = Stranger(answer)
        self.addCleanup(stranger.close)
        client = Client(stranger.address, "es_token", timeout_seconds=5)
        self.addCleanup(client.close)
        return client, stranger

    def test_nobody_there_is_out_of_reach(self) -> None:
        with self.assertRaises(UnreachableError) as caught:
            Client("http://127.0.0.1:9").shelves()
        self.assertEqual(caught.exception.code, "service.unreachable")
        self.assertIn("everyshelf serve", caught.exception.hint)

    def test_another_service_is_told_as_such(self) -> None:
        client, _ = self.client(lambda n, method, path: (200, {"Content-Type": "text/html"}, b"<html>hello</html>"))
        with self.assertRaises(UnreachableError) as caught:
            client.shelves()
        self.assertEqual(caught.exception.code, "service.foreign")

    def test_busy_service_is_asked_again(self) -> None:
        client, stranger = self.client(
            lambda n, method, path: answered([]) if n > 2 else answered({"code": "records.busy"}, 503)
        )
        self.assertEqual(client.shelves(), [])
        self.assertEqual(len(stranger.asked), 3)

    def test_lost_answer_to_a_write_is_repeated_under_one_key(self) -> None:
        made = {
            "name": "t",
            "beginning": "es_",
            "scopes": ["read"],
            "created": "2026-03-01T00:00:00Z",
            "expires": None,
            "last_used": None,
            "value": "v",
        }
        client, stranger = self.client(lambda n, method, path: None if n == 1 else answered(made, 201))
        self.assertEqual(client.make_token("t", ["read"]).value, "v")
        keys = {headers["Idempotency-Key"] for _, _, headers in stranger.asked}
        self.assertEqual((len(stranger.asked), len(keys)), (2, 1))

    def test_problem_keeps_everything_the_service_said(self) -> None:
        problem = {
            "detail": "no",
            "code": "input.invalid",
            "hint": "See errors.",
            "errors": [{"pointer": "/name", "detail": "too long"}],
        }
        client, _ = self.client(lambda n, method, path: answered(problem, 400))
        with self.assertRaises(ProblemError) as caught:
            client.make_shelf("x")
        error = caught.exception
        self.assertEqual((error.status, error.code, error.hint), (400, "input.invalid", "See errors."))
        self.assertIn("/name: too long", str(error))
        self.assertIsInstance(error, ClientError)

    def test_error_page_of_a_proxy_is_a_problem_too(self) -> None:
        client, _ = self.client(lambda n, method, path: (502, {"Content-Type": "text/html"}, b"<h1>Bad gateway</h1>"))
        with self.assertRaises(ProblemError) as caught:
            client.shelves()
        self.assertEqual((caught.exception.status, caught.exception.code), (502, "service.failed"))

    def test_token_goes_with_every_request_and_names_are_quoted(self) -> None:
        client, stranger = self.client(lambda n, method, path: answered({}, 200))
        client.revoke_token("a/b c")
        method, path, headers = stranger.asked[0]
        self.assertEqual(
            (method, path, headers["Authorization"]), ("DELETE", "/api/v1/tokens/a%2Fb%20c", "Bearer es_token")
        )

    def test_failed_job_is_raised_with_its_problem(self) -> None:
        job = {
            "job": "1",
            "kind": "promote",
            "state": "failed",
            "done": 0,
            "total": 0,
            "note": "",
            "result": None,
            "problem": {"status": 507, "detail": "no room", "code": "content.storage", "hint": "free some"},
        }
        client, _ = self.client(lambda n, method, path: answered(job))
        with self.assertRaises(ProblemError) as caught:
            client.shelf("s").wait(client.job("1"))
        self.assertEqual((caught.exception.status, caught.exception.code), (507, "content.storage"))

    def test_fields_a_newer_service_adds_are_ignored(self) -> None:
        shelf = {
            "key": "s",
            "name": "S",
            "description": "",
            "main_branch": "main",
            "role": "owner",
            "branches": 1,
            "tags": 0,
            "commits": 0,
            "environments": 0,
            "moon": "full",
        }
        client, _ = self.client(lambda n, method, path: answered([shelf]))
        self.assertEqual(client.shelves()[0].key, "s")


class PublicTests(unittest.TestCase):
    """What is offered is listed, and what is listed is there."""

    def test_list_and_truth_agree(self) -> None:
        names = everyshelf.client.__all__
        self.assertEqual(names, sorted(names))
        for name in names:
            self.assertTrue(hasattr(everyshelf.client, name), name)


class RealTests(ServiceCase):
    """The same path as on the command line, typed."""

    def test_whole_path_through_the_client(self) -> None:
        shelf = self.shelf
        first = {
            "fares.csv": b"id,fare\n1,2\n2,3\n",
            "flow.json": b'{"steps": [{"id": "a", "next": "b"}, {"id": "b"}]}',
        }
        uploads = {p: shelf.upload(d) for p, d in first.items()}
        made = shelf.commit(
            "main",
            None,
            [ChangeRequest(p, c.id) for p, c in uploads.items()],
            CommitMessage("First", labels={"by": "hand"}),
        )
        shelf.make_tag("one", note="as it runs")
        changed = shelf.upload(b"id,fare\n1,2\n2,9\n")
        made = shelf.commit("main", made.commit, [ChangeRequest("fares.csv", changed.id)], "Second")
        shelf.make_tag("two")
        self.assertEqual(shelf.compare("tag:one", "tag:two").artifacts[0].headline, "1 cell in fare")
        shelf.make_branch("ines/try")
        shelf.merge("ines/try", "main", delete_source=True)
        test = shelf.make_environment("test")
        states: list[Job] = []
        shelf.wait(shelf.promote("one", "test", reason="first"), states.append)
        self.assertEqual(shelf.rehearse("two", "test")["counts"], {"added": 0, "changed": 1, "removed": 0, "same": 1})
        shelf.wait(shelf.promote("two", "test"))
        shelf.wait(shelf.roll_back("test"))
        self.assertEqual(
            [(d.number, d.tag, d.rolled_back_to) for d in shelf.deployments("test")],
            [(3, "one", 1), (2, "two", None), (1, "one", None)],
        )
        self.assertEqual(shelf.environments()[0].current.reason if shelf.environments()[0].current else "", "")
        self.assertTrue(test.address.endswith("/test"))
        self.assertEqual(states[-1].state, "done")

    def test_answers_are_typed(self) -> None:
        self.put({"a.json": b"{}"})
        found = self.shelf.artifact("a.json")
        self.assertIsInstance(found, Artifact)
        assert found.recorded is not None
        self.assertIsNotNone(found.recorded.tzinfo)
        self.assertEqual(self.client.person(), "owner")
        self.assertEqual(self.shelf.info().role, "owner")
