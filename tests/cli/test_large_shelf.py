"""The command line on a shelf of 2,500 artifacts with long names, odd files on the desk, and a second person at work."""

from __future__ import annotations

import os
import random

from everyshelf.client import ChangeRequest
from tests.support.factories import ServiceCase, Terminal, commit_files
from tests.support.laws import in_full

COUNT = 2500


@in_full
class LargeShelfTests(ServiceCase):
    """Nothing here is tidy."""

    def test_thousands_of_artifacts_are_taken_edited_and_committed(self) -> None:
        rng = random.Random(27)
        contents = [self.shelf.upload(b'{"steps": [{"id": "a", "next": "s%d"}]}' % n).id for n in range(60)]
        table = self.shelf.upload(b"id,v\n" + b"".join(b"%d,%d\n" % (n, n * n) for n in range(60_000))).id
        paths = [
            f"bereich {n % 41:02d}/eine recht lange Bezeichnung mit Umlauten äöü, Nummer {n:05d}.json"
            for n in range(COUNT)
        ]
        changes = [ChangeRequest(p, rng.choice(contents)) for p in paths] + [
            ChangeRequest("data/große Tabelle.csv", table)
        ]
        self.shelf.commit("main", None, changes, "Everything")
        terminal = Terminal(self, self.service)
        self.assertEqual(len(terminal.json("take", self.shelf.key, "desk")["written"]), COUNT + 1)
        terminal.folder = terminal.home / "desk"
        self.assertEqual(terminal.json("pending")["counts"]["same"], COUNT + 1)

        for path in paths[::250]:
            terminal.write(path, b'{"steps": [{"id": "a", "next": "elsewhere"}]}')
        (terminal.folder / paths[1]).unlink()
        os.rename(terminal.folder / paths[2], terminal.folder / "bereich 02/anders.json")
        os.symlink("/dev/null", terminal.folder / "a link")
        os.mkfifo(terminal.folder / "a pipe")
        commit_files(self.shelf, {paths[3]: b'{"by": "a second person"}'}, "Meanwhile")

        counts = terminal.json("pending")["counts"]
        self.assertEqual((counts["edited"], counts["gone"] + counts["moved"], counts["blocked"]), (10, 2, 2))
        terminal.run("commit", "--summary", "Behind", code=3)
        terminal.run("commit", "--summary", "Twelve of thousands", "--merge")
        self.assertEqual((terminal.folder / paths[3]).read_bytes(), b'{"by": "a second person"}')
        found = terminal.json("compare", f"commit:{list(self.shelf.commits())[-1].commit}", "main")
        self.assertEqual(sum(found["counts"].values()), 13)
        self.assertEqual(len(terminal.json("browse")), COUNT)
