"""Calls nobody would send, drawn from the OpenAPI document and from registries of values that fit and that do not.

A value is drawn by the name of its parameter: of those that exist on the shelf, of those of another sort, and of what
has broken services before. So calls get past the first check as often as they meet it.
"""

from __future__ import annotations

import random
from collections.abc import Callable
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any
from urllib.parse import quote

import httpx
import yaml

DOCUMENT = Path(__file__).parents[2] / "docs" / "openapi.yaml"
METHODS = ("get", "post", "put", "patch", "delete")

ODD_TEXTS = [
    "",
    " ",
    "..",
    "../../etc/passwd",
    "a/../b",
    "/",
    "//",
    "\u0000",
    "a\u0000b",
    "\ud800",
    "x" * 300,
    "x" * 5000,
    "é" * 200,
    "²",
    "٣",
    "🛳",
    "-1",
    "0",
    "9" * 5000,
    "1e400",
    "NaN",
    "null",
    "true",
    "' OR 1=1 --",
    "%00",
    "%ff%fe",
    "{}",
    "[]",
    "${jndi:x}",
    "http://[::1/x",
    "http://127.0.0.1:99999/x",
    "file:///etc/passwd",
    "C:\\x",
    "con",
    ".git/config",
    "a\nb",
    "\u202e",
]
ODD_REFS = [
    "at:9999-12-31",
    "at:0001-01-01",
    "at:0001-01-01T00:00:00+14:00",
    "at:9999-12-31T23:59:59-14:00",
    "at:now",
    "at:",
    "at:main@",
    "at:2026-02-30",
    "version:²",
    "version:1",
    "version:",
    "version:" + "9" * 4000,
    "tag:",
    "tag:one",
    "commit:",
    "commit:zzzzzzzz",
    "commit:" + "a" * 64,
    "draft",
    "draft:",
    "draft:main@",
    "draft:main@²",
    "draft:main@" + "9" * 30,
    "env:test",
    "env:",
    "desk",
    "main",
    "main:main",
]
ODD_VALUES: list[Any] = [
    None,
    True,
    False,
    0,
    -1,
    1,
    1.5,
    2**31,
    2**63,
    2**70,
    -(2**70),
    [],
    {},
    [[]],
    [None],
    {"a": None},
]
ODD_ENCODINGS = ["punycode", "rot13", "base64", "idna", "utf-7", "utf-16", "hex", "undefined", "x" * 100, "cp037"]


@dataclass
class Known:
    """Values that exist, by the name of the parameter or field they fit."""

    values: dict[str, list[Any]] = field(default_factory=dict)

    def add(self, name: str, *values: Any) -> None:
        self.values.setdefault(name, []).extend(values)


@dataclass(frozen=True)
class Call:
    """One call: method, address with query, body (bytes, or None) and headers."""

    operation: str
    method: str
    address: str
    body: bytes | None
    headers: dict[str, str]


