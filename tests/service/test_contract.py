"""The OpenAPI document says what really comes back: every answer of a full path is checked against it."""

from __future__ import annotations

import re
from pathlib import Path
from typing import Any

import httpx
import yaml
from jsonschema import Draft202012Validator

from tests.support.factories import ServiceCase

DOCUMENT = yaml.safe_load((Path(__file__).parents[2] / "docs" / "openapi.yaml").read_text())


class ContractTests(ServiceCase):
    """Requests as the document allows them, answers as it promises them."""

    def setUp(self) -> None:
        super().setUp()
        self.put(
            {"fares.csv": b"id,fare\n1,2\n2,3\n", "flow.json": b'{"steps": [{"id": "a", "next": "b"}, {"id": "b"}]}'}
        )
        self.shelf.make_tag("one")
        self.put({"fares.csv": b"id,fare\n1,2\n2,4\n"})
        self.shelf.make_environment("test", fed_from="main")
        self.http = httpx.Client(
            base_url=self.service.address, headers={"Authorization": f"Bearer {self.service.token()}"}, timeout=30
        )
        self.addCleanup(self.http.close)
        self.seen: set[str] = set()

    def call(self, method: str, address: str, status: int = 200, body: Any = None, /, **query: Any) -> Any:
        """Send it, and hold the answer against the schema of its operation."""
        operation, shape = self.operation(method, address, status)
        answer = (
            self.http.request(method, address, params=query, json=body)
            if body is not None
            else self.http.request(method, address, params=query)
        )
        self.assertEqual(answer.status_code, status, f"{method} {address}: {answer.text[:400]}")
        self.seen.add(operation)
        if shape is None:
            return None
        document = answer.json()
        validator = Draft202012Validator({**shape, "components": DOCUMENT["components"]})
        errors = [f"{list(e.absolute_path)}: {e.message}"[:300] for e in validator.iter_errors(document)]
        self.assertEqual(errors, [], f"{method} {address}")
        return document

    def test_what_the_document_gives_as_an_example_is_taken(self) -> None:
        """Perhaps refused for what it names, never for its form."""
        for template, operations in DOCUMENT["paths"].items():
            for method, operation in operations.items():
                media = operation.get("requestBody", {}).get("content", {}).get("application/json")
                if media is None:
                    continue
                names = {p["name"]: str(p["example"]) for p in operation.get("parameters", []) if p["in"] == "path"}
                names["shelf"] = self.shelf.key
                address = re.sub(r"\{([^}]+)\}", lambda found: names[found.group(1)], template)  # noqa: B023
                answer = self.http.request(method, address, json=media["example"])
                self.assertLess(answer.status_code, 500, (method, template, answer.text[:300]))
                if answer.status_code >= 400:
                    code = answer.json()["code"]
                    wrong = code.startswith("input.") and code != "input.missing"
                    self.assertFalse(wrong, (method, template, answer.text[:400]))

    def operation(self, method: str, path: str, status: int) -> tuple[str, dict[str, Any] | None]:
        for template, operations in DOCUMENT["paths"].items():
            if re.fullmatch(re.sub(r"\{[^}]+\}", "[^/]+", template), path) and method.lower() in operations:
                found = operations[method.lower()]
                response = found["responses"].get(str(status))
                self.assertIsNotNone(response, f"{method} {template} does not promise {status}")
                content = response.get("content", {}).get("application/json")
                return found["operationId"], content["schema"] if content else None
        raise AssertionError(f"{method} {path} is not in the document")

    def test_answers_are_as_promised(self) -> None:
        base = f"/api/v1/shelves/{self.shelf.key}"
        self.call("GET", "/api/v1/session")
        self.call("GET", "/api/v1/shelves")
        self.call("GET", base)
        self.call("GET", "/api/v1/tokens")
        self.call("GET", f"{base}/branches")
        self.call("POST", f"{base}/branches", 201, {"name": "try", "note": "x"})
        self.call("GET", f"{base}/branches/try")
        self.call("PATCH", f"{base}/branches/try", 200, {"guarded": True})
        self.call("PATCH", f"{base}/branches/try", 200, {"guarded": False})
        self.call("GET", f"{base}/tags")
        self.call("POST", f"{base}/tags", 201, {"name": "two", "selection": ["fares.csv"]})
        self.call("GET", f"{base}/tags/two")
        self.call("GET", f"{base}/artifacts", limit=1)
        self.call("GET", f"{base}/artifact", path="fares.csv")
        self.call("GET", f"{base}/artifact/history", path="fares.csv")
        self.call("GET", f"{base}/artifact/outline", path="fares.csv")
        self.call("GET", f"{base}/artifact/outline", path="flow.json")
        self.call("GET", f"{base}/artifact/text", path="flow.json")
        found = self.call("GET", f"{base}/commits")
        self.call("GET", f"{base}/commits/{found['items'][0]['commit']}")
        self.call("GET", f"{base}/compare", **{"from": "tag:one", "to": "main"})
        self.call("GET", f"{base}/compare/artifact", path="fares.csv", **{"from": "tag:one"})
        self.call("POST", f"{base}/contents/missing", 200, {"ids": ["0" * 64]})
        self.call("POST", f"{base}/merge", 200, {"source": "try", "target": "main"})
        self.call("POST", f"{base}/restore", 201, {"branch": "main", "ref": "version:1", "path": "fares.csv"})
        self.call("PUT", f"{base}/members", 200, {"person": "reader", "role": "reader"})
        self.promotion(base)
        self.assertGreaterEqual(len(self.seen), 32)

    def promotion(self, base: str) -> None:
        self.call("GET", f"{base}/environments")
        self.call("GET", f"{base}/environments/test")
        self.call("POST", f"{base}/environments", 201, {"name": "later"})
        self.call("DELETE", f"{base}/environments/later", 204)
        self.call("POST", f"{base}/environments/test/rehearse", 200, {"tag": "one"})
        job = self.call("POST", f"{base}/environments/test/promote", 202, {"tag": "one"})
        self.shelf.wait(self.client.job(job["job"]))
        self.call("GET", f"/api/v1/jobs/{job['job']}")
        self.call("POST", f"/api/v1/jobs/{job['job']}/cancel")
        self.call("GET", f"{base}/environments/test/deployments")
        self.call("POST", f"{base}/environments/test/rehearse", 200, {"tag": "two"})
        self.call("POST", f"{base}/verify", 202)
        self.call("DELETE", f"{base}/branches/try", 204)

    def test_every_operation_has_a_name_of_its_own(self) -> None:
        names = [o["operationId"] for ops in DOCUMENT["paths"].values() for m, o in ops.items() if m != "parameters"]
        self.assertEqual(len(names), len(set(names)))
        self.assertTrue(all(re.fullmatch(r"[a-z]+(_[a-z]+)*", n) for n in names if n != "openapi_retrieve"), names)

    def test_strict_headers_are_on_every_answer(self) -> None:
        for path in ("/", "/api/v1/session", "/healthz", "/s/any"):
            answer = self.http.get(path)
            self.assertIn("frame-ancestors 'none'", answer.headers["content-security-policy"], path)
            self.assertEqual(
                (answer.headers["x-frame-options"], answer.headers["x-content-type-options"]), ("DENY", "nosniff")
            )
            self.assertTrue(answer.headers["x-request-id"])
        self.assertNotIn("unsafe-eval", self.http.get("/").headers["content-security-policy"])
