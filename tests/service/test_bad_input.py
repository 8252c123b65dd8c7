"""Bad input of every call answers with a clear problem: never a 500, never an error page."""

from __future__ import annotations

import random
from pathlib import Path
from typing import Any

import httpx
import yaml

from tests.support.factories import ServiceCase

DOCUMENT = Path(__file__).parents[2] / "docs" / "openapi.yaml"
ODD = [
    None,
    "",
    "..",
    "\u0000",
    "x" * 5000,
    -1,
    2**70,
    1.5,
    True,
    [],
    {},
    [[]],
    {"a": None},
    "tag:",
    "commit:",
    "at:",
    "' OR 1=1 --",
    "🛳",
]


class BadInputTests(ServiceCase):
    """Every operation of the OpenAPI document, with bodies and parameters nobody would send."""

    def test_no_call_fails_on_our_side(self) -> None:
        self.put({"a.json": b'{"a": 1}'})
        self.shelf.make_tag("t")
        self.shelf.make_environment("test")
        rng = random.Random(20)
        with httpx.Client(
            base_url=self.service.address, headers={"Authorization": f"Bearer {self.service.token()}"}, timeout=60
        ) as http:
            for path, methods in self.operations():
                for method in methods:
                    for _ in range(6):
                        self.check(http, rng, method, path)

    def operations(self) -> list[tuple[str, list[str]]]:
        document = yaml.safe_load(DOCUMENT.read_text())
        return [
            (p, [m for m in ops if m in ("get", "post", "put", "patch", "delete")])
            for p, ops in document["paths"].items()
        ]

    def check(self, http: httpx.Client, rng: random.Random, method: str, path: str) -> None:
        names = {
            "shelf": self.shelf.key,
            "name": rng.choice(["test", "main", "t", "no%00thing", "..%2F.."]),
            "uid": rng.choice(["0" * 32, "xyz"]),
            "identity": rng.choice(["f" * 64, "..", "x"]),
        }
        address = path
        for name, value in names.items():
            address = address.replace("{" + name + "}", value)
        query = {
            n: str(rng.choice(ODD))[:600]
            for n in ("ref", "path", "from", "to", "limit", "cursor", "version", "encoding")
            if rng.random() < 0.5
        }
        answer = http.request(method, address, params=query, **self.body(rng))
        self.assertLess(answer.status_code, 500, f"{method} {address} {query}: {answer.text[:500]}")
        if answer.status_code >= 400:
            self.assertIn(
                "json", answer.headers.get("content-type", ""), f"{method} {address} {query}: {answer.text[:300]}"
            )
            problem = answer.json()
            self.assertEqual(answer.headers["content-type"], "application/problem+json")
            self.assertTrue(problem["code"] and problem["detail"], problem)

    def body(self, rng: random.Random) -> dict[str, Any]:
        kind = rng.randrange(4)
        if kind == 0:
            return {"content": rng.randbytes(200), "headers": {"Content-Type": "application/json"}}
        if kind == 1:
            return {"content": b"<a/>", "headers": {"Content-Type": "text/xml"}}
        fields = (
            "name",
            "summary",
            "branch",
            "base",
            "changes",
            "tag",
            "ref",
            "path",
            "source",
            "target",
            "person",
            "role",
            "scopes",
            "days",
            "ids",
            "selection",
            "labels",
            "position",
            "folder",
            "to",
            "guarded",
            "password",
        )
        return {"json": {f: rng.choice(ODD) for f in fields if rng.random() < 0.7} if kind == 2 else rng.choice(ODD)}

    def test_paths_never_leave_the_shelf(self) -> None:
        content = self.shelf.upload(b"x").id
        from everyshelf.client import ChangeRequest, ProblemError

        for path in (
            "../x",
            "/etc/passwd",
            "a/../../x",
            "con",
            "a\\..\\x",
            ".everyshelf/desk.json",
            "a\u202eb",
            "a/./b",
        ):
            with self.subTest(path=path), self.assertRaises(ProblemError) as caught:
                self.shelf.commit("main", None, [ChangeRequest(path, content)], "x")
            self.assertEqual(caught.exception.code, "path.invalid")

    def test_environment_folders_stay_in_their_places(self) -> None:
        from everyshelf.client import ProblemError

        for folder in ("/etc", "../../outside", "/"):
            with self.assertRaises(ProblemError) as caught:
                self.shelf.make_environment("somewhere", address=folder)
            self.assertEqual(caught.exception.code, "environment.folder")

    def test_addresses_outside_the_interface_are_answered(self) -> None:
        for path, status in (
            ("/api/v1/nothing", 404),
            ("/api/nothing", 404),
            ("/assets/none.js", 404),
            ("/favicon.png", 404),
            ("/healthz", 200),
        ):
            answer = httpx.get(f"{self.service.address}{path}")
            self.assertEqual(answer.status_code, status, path)
            self.assertIn("json", answer.headers["content-type"])
        wrong_host = httpx.get(f"{self.service.address}/api/v1/session", headers={"Host": "elsewhere.example"})
        self.assertEqual(wrong_host.status_code, 400)