class Fuzzer:
    """Draws calls; the same seed gives the same calls."""

    def __init__(
        self,
        known: Known,
        seed: int,
        *,
        leave_out: tuple[str, ...] = ("session_end", "tokens_revoke"),
        only: Callable[[str], bool] = lambda path: True,
    ) -> None:
        self._random = random.Random(seed)
        self._known = known.values
        self._document = yaml.safe_load(DOCUMENT.read_text())
        self.operations = [
            (path, method, operation)
            for path, operations in self._document["paths"].items()
            for method, operation in operations.items()
            if method in METHODS and operation["operationId"] not in leave_out and only(path)
        ]

    def draw(self, number: int) -> Call:
        """A call; ``number`` goes through the operations in turn."""
        path, method, operation = self.operations[number % len(self.operations)]
        query = []
        for parameter in operation.get("parameters", []):
            if parameter["in"] == "path":
                value = str(self._value(parameter["name"], parameter.get("schema", {}), "path"))
                path = path.replace("{%s}" % parameter["name"], quote(_encodable(value), safe="") or "%20")
            elif self._random.random() < 0.7:
                value = str(self._value(parameter["name"], parameter.get("schema", {}), "query"))
                query.append(f"{parameter['name']}={quote(_encodable(value), safe='')}")
        body, headers = self._body(operation)
        if self._random.random() < 0.15:
            headers["Range"] = self._random.choice(
                ["bytes=0-", "bytes=-", "bytes=" + "9" * 5000 + "-", "bytes=5-1", "bytes=²-", "items=1", "bytes=-0"]
            )
        if self._random.random() < 0.15:
            headers["Idempotency-Key"] = self._random.choice(["same", "k" * 300, f"key {self._random.random()}", "x y"])
        address = path + (f"?{'&'.join(query)}" if query else "")
        return Call(operation["operationId"], method, address, body, headers)

    def _body(self, operation: dict[str, Any]) -> tuple[bytes | None, dict[str, str]]:
        content = operation.get("requestBody", {}).get("content", {})
        if not content:
            return None, {}
        if "application/json" not in content:
            return self._random.randbytes(self._random.choice([0, 1, 200, 5000])), {
                "Content-Type": "application/octet-stream"
            }
        chance = self._random.random()
        headers = {"Content-Type": "application/json"}
        if chance < 0.04:
            return self._random.choice(
                [b"", b"{", b"[" * 50_000, b"\xff", b"NaN", b'{"a":' * 3000, b"[]", b"1"]
            ), headers
        value = self._shaped(content["application/json"].get("schema", {}), "", 0)
        return _json(value), headers

    def _shaped(self, schema: dict[str, Any], name: str, depth: int) -> Any:
        """A value of the schema's shape, mostly."""
        if "$ref" in schema:
            schema = self._document["components"]["schemas"][schema["$ref"].rpartition("/")[2]]
        if self._random.random() < 0.12 or depth > 6:
            return self._random.choice([*ODD_VALUES, *ODD_TEXTS])
        if name in self._known and self._random.random() < 0.6:
            return self._random.choice(self._known[name])
        for many in ("oneOf", "anyOf", "allOf"):
            if many in schema:
                return self._shaped(self._random.choice(schema[many]), name, depth + 1)
        kind = schema.get("type")
        if isinstance(kind, list):
            kind = self._random.choice(kind)
        if "enum" in schema and self._random.random() < 0.9:
            return self._random.choice(schema["enum"])
        if kind == "object" or "properties" in schema:
            fields = {
                key: self._shaped(inner, key, depth + 1)
                for key, inner in schema.get("properties", {}).items()
                if key in schema.get("required", []) or self._random.random() < 0.6
            }
            if self._random.random() < 0.1:
                fields[self._random.choice(["extra", "__proto__", ""])] = 1
            return fields
        if kind == "array":
            return [
                self._shaped(schema.get("items", {}), name, depth + 1)
                for _ in range(self._random.choice([0, 1, 1, 2, 5]))
            ]
        if kind in ("integer", "number"):
            return self._random.choice([0, 1, 2, 7, -1, 2**31, 2**63, 2**70, 1.5])
        if kind == "boolean":
            return self._random.random() < 0.5
        return self._value(name, schema, "body")

    def _value(self, name: str, schema: dict[str, Any], where: str) -> Any:
        chance = self._random.random()
        if name in self._known and chance < 0.65:
            return self._random.choice(self._known[name])
        if name in ("ref", "from", "to", "start", "base", "head") and chance < 0.9:
            return self._random.choice(ODD_REFS)
        if name == "encoding" and chance < 0.9:
            return self._random.choice(ODD_ENCODINGS)
        if schema.get("type") == "integer" and chance < 0.8:
            return self._random.choice(["1", "0", "-1", "²", "9" * 5000, "2147483648", "1.5", "", "500"])
        if self._known and chance < 0.8:
            return self._random.choice(self._known[self._random.choice(sorted(self._known))])
        return self._random.choice(ODD_TEXTS)


def _encodable(text: str) -> bytes:
    return text.encode("utf-8", "surrogatepass")


def _json(value: Any) -> bytes:
    import json

    return json.dumps(value).encode()  # lone surrogates go as escapes, as clients send them


