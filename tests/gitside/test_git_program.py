"""The ``git`` program is ended with all that it started: for its time, its output, its files, or whoever waits for it."""

from __future__ import annotations

import os
import tempfile
import unittest
from collections import namedtuple
from pathlib import Path
from unittest import mock

from everyshelf.core.errors import OutOfReachError, StorageError
from everyshelf.gitside import remote
from everyshelf.gitside.causes import Access
from everyshelf.gitside.program import ChildLimits, GitError, run_git
from everyshelf.gitside.repository import Repository
from tests.support.evil_git import EvilGit
from tests.support.waiting import until

_Usage = namedtuple("_Usage", "free")


class GitProgramTests(unittest.TestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name) / "here.git"
        run_git(None, "init", "-q", "--bare", str(self.folder))
        self.server = EvilGit()
        self.addCleanup(self.server.close)

    def helpers(self) -> list[str]:
        """Programs that talk to the server."""
        found = []
        for process in Path("/proc").glob("[0-9]*/cmdline"):
            try:
                words = process.read_bytes().decode("utf-8", "replace")
            except OSError:
                continue
            if self.server.host in words and process.parent.name != str(os.getpid()):
                found.append(words)
        return found

    def all_ended(self) -> None:
        until(lambda: not self.helpers(), "what talks to the server to end")

    def ended(self, code: str, **options: object) -> str:
        with self.assertRaises(GitError) as caught:
            run_git(self.folder, "ls-remote", self.server.address, **options)  # type: ignore[arg-type]
        self.assertEqual(caught.exception.code, code)
        self.all_ended()
        return str(caught.exception)

    def test_a_server_that_says_nothing(self) -> None:
        self.server.silent = "refs"
        self.ended("git.slow", seconds=1)

    def test_a_server_that_falls_silent_or_only_shows_signs_of_life(self) -> None:
        self.server.silent = "refs"
        self.assertIn("hardly anything happened", self.ended("git.slow", quiet_seconds=1))
        self.server.silent, self.server.pause = "", 0.1
        self.server.refs = [b"refs/heads/b%d" % n for n in range(1000)]
        self.assertIn("hardly anything happened", self.ended("git.slow", quiet_seconds=1))

    def test_one_that_is_busy_is_not_silent(self) -> None:
        self.server.endless = "pack"
        fetch = ("fetch", "-q", self.server.address, "refs/heads/main:refs/heads/main")
        with self.assertRaises(GitError) as caught:
            run_git(self.folder, *fetch, quiet_seconds=2, limits=ChildLimits(file_bytes=400_000_000))
        self.assertNotEqual(caught.exception.code, "git.slow")

    def test_the_address_that_was_looked_up_is_called_and_no_other(self) -> None:
        port = self.server.host.partition(":")[2]
        pinned = Access(f"http://ferries.invalid:{port}/ferries.git", resolved=f"ferries.invalid:{port}:127.0.0.1")
        self.assertIn("refs/heads/main", remote.remote_of(Repository(self.folder), pinned).refs())
        # The server listens at the address that the name has now, and not at the one that was looked up and allowed.
        moved = Access(f"http://localhost:{port}/ferries.git", resolved=f"localhost:{port}:127.0.0.2")
        with self.assertRaises(OutOfReachError) as caught:
            remote.remote_of(Repository(self.folder), moved).refs()
        self.assertEqual(caught.exception.code, "git.connection")

    def test_more_output_than_is_wanted(self) -> None:
        self.server.refs = [b"refs/heads/b%d" % n for n in range(1000)]
        self.ended("git.size", most_bytes=1000)

    def test_whoever_waits_may_end_it(self) -> None:
        self.server.silent = "refs"

        def tick() -> None:
            raise KeyboardInterrupt

        with self.assertRaises(KeyboardInterrupt):
            run_git(self.folder, "ls-remote", self.server.address, tick=tick)
        self.all_ended()

    def test_input_and_both_outputs_may_be_large(self) -> None:
        blobs = [run_git(self.folder, "hash-object", "-w", "--stdin", given=b"%d" % n).strip() for n in range(3)]
        asked = b"".join(blob + b"\n" for blob in blobs) * 20_000
        out = run_git(self.folder, "cat-file", "--batch-check", given=asked)
        self.assertEqual(len(out.splitlines()), 60_000)

    def test_a_pack_without_end_stops_before_the_disk_is_full(self) -> None:
        self.server.endless = "pack"
        there = remote.remote_of(Repository(self.folder), Access(self.server.address))
        room = _Usage(remote._ROOM_LEFT + 3_000_000)
        with (
            mock.patch.object(remote.shutil, "disk_usage", return_value=room),
            self.assertRaises(StorageError) as caught,
        ):
            there.fetch({"refs/heads/main": "refs/heads/main"})
        self.assertEqual(caught.exception.code, "git.disk")
        held = sum(file.stat().st_size for file in self.folder.rglob("*") if file.is_file())
        self.assertLess(held, 10_000_000)


if __name__ == "__main__":
    unittest.main()
