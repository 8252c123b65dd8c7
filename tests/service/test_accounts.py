"""C.3 and C.4: tokens, passwords, people who may no longer sign in, and what guards all of it."""

from __future__ import annotations

import os
import stat
import subprocess
import sys
import tempfile
import time
import unittest
from pathlib import Path

import httpx

from everyshelf.client import Client, ProblemError
from tests.support.factories import ServiceCase, Terminal
from tests.support.service import PASSWORD, Service

NEW = "another-password-for-tests"


class AccountCase(ServiceCase):
    """Somebody of one's own for each test."""

    def setUp(self) -> None:
        super().setUp()
        self.name = f"mate{id(self) % 10**8}"
        self.client.add_person(self.name, "A mate", PASSWORD)

    def browser(self, name: str, password: str = PASSWORD) -> httpx.Client:
        """A signed-in browser."""
        http = httpx.Client(base_url=self.service.address, trust_env=False)
        self.addCleanup(http.close)
        http.get("/api/v1/session")
        http.headers["X-CSRFToken"] = http.cookies["everyshelf_csrf"]
        answer = http.post("/api/v1/session", json={"name": name, "password": password})
        self.assertEqual(answer.status_code, 200, answer.text)
        http.headers["X-CSRFToken"] = http.cookies["everyshelf_csrf"]
        return http

    def person_of(self, http: httpx.Client) -> str | None:
        person = http.get("/api/v1/session").json()["person"]
        return person["name"] if person else None


class TokenTests(AccountCase):
    """A token can do what it was made for, and ends with what it was made by."""

    def made(self, client: Client, name: str, scopes: list[str], days: int | None = 90) -> Client:
        made = client.make_token(name, scopes, days)
        found = Client(self.service.address, made.value)
        self.addCleanup(found.close)
        return found

    def test_making_and_revoking_take_admin(self) -> None:
        writing = self.client_of(self.name, ["read", "write"])
        for act in (lambda: writing.make_token("x", ["read"]), lambda: writing.revoke_token("another")):
            with self.assertRaises(ProblemError) as caught:
                act()
            self.assertEqual(caught.exception.code, "rights.scope")

    def test_a_token_may_revoke_itself(self) -> None:
        token = self.made(self.client_of(self.name), "mine", ["read"])
        token.revoke_token("mine")
        with self.assertRaises(ProblemError) as caught:
            token.shelves()
        self.assertEqual(caught.exception.status, 401)

    def test_it_never_outlives_its_maker(self) -> None:
        parent = self.made(self.client_of(self.name), "parent", ["read", "admin"], 3)
        child = self.made(parent, "child", ["read"], None)
        known = {t.name: t for t in parent.tokens()}
        self.assertIsNotNone(known["child"].expires)
        self.assertLessEqual(known["child"].expires, known["parent"].expires)
        self.client_of(self.name).revoke_token("parent")
        with self.assertRaises(ProblemError) as caught:
            child.shelves()
        self.assertEqual(caught.exception.status, 401)

    def test_connect_asks_for_little_and_says_so(self) -> None:
        terminal = Terminal(self, self.service, self.name)
        told = terminal.run("connect", self.service.address, "--name", self.name).stdout
        self.assertIn("can read, write; valid for 90 days", told)
        refused = terminal.run("token", "make", "x", code=4).stderr
        self.assertIn("--scope admin", refused)


class InvitationTests(AccountCase):
    """An invitation is worth what its maker's right is worth."""

    def test_it_dies_with_the_right_of_its_maker(self) -> None:
        self.shelf.set_member(self.name, "owner")
        made = self.client_of(self.name).shelf(self.shelf.key).invite("keeper")
        self.assertEqual(self.client.look_at_invitation(made.value).role, "keeper")
        self.shelf.set_member(self.name, "reader")
        with self.assertRaises(ProblemError) as caught:
            self.client_of("stranger").accept_invitation(made.value)
        self.assertEqual(caught.exception.code, "invitation.missing")


