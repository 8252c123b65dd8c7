"""Sign-in, tokens, roles: nobody sees or changes what they should not."""

from __future__ import annotations

import sqlite3
import time

import httpx

from everyshelf.client import ChangeRequest, Client, CommitMessage, ProblemError
from tests.support.factories import ServiceCase
from tests.support.service import PASSWORD


class RoleTests(ServiceCase):
    """One table of rights."""

    def setUp(self) -> None:
        super().setUp()
        self.put({"a.txt": b"1"})
        self.shelf.make_tag("t")
        for role in ("keeper", "author", "reader"):
            self.shelf.set_member(role, role)

    def refused(self, person: str, act: str, *, status: int = 403) -> None:
        shelf = self.client_of(person).shelf(self.shelf.key)
        acts = {
            "see": lambda: list(shelf.artifacts()),
            "branch": lambda: shelf.make_branch(f"{person}/x"),
            "commit": lambda: shelf.commit("main", shelf.branch("main").head, [ChangeRequest("b.txt", None)], "x"),
            "upload": lambda: shelf.upload(b"x"),
            "tag": lambda: shelf.make_tag(f"{person}-tag"),
            "environment": lambda: shelf.make_environment(f"env-{person}"),
            "member": lambda: shelf.set_member("reader", "owner"),
            "guard": lambda: shelf.guard_branch("main"),
            "drop": lambda: shelf.delete_branch("main"),
        }
        with self.assertRaises(ProblemError) as caught:
            acts[act]()
        self.assertEqual(caught.exception.status, status, f"{person} {act}: {caught.exception}")

    def test_each_role_stops_where_the_table_says(self) -> None:
        for person, acts in {
            "reader": ("commit", "upload", "branch", "tag", "environment", "member", "guard", "drop"),
            "author": ("tag", "environment", "member", "guard"),
            "keeper": ("member", "guard"),
        }.items():
            for act in acts:
                with self.subTest(person=person, act=act):
                    self.refused(person, act)

    def test_what_one_may_not_see_is_missing(self) -> None:
        self.refused("stranger", "see", status=404)
        self.assertNotIn(self.shelf.key, [s.key for s in self.client_of("stranger").shelves()])

    def test_guarded_branch_takes_a_keeper(self) -> None:
        self.shelf.guard_branch("main")
        self.addCleanup(self.shelf.guard_branch, "main", False)
        author, keeper = (self.client_of(p).shelf(self.shelf.key) for p in ("author", "keeper"))
        content = author.upload(b"by the author").id
        change, head = [ChangeRequest("b.txt", content)], author.branch("main").head
        with self.assertRaises(ProblemError) as caught:
            author.commit("main", head, change, "not allowed")
        self.assertEqual((caught.exception.status, caught.exception.code), (403, "rights.role"))
        keeper.commit("main", head, change, "allowed")

    def test_past_and_other_authors_take_the_right_to_import(self) -> None:
        author = self.client_of("author").shelf(self.shelf.key)
        content = author.upload(b"x").id
        with self.assertRaises(ProblemError) as caught:
            author.commit(
                "main", author.branch("main").head, [ChangeRequest("c", content)], CommitMessage("x", author="somebody")
            )
        self.assertEqual(caught.exception.code, "rights.import")

    def test_last_owner_stays(self) -> None:
        with self.assertRaises(ProblemError) as caught:
            self.shelf.set_member("owner", "reader")
        self.assertEqual(caught.exception.code, "people.last_owner")


class TokenTests(ServiceCase):
    """Scopes, expiry, revocation; only hashes are kept."""

    def test_scope_limits_its_owner(self) -> None:
        reading = self.client_of("owner", ["read"]).shelf(self.shelf.key)
        self.assertEqual(list(reading.artifacts()), [])
        with self.assertRaises(ProblemError) as caught:
            reading.upload(b"x")
        self.assertEqual((caught.exception.status, caught.exception.code), (403, "rights.scope"))

    def test_token_cannot_make_a_stronger_one(self) -> None:
        with self.assertRaises(ProblemError) as caught:
            self.client_of("owner", ["read"]).make_token("stronger", ["admin"])
        self.assertEqual(caught.exception.code, "rights.scope")

    def test_revoked_and_expired_tokens_are_worth_nothing(self) -> None:
        made = self.client.make_token(f"short {time.monotonic_ns()}", ["read"], 1)
        other = Client(self.service.address, made.value)
        self.addCleanup(other.close)
        self.assertEqual(other.person(), "owner")
        with sqlite3.connect(self.service.data / "records.sqlite", timeout=20) as records:
            records.execute("UPDATE people_token SET expires = '2020-01-01 00:00:00' WHERE name = ?", (made.name,))
        with self.assertRaises(ProblemError) as caught:
            other.shelves()
        self.assertEqual((caught.exception.status, caught.exception.code), (401, "session.wrong"))
        self.client.revoke_token(made.name)
        with self.assertRaises(ProblemError):
            other.shelves()

    def test_no_secret_lies_in_the_records(self) -> None:
        made = self.client.make_token(f"secret {time.monotonic_ns()}", ["read"])
        for file in self.service.data.glob("records.sqlite*"):
            data = file.read_bytes()
            self.assertNotIn(made.value.encode(), data)
            self.assertNotIn(PASSWORD.encode(), data)
        self.assertNotIn(made.value, [str(t) for t in self.client.tokens()])


class SignInTests(ServiceCase):
    """The console's session."""

    def test_session_needs_the_csrf_token_to_write(self) -> None:
        with httpx.Client(base_url=self.service.address) as http:
            http.get("/api/v1/session")
            token = http.cookies["everyshelf_csrf"]
            answer = http.post(
                "/api/v1/session", json={"name": "owner", "password": PASSWORD}, headers={"X-CSRFToken": token}
            )
            self.assertEqual(answer.json()["person"]["name"], "owner")
            refused = http.post("/api/v1/shelves", json={"name": "By somebody else's page"})
            self.assertEqual((refused.status_code, refused.headers["content-type"]), (403, "application/problem+json"))
            cookies = str(answer.headers.get_list("set-cookie"))
            self.assertIn("HttpOnly", cookies)
            self.assertIn("SameSite=Strict", cookies)

    def test_guessing_is_slowed_down(self) -> None:
        name = f"nobody-{time.monotonic_ns()}"
        statuses = [
            httpx.post(f"{self.service.address}/api/v1/session", json={"name": name, "password": "wrong"}).status_code
            for _ in range(6)
        ]
        self.assertEqual((statuses[0], statuses[-1]), (401, 429))

    def test_without_a_token_nothing_is_shown(self) -> None:
        for path in ("shelves", f"shelves/{self.shelf.key}", "tokens", "jobs/x"):
            answer = httpx.get(f"{self.service.address}/api/v1/{path}")
            self.assertEqual((answer.status_code, answer.json()["code"]), (401, "session.missing"))
