"""Links over SSH, against a real server."""

from __future__ import annotations

import unittest

from everyshelf.client import ProblemError
from tests.service.test_git_links import LinkCase
from tests.support.factories import Terminal
from tests.support.git import GitServer, run_git
from tests.support.ssh import SSHD, SshServer, ssh_server
from tests.support.waiting import until


@unittest.skipIf(SSHD is None, "no SSH server is installed")
class SshTests(LinkCase):
    """A key that is kept sealed, and the server's own key."""

    def setUp(self) -> None:
        super().setUp()
        context = ssh_server()
        self.server: SshServer = context.__enter__()
        self.addCleanup(context.__exit__, None, None, None)

    def test_sent_and_fetched(self) -> None:
        self.shelf.make_git_link(
            "office", self.server.address(self.bare), key=self.server.key, known_hosts=self.server.known_hosts
        )
        self.assertEqual(self.shelf.test_git_link("office").would_send, 1)
        self.assertEqual(self.send()["state"], "in step")
        self.work(self.clone(), {"there.txt": b"1\n"})
        self.fetch()
        self.assertEqual(self.shelf.read("there.txt"), b"1\n")
        (link,) = self.shelf.git_links()
        self.assertTrue(link.has_key)
        self.assertNotIn("PRIVATE", str(self.shelf.git_links()))

    def test_an_environment_lives_there_too(self) -> None:
        self.shelf.make_tag("one")
        home = Terminal(self, self.service)
        home.set("EVERYSHELF_SHELF", self.shelf.key)
        (home.home / "key").write_text(self.server.key)
        (home.home / "hosts").write_text(self.server.known_hosts)
        address = f"{self.server.address(self.bare)}#live"
        made = ["env", "make", "there", "--git", address, "--key-file", "key"]
        home.run(*made, "--known-hosts", "hosts")
        self.shelf.wait(self.shelf.promote("one", "there"))
        self.assertEqual(set(GitServer.files(self.bare, "live")), {"data/fares.csv", "apps/board.json"})
        self.assertNotIn("PRIVATE", str(self.shelf.environments()))
        self.shelf.change_environment("there", token=self.server.key)  # without the server's own keys
        with self.assertRaises(ProblemError) as caught:
            self.shelf.rehearse("one", "there")
        self.assertIn("key", str(caught.exception))

    def test_causes(self) -> None:
        wrong = self.server.known_hosts.replace(self.server.known_hosts.split()[-1], self._other_host())
        for code, settings in (
            ("git.signin", {"key": self.server.other_key, "known_hosts": self.server.known_hosts}),
            ("git.host_key", {"key": self.server.key, "known_hosts": ""}),
            ("git.host_key", {"key": self.server.key, "known_hosts": wrong}),
        ):
            with self.subTest(code):
                self.shelf.make_git_link("office", self.server.address(self.bare), **settings)
                with self.assertRaises(ProblemError) as caught:
                    self.shelf.test_git_link("office")
                self.assertEqual(caught.exception.code, code)
                self.shelf.remove_git_link("office")
        settings = {"key": self.server.key, "known_hosts": self.server.known_hosts}
        self.shelf.make_git_link("office", self.server.address(self.home / "nothing.git"), **settings)
        with self.assertRaises(ProblemError) as caught:
            self.shelf.test_git_link("office")
        self.assertEqual(caught.exception.code, "git.missing")
        self.assertEqual(run_git("branch", folder=self.bare).stdout, "")

    def test_servers_that_mean_harm(self) -> None:
        refs = self.home / "refs"
        line = b"1" * 40 + b" refs/heads/again\n"
        refs.write_bytes((b"%04x" % (len(line) + 4) + line) * 20_000)
        for code, command in (
            ("git.size", f"while cat {refs}; do :; done"),  # never ends
            ("git.failed", "echo Welcome"),
            ("git.failed", r"printf '\033[31mred\007' >&2; exit 1"),
        ):
            with self.subTest(command=command), ssh_server(command) as server:
                self.shelf.make_git_link(
                    "office", server.address(self.bare), key=server.key, known_hosts=server.known_hosts
                )
                with self.assertRaises(ProblemError) as caught:
                    self.shelf.test_git_link("office")
                self.assertEqual(caught.exception.code, code, str(caught.exception))
                self.assertTrue(str(caught.exception).isprintable(), repr(str(caught.exception)))
                self.shelf.remove_git_link("office")

    def test_one_that_says_nothing_is_waited_for_until_somebody_cancels(self) -> None:
        said = self.home / "asked"
        with ssh_server(f"touch {said}; sleep 1000") as server:
            self.shelf.make_git_link(
                "office", server.address(self.bare), key=server.key, known_hosts=server.known_hosts
            )
            job = self.shelf.fetch_git_link("office")
            until(said.exists, "the server to be asked")
            self.client.cancel(job.job)
            with self.assertRaises(ProblemError) as caught:
                self.shelf.wait(job)
            self.assertIn("cancelled", str(caught.exception))
        self.assertEqual(self.shelf.branch("main").name, "main")

    def _other_host(self) -> str:
        with ssh_server() as other:
            return other.known_hosts.split()[-1]