class PasswordTests(AccountCase):
    """Changed, reset, and what ends with them."""

    def test_changing_it_ends_other_sessions(self) -> None:
        here, there = self.browser(self.name), self.browser(self.name)
        wrong = here.put("/api/v1/session/password", json={"old": "not-it-at-all", "new": NEW})
        self.assertEqual((wrong.status_code, wrong.json()["code"]), (403, "people.wrong_password"))
        for guessed in ("password2026!", "Passwordpassword", "12345678901234", "qwertyuiop1", f"{self.name}1"):
            tried = here.put("/api/v1/session/password", json={"old": PASSWORD, "new": guessed})
            self.assertEqual(tried.status_code, 400, guessed)
        weak = here.put("/api/v1/session/password", json={"old": PASSWORD, "new": "short"})
        self.assertEqual(weak.json()["code"], "people.password")
        self.assertEqual(here.put("/api/v1/session/password", json={"old": PASSWORD, "new": NEW}).status_code, 204)
        self.assertEqual((self.person_of(here), self.person_of(there)), (self.name, None))
        self.assertEqual(self.person_of(self.browser(self.name, NEW)), self.name)

    def test_an_administrator_resets_it(self) -> None:
        session = self.browser(self.name)
        made = self.client.reset_password(self.name)
        self.assertIsNone(self.person_of(session))
        self.assertEqual(self.person_of(self.browser(self.name, made)), self.name)
        with self.assertRaises(ProblemError) as caught:
            self.client_of("keeper").reset_password(self.name)
        self.assertEqual(caught.exception.code, "rights.role")

    def test_on_the_machine_it_is_reset_without_an_account(self) -> None:
        words = ["admin", "password", self.name, "--data"]
        done = subprocess.run(
            [sys.executable, "-m", "everyshelf.cli.main", *words, str(self.service.data), "--json"],
            capture_output=True,
            text=True,
            check=True,
        )
        self.assertIn('"password": "', done.stdout)

    def test_somebody_disabled_is_out_at_once(self) -> None:
        session, token = self.browser(self.name), self.client_of(self.name)
        token.shelves()
        self.client.set_active(self.name, False)
        self.assertIsNone(self.person_of(session))
        with self.assertRaises(ProblemError) as caught:
            token.shelves()
        self.assertEqual(caught.exception.status, 401)
        self.client.set_active(self.name, True)
        token.shelves()

    def test_the_last_administrator_stays(self) -> None:
        with self.assertRaises(ProblemError) as caught:
            self.client.set_active("owner", False)
        self.assertEqual(caught.exception.code, "people.last_admin")

    def test_sessions_are_ended(self) -> None:
        here, there = self.browser(self.name), self.browser(self.name)
        answer = here.delete(f"/api/v1/people/{self.name}/sessions")
        self.assertEqual((answer.status_code, answer.json()), (200, {"ended": 1}))
        self.assertEqual((self.person_of(here), self.person_of(there)), (self.name, None))


class GuessingTests(unittest.TestCase):
    """Guessing is slowed down, and the real person is not kept out."""

    def test_a_browser_that_signed_in_is_not_locked_out_by_others(self) -> None:
        service = Service()
        self.addCleanup(service.stop)
        mine = httpx.Client(base_url=f"{service.address}/api/v1", trust_env=False)
        self.addCleanup(mine.close)
        right = {"name": "owner", "password": PASSWORD}
        self.assertEqual(mine.post("/session", json=right).status_code, 200)
        mine.headers["X-CSRFToken"] = mine.cookies["everyshelf_csrf"]
        self.assertEqual(mine.delete("/session").status_code, 204)
        with httpx.Client(base_url=f"{service.address}/api/v1", trust_env=False) as guessing:
            answers = [guessing.post("/session", json={**right, "password": f"guess{n}"}) for n in range(8)]
        self.assertEqual([a.status_code for a in answers], [401] * 5 + [429] * 3)
        self.assertGreaterEqual(int(answers[-1].headers["Retry-After"]), 1)
        self.assertEqual(mine.post("/session", json=right).status_code, 200)

    def test_one_address_cannot_try_many_names(self) -> None:
        service = Service()
        self.addCleanup(service.stop)
        with httpx.Client(base_url=f"{service.address}/api/v1", trust_env=False) as guessing:
            answers = [guessing.post("/session", json={"name": f"n{n}", "password": "x"}) for n in range(33)]
        self.assertEqual([a.status_code for a in answers], [401] * 30 + [429] * 3)


class FolderTests(unittest.TestCase):
    """What lies on the disk is its owner's, whatever the umask; behind TLS nothing goes in the clear."""

    def test_modes_and_cookies(self) -> None:
        data = Path(tempfile.mkdtemp(prefix="es-modes-"))
        self.addCleanup(subprocess.run, ["rm", "-rf", str(data)], check=False)
        before = os.umask(0)
        try:
            service = Service(data, settings={"EVERYSHELF_HTTPS": "yes", "EVERYSHELF_PROXY": "127.0.0.1"})
        finally:
            os.umask(before)
        self.addCleanup(service.stop)
        while not (data / "records.sqlite-wal").exists():  # until the first process that answers has opened them
            time.sleep(0.05)
        modes = {p.name: stat.S_IMODE(p.stat().st_mode) for p in data.iterdir() if p.is_file()}
        self.assertEqual(stat.S_IMODE(data.stat().st_mode), 0o700)
        for name in ("records.sqlite", "records.sqlite-wal", "secret-key"):
            self.assertEqual(modes[name], 0o600, name)
        self.assertEqual(stat.S_IMODE(data.with_name(f"{data.name}.key").stat().st_mode), 0o600)
        answer = httpx.get(f"{service.address}/api/v1/session", headers={"X-Forwarded-Proto": "https"})
        self.assertIn("Secure", answer.headers["set-cookie"])
        self.assertIn("max-age=", answer.headers["strict-transport-security"])
