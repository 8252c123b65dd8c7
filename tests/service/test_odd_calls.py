"""B.1 and B.3: no call, file or answer of another server is our failure, and none stops the service."""

from __future__ import annotations

import http.server
import threading
import unittest
from typing import Any

import httpx
from bench.fuzz import fuzz_installation

from everyshelf.client import ProblemError
from everyshelf.core.errors import LimitError
from everyshelf.core.reading.worker import Worker
from tests.support.factories import ServiceCase, Terminal
from tests.support.fuzzing import Fuzzer, failures, prepared
from tests.support.service import PASSWORD, Service

DEEP = {
    "flow.yaml": b"[" * 30_000,
    "list.yaml": b"- " * 20_000 + b"x\n",
    "keys.yaml": b"? " * 20_000 + b"x\n",
    "block.yaml": b"".join(b" " * n + b"a:\n" for n in range(2_000)),
    "deep.json": b"[" * 50_000,
    "deep.toml": b"a = " + b"[" * 20_000,
    "deep.xml": b"<a>" * 30_000,
}


class OddCase(ServiceCase):
    """Calls as they are, without a client between."""

    def setUp(self) -> None:
        super().setUp()
        self.http = httpx.Client(
            base_url=self.service.address,
            headers={"Authorization": f"Bearer {self.service.token()}"},
            trust_env=False,
            timeout=120,
        )
        self.addCleanup(self.http.close)
        self.base = f"/api/v1/shelves/{self.shelf.key}"

    def problem(self, answer: httpx.Response, *statuses: int) -> dict[str, Any]:
        self.assertIn(answer.status_code, statuses or (400, 404, 409, 413, 416, 422), answer.text[:400])
        self.assertEqual(answer.headers["content-type"], "application/problem+json")
        problem: dict[str, Any] = answer.json()
        return problem


class DeepTests(OddCase):
    """What is nested without end ends no process."""

    def test_deep_files_are_versioned_and_the_service_goes_on(self) -> None:
        self.put(dict(DEEP))
        self.put({path: data + b" " for path, data in DEEP.items()}, "Again")
        for path, data in DEEP.items():
            self.assertEqual(self.shelf.read(path), data + b" ")
            self.assertEqual(self.http.get(f"{self.base}/artifact/outline", params={"path": path}).status_code, 200)
        first = list(self.shelf.commits())[-1].commit
        answer = self.http.get(f"{self.base}/compare", params={"from": f"commit:{first}", "to": "main"})
        self.assertIn(answer.status_code, (200, 202))

    def test_deep_files_on_a_desk(self) -> None:
        terminal = Terminal(self, self.service)
        terminal.run("take", self.shelf.key, "desk")
        terminal.folder = terminal.home / "desk"
        for path, data in DEEP.items():
            terminal.write(path, data)
        self.assertEqual(terminal.json("pending")["counts"]["new"], len(DEEP))
        terminal.run("commit", "--summary", "Deep ones")
        self.assertEqual(terminal.json("pending")["counts"]["same"], len(DEEP))

    def test_deep_requests_without_signing_in(self) -> None:
        for body in (
            b"[" * 50_000,
            b'{"a":' * 50_000,
            b"[" * 200 + b"]" * 200,
            b'{"name": ' + b"[" * 999 + b"]" * 999 + b"}",
        ):
            for path in ("/api/v1/session", "/api/v1/invitations/look"):
                answer = httpx.post(
                    f"{self.service.address}{path}", content=body, headers={"Content-Type": "application/json"}
                )
                self.assertEqual(self.problem(answer, 400)["code"], "input.syntax")

    def test_deep_results_of_a_check(self) -> None:
        self.put({"a.txt": b"a"})
        for junit in ("<testsuite>" * 30_000, "<testsuites>" + "<testsuite>" * 5_000, "<" * 50_000):
            answer = self.http.post(f"{self.base}/checks", json={"name": "tests", "junit": junit})
            self.assertEqual(self.problem(answer, 400)["code"], "check.junit")
        junit = '<testsuite name="s"><testcase name="a"/><testcase name="b"><failure/></testcase></testsuite>'
        answer = self.http.post(f"{self.base}/checks", json={"name": "tests", "junit": junit})
        self.assertEqual((answer.json()["passed"], answer.json()["comment"]), (False, "1 of 2 passed; failed: b"))

    def test_deep_artifacts_with_bindings(self) -> None:
        """Their names are put in as in any text, or the rehearsal says what cannot be promoted."""
        rules = b'[bindings]\nPORT = {in = "*"}\n'
        self.put({"shelf.toml": rules, **{path: b"${PORT}" + data for path, data in DEEP.items()}})
        self.shelf.make_tag("one")
        self.shelf.make_environment("test")
        self.shelf.bind("test", "PORT", "7463", secret=False)
        rehearsal = self.shelf.rehearse("one", "test")
        self.assertEqual({a["path"] for a in rehearsal["artifacts"]}, {"shelf.toml", *DEEP})

    def test_deep_metrics_of_a_run(self) -> None:
        deep = {path: data for path, data in DEEP.items() if path.endswith(("yaml", "json"))}
        first = self.put({"shelf.toml": b'[experiments]\nmetrics = ["*.yaml", "*.json"]\n'})
        wrote = self.put({**deep, "good.json": b'{"rmse": 2.5}'}, "A run")
        key = self.shelf.begin_experiment("Does it hold?", branch="main")["key"]
        run = self.shelf.record_run(key, "main", wrote.commit, base=first.commit)
        self.assertEqual(run["metrics"], {"rmse": 2.5})
        for path in deep:
            self.assertIn(path, run["note"])

    def test_what_ends_the_reading_process_is_opaque_and_costs_the_others_nothing(self) -> None:
        class Fragile(Worker):
            """Its process ends with every file called killer."""

            asked = 0

            def _ask(self, request: Any, *more: Any) -> Any:
                Fragile.asked += 1
                if any("killer" in file.name for file in request.files):
                    raise LimitError("it ended", code="limit.memory")
                return super()._ask(request, *more)

        worker = Fragile()
        self.addCleanup(worker.close)
        files = [(f"{n}.csv", b"id,n\n1,2\n2,3\n", 14) for n in range(20)]
        files[7] = ("killer.csv", b"id,n\n1,2\n", 9)
        kinds = worker.recognise(files)
        self.assertEqual((kinds[7], set(kinds[:7] + kinds[8:])), ("opaque", {"dataset"}))
        self.assertLess(Fragile.asked, 20)