def send(http: httpx.Client, call: Call) -> httpx.Response:
    """Send a call as it is."""
    headers = {name.encode(): value.encode("latin-1") for name, value in call.headers.items()}
    address = httpx.URL(str(http.base_url).rstrip("/") + call.address)
    return http.request(call.method.upper(), address, content=call.body, headers=headers)


def failures(
    http: httpx.Client,
    fuzzer: Fuzzer,
    start: int,
    count: int,
    acknowledged: Callable[[Call], object] = lambda call: None,
) -> tuple[dict[int, int], list[str]]:
    """Send ``count`` calls; gives how often each status came, and a line for each answer that is our fault.
    ``acknowledged`` is called for each that was answered with success.

    An answer is at fault if it is 500 to 599 (503 and 507 may be right, and are told too), or an error without a problem
    document.
    """
    statuses: dict[int, int] = {}
    wrong = []
    for number in range(start, start + count):
        call = fuzzer.draw(number)
        answer = send(http, call)
        statuses[answer.status_code] = statuses.get(answer.status_code, 0) + 1
        if answer.is_success:
            acknowledged(call)
        problem = answer.headers.get("content-type", "").startswith("application/problem+json")
        if answer.status_code >= 500 or (answer.status_code >= 400 and not problem):
            body = (call.body or b"")[:300]
            wrong.append(
                f"{answer.status_code} {call.operation}: {call.method} {call.address[:300]} {body!r} {call.headers}"
                f" -> {answer.text[:300]}"
            )
    return statuses, wrong


def prepared(client: Any, shelf: Any) -> Known:
    """A shelf with something of everything, and what is on it by the names calls use."""
    from tests.support.factories import commit_files

    flow = b'{"steps": [{"id": "a", "run": "x.py", "next": "b"}, {"id": "b"}]}\n'
    first = commit_files(shelf, {"fares.csv": b"id,fare\n1,2\n2,3\n", "flow.json": flow, "a.txt": b"one\n"}, "First")
    shelf.make_tag("one")
    shelf.make_branch("try")
    commit_files(shelf, {"flow.json": flow.replace(b"x.py", b"y.py")}, "Other", branch="try")
    second = commit_files(shelf, {"flow.json": flow.replace(b"x.py", b"z.py"), "a.txt": b"two\n"}, "Second")
    shelf.make_tag("two")
    shelf.make_environment("test", fed_from="main")
    known = Known()
    known.add("shelf", shelf.key, shelf.key, shelf.key)
    known.add("path", "fares.csv", "flow.json", "a.txt", "new.txt", "folder")
    known.add("paths", ["flow.json"], ["no"])
    known.add("branch", "main", "try")
    known.add("source", "try", "main")
    known.add("target", "main", "try")
    known.add("ref", "main", "tag:one", "try", f"commit:{first.commit}", "version:1", *ODD_REFS)
    known.add("from", "tag:one", "main", f"commit:{first.commit}", *ODD_REFS[:6])
    known.add("to", "main", "try", *ODD_REFS[:6])
    known.add("tag", "one", "two")
    known.add("name", "one", "two", "try", "test", "owner", "someone")
    known.add("base", second.commit, first.commit, None)
    known.add("commit", second.commit, first.commit)
    known.add("uid", second.commit, first.commit[:8])
    known.add("environment", "test")
    known.add("content", shelf.upload(b"another\n").id, shelf.upload(flow).id)
    known.add("identity", shelf.upload(b"another\n").id)
    known.add("summary", "A change", "Another")
    known.add("title", "A proposal")
    known.add("question", "Is it better?")
    known.add("number", 1, 2)
    known.add("role", "reader", "author", "keeper")
    known.add("person", "reader", "author")
    known.add("take", "target", "source", "both", "edited")
    known.add("key", "k1", "experiment")
    known.add("password", "a-long-password-1")
    known.add("full_name", "Somebody")
    known.add("destination", "folder", "database", "git", "platform")
    known.add("address", "", "x/y", "http://[::1/x", "x" * 300, "a\u0000b", "https://example.invalid/space")
    del client
    return known
