"""C.2: the service calls the hosts it may, and no other, whatever an address looks like."""

from __future__ import annotations

import http.server
import shutil
import tempfile
import threading
import unittest
from pathlib import Path

import httpx

from everyshelf.core.errors import EveryShelfError, RefusedError
from everyshelf.destinations.platform import PlatformDestination
from everyshelf.destinations.reach import Reach, ReachTransport
from everyshelf.destinations.repository import RemoteBranch
from everyshelf.gitside.causes import Access

LOOPBACK = ("127.0.0.1", "127.1", "2130706433", "0x7f000001", "0177.0.0.1", "[::1]", "::1", "localhost", "0.0.0.0")
PRIVATE = ("10.0.0.1", "192.168.1.1", "172.16.0.9", "169.254.169.254", "fd00::1", "fe80::1")


class NameTests(unittest.TestCase):
    """What may be named."""

    def refused(self, reach: Reach, host: str, port: int = 443) -> bool:
        try:
            reach.check_name(host, port)
        except RefusedError as error:
            self.assertEqual(error.code, "destination.host")
            return True
        return False

    def test_nothing_is_reached_unless_it_is_listed(self) -> None:
        for host in (*LOOPBACK, *PRIVATE, "example.org", "93.184.216.34", "", "a/b", "a@b"):
            self.assertTrue(self.refused(Reach(), host), host)

    def test_any_public_host_is_no_private_one(self) -> None:
        reach = Reach(("*",))
        self.assertFalse(self.refused(reach, "example.org"))
        self.assertFalse(self.refused(reach, "93.184.216.34"))
        for host in (*(h for h in LOOPBACK if h != "localhost"), *PRIVATE):
            self.assertTrue(self.refused(reach, host), host)
        with self.assertRaises(RefusedError):  # what a name stands for is looked at when it is connected to
            reach.resolved("localhost", 443)

    def test_listed_ones(self) -> None:
        reach = Reach(("git.example.org", "127.0.0.1:8000", "10.1.0.0/16", "*.corp.example"))
        for host, port, refused in (
            ("git.example.org", 443, False),
            ("GIT.example.org.", 443, False),
            ("127.0.0.1", 8000, False),
            ("127.0.0.1", 8001, True),
            ("10.1.2.3", 5432, False),
            ("10.2.2.3", 5432, True),
            ("a.b.corp.example", 443, False),
            ("93.184.216.34", 443, True),
        ):
            self.assertEqual(self.refused(reach, host, port), refused, (host, port))
        self.assertTrue(self.refused(Reach(("*.corp.example",)), "corp.example.evil"))


class _Elsewhere(http.server.BaseHTTPRequestHandler):
    """Sends everybody on to the address in ``target``."""

    target = ""
    asked = 0

    def do_GET(self) -> None:
        type(self).asked += 1
        self.send_response(302)
        self.send_header("Location", self.target)
        self.send_header("Content-Length", "0")
        self.end_headers()

    def log_message(self, *_: object) -> None:
        pass


class ConnectionTests(unittest.TestCase):
    """What is connected to."""

    def server(self, target: str) -> tuple[str, type[_Elsewhere]]:
        handler = type("Handler", (_Elsewhere,), {"target": target, "asked": 0})
        server = http.server.ThreadingHTTPServer(("127.0.0.1", 0), handler)
        threading.Thread(target=server.serve_forever, daemon=True).start()
        self.addCleanup(server.server_close)
        self.addCleanup(server.shutdown)
        return f"http://127.0.0.1:{server.server_port}", handler

    def branch(self, address: str, reach: Reach) -> RemoteBranch:
        folder = tempfile.mkdtemp(prefix="es-copy-")
        self.addCleanup(shutil.rmtree, folder, ignore_errors=True)
        return RemoteBranch(Access(f"{address}/x.git"), "main", Path(folder, "copy"), reach=reach)

    def test_the_library_and_git_are_asked_before_they_connect(self) -> None:
        address, handler = self.server("/")
        with httpx.Client(transport=ReachTransport(Reach())) as http_client, self.assertRaises(RefusedError):
            http_client.get(address)
        with self.assertRaises(RefusedError):
            self.branch(address, Reach()).fetch()
        self.assertEqual(handler.asked, 0)
        with httpx.Client(transport=ReachTransport(Reach(("127.0.0.1",)))) as http_client:
            self.assertEqual(http_client.get(address).status_code, 302)
        before = handler.asked
        with self.assertRaises(EveryShelfError):
            self.branch(address, Reach(("127.0.0.1",))).fetch()
        self.assertEqual(handler.asked, before + 1)

    def test_no_redirect_is_followed(self) -> None:
        inner, handler = self.server("/")
        outer, _ = self.server(inner)
        with self.assertRaises(EveryShelfError):
            PlatformDestination(f"{outer}/space", "token", Reach(("127.0.0.1",))).current()
        with self.assertRaises(EveryShelfError):
            self.branch(outer, Reach(("127.0.0.1",))).fetch()
        self.assertEqual(handler.asked, 0)
