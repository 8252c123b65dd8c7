"""B.2: connections that are idle, trickle or break off take nothing from others."""

from __future__ import annotations

import socket
import statistics
import time
import unittest
from contextlib import ExitStack

import httpx

from tests.support.service import Service

OPEN = 500


class ConnectionTests(unittest.TestCase):
    """Five hundred of a sort at once, on one service."""

    @classmethod
    def setUpClass(cls) -> None:
        cls.service = Service()
        cls.addClassCleanup(cls.service.stop)
        with cls.service.client() as client:
            cls.key = client.make_shelf("Connections").key
        cls.token = cls.service.token()

    def opened(self, stack: ExitStack, sent: bytes) -> list[socket.socket]:
        found = []
        for _ in range(OPEN):
            one = stack.enter_context(socket.create_connection(("127.0.0.1", self.service.port)))
            one.sendall(sent)
            found.append(one)
        return found

    def answers(self, count: int = 40) -> float:
        """The 95th percentile of a call's seconds; each of them answered."""
        took = []
        with httpx.Client(base_url=self.service.address, trust_env=False, timeout=120) as http:
            for _ in range(count):
                start = time.monotonic()
                answer = http.get("/api/v1/shelves", headers={"Authorization": f"Bearer {self.token}"})
                took.append(time.monotonic() - start)
                self.assertEqual(answer.status_code, 200)
        return statistics.quantiles(took, n=20)[-1]

    def test_none_of_them_stops_the_service(self) -> None:
        put = f"PUT /api/v1/shelves/{self.key}/contents HTTP/1.1\r\nHost: 127.0.0.1\r\n"
        stalled = f"{put}Authorization: Bearer {self.token}\r\nContent-Length: 100000\r\n\r\n".encode() + b"x" * 999
        signing = b"POST /api/v1/session HTTP/1.1\r\nHost: 127.0.0.1\r\nContent-Type: application/json\r\nContent-Length: 90\r\n\r\n{"
        for name, sent in {
            "idle": b"",
            "half a head": b"GET / HTTP/1.1\r\nHost: 127",
            "stalled upload": stalled,
            "stalled sign-in": signing,
        }.items():
            with self.subTest(name), ExitStack() as stack:
                self.opened(stack, sent)
                self.answers()

    def test_answers_nobody_reads_take_no_thread(self) -> None:
        with self.service.client() as client:
            content = client.shelf(self.key).upload(bytes(12_000_000)).id
        ask = (
            f"GET /api/v1/shelves/{self.key}/contents/{content} HTTP/1.1\r\nHost: 127.0.0.1\r\n"
            f"Authorization: Bearer {self.token}\r\n\r\n"
        )
        with ExitStack() as stack:
            for one in self.opened(stack, ask.encode())[:3]:
                self.assertTrue(one.recv(100).startswith(b"HTTP/1.1 200"))
            self.answers()

    def test_what_breaks_off_leaves_nothing(self) -> None:
        put = f"PUT /api/v1/shelves/{self.key}/contents HTTP/1.1\r\nHost: 127.0.0.1\r\n"
        sent = f"{put}Authorization: Bearer {self.token}\r\nContent-Length: 2000000\r\n\r\n".encode() + b"x" * 600_000
        with ExitStack() as stack:
            self.opened(stack, sent)
        self.answers()
        scratch = list((self.service.data / "scratch").rglob("*"))
        self.assertEqual([p for p in scratch if p.is_file()], [])


class LimitTests(unittest.TestCase):
    """Time and rate are limited, and whoever meets a limit is told."""

    @classmethod
    def setUpClass(cls) -> None:
        # The limits of minutes are seconds here.
        cls.service = Service(module="tests.support.hurried")
        cls.addClassCleanup(cls.service.stop)

    def ended(self, sent: bytes, *, then: bytes = b"") -> str:
        """What comes back by itself when nothing, or a little now and then, follows."""
        with socket.create_connection(("127.0.0.1", self.service.port)) as one:
            one.sendall(sent)
            one.settimeout(0.2)
            answer = b""
            while True:
                try:
                    piece = one.recv(4000)
                    answer += piece
                    if not piece:
                        return answer.decode()
                except TimeoutError:
                    if then:
                        one.sendall(then)

    def test_a_head_that_does_not_come(self) -> None:
        answer = self.ended(b"GET / HTTP/1.1\r\nX: ", then=b"y")
        self.assertIn(" 408 ", answer.splitlines()[0])
        self.assertIn("content.stalled", answer)

    def test_a_body_that_stalls(self) -> None:
        answer = self.ended(b"POST /api/v1/session HTTP/1.1\r\nHost: 127.0.0.1\r\nContent-Length: 500\r\n\r\n{")
        self.assertIn(" 408 ", answer.splitlines()[0])

    def test_a_body_that_trickles(self) -> None:
        head = b"POST /api/v1/session HTTP/1.1\r\nHost: 127.0.0.1\r\nContent-Length: 500000\r\n\r\n{"
        answer = self.ended(head, then=b" ")
        self.assertIn(" 408 ", answer.splitlines()[0])

    def test_an_idle_connection_is_closed(self) -> None:
        self.assertEqual(self.ended(b""), "")

    def test_too_large_a_body_is_refused_before_it_comes(self) -> None:
        head = b"POST /api/v1/session HTTP/1.1\r\nHost: 127.0.0.1\r\nContent-Length: 99999999999999\r\n\r\n"
        answer = self.ended(head)
        self.assertIn(" 413 ", answer.splitlines()[0])
        self.assertIn("content.too_large", answer)