class DirectedTests(OddCase):
    """Calls that were answered with 500."""

    def setUp(self) -> None:
        super().setUp()
        self.put({"a.csv": b"id,n\n1,2\n", "b.json": b"{}\n"})
        self.shelf.make_tag("one")

    def test_numbers_and_dates(self) -> None:
        many = "9" * 5000
        for query in (
            {"ref": "version:²"},
            {"ref": f"version:{many}"},
            {"ref": "at:2026-13-45"},
            {"limit": many},
            {"limit": "²"},
            {"limit": "0"},
            {"cursor": "/w=="},
            {"cursor": many},
        ):
            self.problem(self.http.get(f"{self.base}/artifacts", params=query))
        for ref in ("at:9999-12-31", "at:9999-12-31T23:59:59-14:00", "at:now", "at:0001-01-01T00:00:00+14:00"):
            self.assertEqual(self.http.get(f"{self.base}/artifacts", params={"ref": ref}).status_code, 200, ref)
        body = {"branch": "main", "ref": "version:²", "path": "a.csv"}
        self.problem(self.http.post(f"{self.base}/restore", json=body))
        self.problem(
            self.http.get(f"{self.base}/compare/rows", params={"path": "a.csv", "from": "version:²", "count": "²"})
        )

    def test_ranges(self) -> None:
        url = f"{self.base}/artifact/file?path=a.csv"
        for asked in (f"bytes={'9' * 5000}-", f"bytes=-{'9' * 5000}", "bytes=7-3", "bytes=-0", "pages=1"):
            answer = self.http.get(url, headers={"Range": asked})
            self.assertIn(answer.status_code, (200, 206, 416), asked[:40])

    def test_encodings(self) -> None:
        for encoding in (
            "punycode",
            "idna",
            "rot13",
            "base64",
            "hex",
            "unicode_escape",
            "undefined",
            "x" * 300,
            "mbcs",
        ):
            answer = self.http.get(f"{self.base}/artifact/text", params={"path": "a.csv", "encoding": encoding})
            self.problem(answer, 400, 422)
        for encoding in ("utf-16", "cp1252", "shift_jis", "utf-8"):
            answer = self.http.get(f"{self.base}/artifact/text", params={"path": "a.csv", "encoding": encoding})
            self.assertIn(answer.status_code, (200, 400, 422), encoding)

    def test_half_characters_and_large_numbers(self) -> None:
        for body in (b'{"name": "\\ud800"}', b'{"name": "a\\u0000b"}', b'{"name": NaN}'):
            answer = self.http.post(f"{self.base}/branches", content=body, headers={"Content-Type": "application/json"})
            self.problem(answer, 400)
        content = self.shelf.upload(b'{"n": 1}\n').id
        body = {"path": "b.json", "content": content, "fields": [{"part": "/", "field": "n", "value": 2**70}]}
        self.assertLess(self.http.post(f"{self.base}/contents/edit", json=body).status_code, 500)

    def test_a_damaged_parcel(self) -> None:
        terminal = Terminal(self, self.service)
        file = terminal.home / "p.parcel.zip"
        terminal.run("parcel", "pack", "tag:one", "--shelf", self.shelf.key, "--output", str(file))
        data = bytearray(file.read_bytes())
        for at in range(60, len(data), max(1, len(data) // 25)):
            damaged = bytearray(data)
            damaged[at] ^= 0xFF
            content = self.shelf.upload(bytes(damaged)).id
            answer = self.http.post(f"{self.base}/drafts/unpack", json={"branch": "main", "content": content})
            self.assertIn(answer.status_code, (200, 400), answer.text[:300])

    def test_a_folder_is_no_file(self) -> None:
        self.put({"folder/x.txt": b"1"})
        terminal = Terminal(self, self.service)
        out = str(terminal.home / "out")
        done = terminal.run("browse", "folder", "--shelf", self.shelf.key, "--output", out, code=2)
        self.assertNotIn("something went wrong", done.stderr)


class _Nonsense(http.server.BaseHTTPRequestHandler):
    """Answers everything with the same bytes."""

    answer = b""

    def do_GET(self) -> None:
        length = int(self.headers.get("Content-Length") or 0)
        self.rfile.read(length)
        self.send_response(200)
        self.send_header("Content-Length", str(len(self.answer)))
        self.send_header("Content-Type", "application/x-git-upload-pack-advertisement")
        self.end_headers()
        self.wfile.write(self.answer)

    do_POST = do_PUT = do_DELETE = do_GET

    def log_message(self, *_: object) -> None:
        pass


class NonsenseTests(OddCase):
    """A platform or a Git server that answers with nonsense is told as such."""

    def test_it_is_named(self) -> None:
        self.put({"a.txt": b"1"})
        for number, answer in enumerate(
            (
                b"",
                b"<html>",
                b"[]",
                b'{"objects": 1}',
                b'{"objects": [{"name": 1}]}',
                b"\x00\xff" * 50,
                b"0000",
                b"001e# service=git-upload-pack\n0000zzzz",
            )
        ):
            handler = type("Handler", (_Nonsense,), {"answer": answer})
            server = http.server.ThreadingHTTPServer(("127.0.0.1", 0), handler)
            threading.Thread(target=server.serve_forever, daemon=True).start()
            self.addCleanup(server.server_close)
            self.addCleanup(server.shutdown)
            address = f"http://127.0.0.1:{server.server_port}"
            for sort, where in (("platform", f"{address}/space"), ("git", f"{address}/x.git")):
                name = f"{sort}{number}"
                self.shelf.make_environment(name, destination=sort, address=where, fed_from="main")
                with self.subTest(sort=sort, answer=answer), self.assertRaises(ProblemError) as caught:
                    self.shelf.drift(name)
                self.assertIn(caught.exception.code.partition(".")[0], ("destination",), caught.exception.problem)


class FuzzedTests(unittest.TestCase):
    """A sample of the campaign of ``make bench``: no answer is our failure."""

    def test_drawn_calls(self) -> None:
        # A service of its own: among the calls are some that reset passwords and disable people.
        service = Service()
        self.addCleanup(service.stop)
        headers = {"Authorization": f"Bearer {service.token()}"}
        with (
            service.client() as client,
            httpx.Client(base_url=service.address, headers=headers, trust_env=False, timeout=120) as http,
        ):
            for name in ("keeper", "author", "reader"):
                client.add_person(name, name.capitalize(), PASSWORD)
            fuzzer = Fuzzer(prepared(client, client.shelf(client.make_shelf("Odd calls").key)), 11)
            statuses, wrong = failures(http, fuzzer, 0, 8 * len(fuzzer.operations))
        self.assertEqual(wrong, [], statuses)
        self.assertGreater(statuses.get(200, 0) + statuses.get(201, 0), 100)

    def test_what_concerns_the_installation(self) -> None:
        (figure,) = fuzz_installation(120)
        self.assertTrue(figure.holds, figure.detail)
