"""The shelf as a Git repository, on the command line."""

from __future__ import annotations

import json
import re
import tempfile
from pathlib import Path

from tests.support.factories import ServiceCase, Terminal
from tests.support.git import run_git
from tests.support.waiting import until


class ShelfShowTests(ServiceCase):
    """``shelf show``."""

    def test_the_address_it_shows_can_be_cloned(self) -> None:
        self.put({"fares.csv": b"zone,fare\nZ1,4\n"}, "First")
        terminal = Terminal(self, self.service)
        shown = terminal.run("shelf", "show", "--shelf", self.shelf.key).stdout
        self.assertRegex(
            shown, rf"\({self.shelf.key}\).*\n  1 commit, 1 branch, 0 tags, 0 environments. Your role: owner."
        )
        self.assertRegex(shown, r"not yet +First")
        address = re.search(r"git clone (\S+)", shown)
        assert address is not None
        made = json.loads(terminal.run("token", "make", "git", "--json").stdout)
        signed = address[1].replace("owner@", f"owner:{made['value']}@")
        run_git("clone", "-q", signed, "clone", folder=terminal.home)
        self.assertEqual((terminal.home / "clone/fares.csv").read_bytes(), b"zone,fare\nZ1,4\n")
        found = json.loads(terminal.run("shelf", "show", "--shelf", self.shelf.key, "--json").stdout)
        git = run_git("rev-parse", "HEAD", folder=terminal.home / "clone").stdout.strip()
        self.assertEqual(([c["git"] for c in found["commits"]], found["git"]), ([git], address[1]))


class GitLinkTests(ServiceCase):
    """``git-link``."""

    def setUp(self) -> None:
        super().setUp()
        self.put({"fares.csv": b"zone,fare\nZ1,4\n"}, "First")
        self.terminal = Terminal(self, self.service)
        self.terminal.set("EVERYSHELF_SHELF", self.shelf.key)
        self.bare = Path(tempfile.mkdtemp(prefix="cli-", dir=self.service.repositories))
        run_git("init", "-q", "--bare", "-b", "main", str(self.bare), folder=self.bare)

    def link(self, *arguments: str, code: int = 0) -> str:
        done = self.terminal.run("git-link", *arguments, code=code)
        return done.stdout + done.stderr

    def test_what_was_not_sent_is_no_success(self) -> None:
        self.link("make", "office", str(self.bare), "--way", "send")
        self.link("send", "office")
        clone = self.terminal.home / "clone"
        run_git("clone", "-q", str(self.bare), "clone", folder=self.terminal.home)
        (clone / "there.txt").write_text("1\n")
        run_git("add", "-A", folder=clone)
        run_git("commit", "-q", "-m", "There", folder=clone)
        run_git("push", "-q", folder=clone)
        self.put({"here.txt": b"1\n"}, "Here")
        self.assertIn("both sides have commits", self.link("send", "office", code=1))

    def test_from_making_one_to_settling(self) -> None:
        self.assertIn("0 Git links.\nThis shelf is a repository, too: git clone http", self.link("list"))
        made = self.link("make", "office", str(self.bare))
        self.assertIn("Made the link office", made)
        self.assertIn(
            "It has 0 branches and 0 tags.\n  The link would send 1 commit.\nNext: everyshelf git-link send office",
            made,
        )
        self.assertRegex(self.link("send", "office"), r"office: in step since today .*\n  in step +main")
        home = self.terminal.home
        run_git("clone", "-q", str(self.bare), "clone", folder=home)
        (home / "clone/fares.csv").write_bytes(b"zone,fare\nZ1,5\n")
        run_git("commit", "-q", "-a", "-m", "In Git", folder=home / "clone")
        run_git("push", "-q", folder=home / "clone")
        self.assertIn("The link would fetch 1 commit.", self.link("test", "office"))
        self.put({"fares.csv": b"zone,fare\nZ1,6\n"}, "Here")
        fetched = self.link("fetch", "office", code=3)
        self.assertRegex(fetched, r"diverged +main +1 conflict to settle")
        merge = re.search(r"Next: everyshelf settle --merge (\w+)", fetched)
        assert merge is not None
        self.terminal.run("settle", "--merge", merge[1], "--take", "target", "--shelf", self.shelf.key)
        self.terminal.run("settle", "--merge", merge[1], "--finish", "--shelf", self.shelf.key)
        self.assertIn("in step", self.link("send", "office"))
        shown = self.link("show", "office")
        self.assertRegex(shown, r"sent +\w{8}  \w{8} +Merge main of office")
        self.assertRegex(shown, r"fetched +\w{8}  \w{8} +In Git")
        found = json.loads(self.link("list", "--json"))
        self.assertEqual([(link["name"], link["state"]) for link in found], [("office", "in step")])

    def test_changed_followed_and_removed(self) -> None:
        self.link("make", "office", str(self.bare), "--way", "send", "--branch", "main=live", "--no-tags")
        changed = json.loads(self.link("change", "office", "--way", "both", "--every", "30", "--json"))
        self.assertEqual((changed["way"], changed["joins"], changed["every_seconds"]), ("both", [["main", "live"]], 30))
        self.assertIn("follows: after each commit here, and every 30 seconds", self.link("follow", "office"))
        until(lambda: run_git("branch", folder=self.bare).stdout.split() == ["live"], "it did not follow")
        self.assertIn("follows no longer", self.link("follow", "office", "--stop"))
        self.assertIn("Nothing changed on either side", self.link("remove", "office"))
        self.assertIn("has no Git link 'office'", self.link("show", "office", code=1))
        self.assertEqual(run_git("branch", folder=self.bare).stdout.split(), ["live"])

    def test_large_content_is_a_note_in_git_and_comes_back(self) -> None:
        data = bytes(range(256)) * 44_000
        self.put({"big.bin": data, "small.txt": b"small\n"}, "Large")
        home = self.terminal.home
        signed = self.service.address.replace("//", f"//owner:{self.service.token()}@")
        run_git("clone", "-q", f"{signed}/git/{self.shelf.key}.git", "clone", folder=home)
        note = (home / "clone/big.bin").read_text()
        self.assertRegex(
            note, r"\A# Every Shelf content note: the 11,264,000 bytes of this file are on the shelf\. Get them: every"
        )
        self.assertIn('size = 11264000\nkind = "opaque"\n', note)
        run_git("mv", "big.bin", "moved.bin", folder=home / "clone")
        run_git("commit", "-q", "-m", "Moved", folder=home / "clone")
        run_git("push", "-q", folder=home / "clone")
        row = next(row for row in self.shelf.artifacts() if row.path == "moved.bin")
        self.assertEqual((row.size, row.version), (len(data), 2))
        said = self.terminal.run("git-link", "fill", "clone").stdout
        self.assertIn("Filled 1 content note.\n  moved.bin, 11", said)
        self.assertEqual((home / "clone/moved.bin").read_bytes(), data)

    def test_one_that_cannot_be_reached_is_not_kept(self) -> None:
        said = self.link("make", "office", str(self.bare.parent / "nothing.git"), code=1)
        self.assertIn("is not a repository, or not one that this user may see", said)
        self.assertIn("a repository without commits is fine", said)
        self.assertIn("0 Git links", self.link("list"))
