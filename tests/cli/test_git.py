"""The shelf as a Git repository, on the command line."""

from __future__ import annotations

import json
import re

from tests.support.factories import ServiceCase, Terminal
from tests.support.git import run_git


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
