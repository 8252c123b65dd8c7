"""Behind a proxy with TLS: what the proxy says of a caller counts, and what anyone else says of themselves does not."""

from __future__ import annotations

import unittest

import httpx

from tests.support.factories import commit_files
from tests.support.service import Service

HOST = "shelf.example"
_ODD = [
    "",
    ",",
    ":80",
    "[",
    "]",
    "[]",
    "[::1",
    '"',
    '"x',
    "x" * 5000,
    "\xff",
    "1.2.3.4,",
    "http, https",
    "a:b:c",
    ";=,",
]


def _proxied(service: Service, **headers: str) -> httpx.Client:
    """A caller whose requests came to the proxy over TLS, for the name that the proxy serves."""
    said = {"Host": HOST, "X-Forwarded-Proto": "https", "X-Forwarded-For": "192.0.2.7", **headers}
    return httpx.Client(base_url=f"{service.address}/api/v1", headers=said, trust_env=False, timeout=60)


class BehindAProxyTests(unittest.TestCase):
    """A service that believes the proxy at 127.0.0.1."""

    @classmethod
    def setUpClass(cls) -> None:
        settings = {"EVERYSHELF_HTTPS": "yes", "EVERYSHELF_PROXY": "127.0.0.1", "EVERYSHELF_HOSTS": f"{HOST},127.0.0.1"}
        cls.service = Service(settings=settings)
        cls.addClassCleanup(cls.service.stop)

    def test_guesses_count_for_the_address_that_the_proxy_saw(self) -> None:
        with _proxied(self.service) as http:
            said = [{"X-Forwarded-For": f"10.0.0.{number}, 192.0.2.8"} for number in range(33)]
            answers = [
                http.post("/session", json={"name": f"n{number}", "password": "x"}, headers=headers)
                for number, headers in enumerate(said)
            ]
            self.assertEqual([answer.status_code for answer in answers], [401] * 30 + [429] * 3)
            other = http.post("/session", json={"name": "other", "password": "x"})
            self.assertEqual(other.status_code, 401)

    def test_odd_headers_are_refused_or_ignored(self) -> None:
        with _proxied(self.service) as http:
            for name in ("X-Forwarded-For", "X-Forwarded-Proto", "X-Forwarded-Host", "X-Forwarded-Port", "Forwarded"):
                for value in _ODD:
                    answer = http.get("/session", headers=[(name.encode(), value.encode("latin-1"))])
                    self.assertIn(answer.status_code, (200, 400), f"{name}: {value[:20]!r} {answer.text[:200]}")

    def test_another_name_is_refused(self) -> None:
        with _proxied(self.service) as http:
            for headers in ({"Host": "evil.example"}, {"X-Forwarded-Host": "evil.example"}):
                answer = http.get("/session", headers=headers)
                self.assertEqual(answer.status_code, 400)
                self.assertNotIn("evil", answer.headers.get("location", ""))
                self.assertIn("EVERYSHELF_HOSTS", answer.json()["hint"])

    def test_a_file_is_moved_by_the_address_that_callers_use(self) -> None:
        with self.service.client() as client:
            shelf = client.shelf(client.make_shelf("Proxied").key)
            commit_files(shelf, {"fares.csv": b"zone,fare\nZ1,4\n"}, "First")
            with _proxied(self.service) as http:
                http.auth = ("owner", self.service.token())
                folder = f"{self.service.address}/dav/{shelf.key}/draft/main"
                for host, status in ((HOST, 2), ("evil.example", 5)):
                    self.assertEqual(http.put(f"{folder}/one.txt", content=b"1\n").status_code // 100, 2)
                    there = f"https://{host}/dav/{shelf.key}/draft/main/two.txt"
                    moved = http.request("MOVE", f"{folder}/one.txt", headers={"Destination": there, "Overwrite": "T"})
                    self.assertEqual(moved.status_code // 100, status, moved.text[:300])
                    self.assertLessEqual(moved.status_code, 502)


class NotTheProxyTests(unittest.TestCase):
    """A service whose proxy is elsewhere."""

    def test_what_callers_say_of_themselves_is_ignored(self) -> None:
        service = Service(settings={"EVERYSHELF_PROXY": "192.0.2.1"})
        self.addCleanup(service.stop)
        with httpx.Client(base_url=f"{service.address}/api/v1", trust_env=False, timeout=60) as http:
            answers = [
                http.post(
                    "/session",
                    json={"name": f"n{number}", "password": "x"},
                    headers={"X-Forwarded-For": f"10.0.0.{number}", "Forwarded": f"for=10.0.0.{number}"},
                )
                for number in range(33)
            ]
            self.assertEqual([answer.status_code for answer in answers], [401] * 30 + [429] * 3)
            answer = http.get("/session", headers={"X-Forwarded-Proto": "https", "X-Forwarded-Host": "evil.example"})
            self.assertEqual(answer.status_code, 200)
            self.assertNotIn("Secure", answer.headers["set-cookie"])


if __name__ == "__main__":
    unittest.main()
