"""A tag's selection counts wherever the tag names a state."""

from __future__ import annotations

import contextlib
import json
import tempfile
import zipfile
from pathlib import Path

from everyshelf.core.parcel import Parcel
from tests.support.factories import ServiceCase, Terminal


class SelectionTests(ServiceCase):
    def setUp(self) -> None:
        super().setUp()
        files = {f"data/t{n}.csv": b"zone,fare\nZ1,%d\n" % n for n in range(20)}
        rules = b'[kinds]\n"data/*.csv" = "opaque"\n'
        self.put({**files, "flows/board.json": b'{"a": 1}', "shelf.toml": rules}, "First")
        self.chosen = ["data/t1.csv", "data/t2.csv", "flows"]
        self.shelf.make_tag("some", selection=self.chosen)
        self.wanted = ["data/t1.csv", "data/t2.csv", "flows/board.json"]
        self.put(
            {"data/t1.csv": b"zone,fare\nZ1,9\n", "data/t9.csv": b"zone,fare\nZ1,99\n", "data/t2.csv": None}, "Second"
        )

    def test_listed_packed_and_downloaded_is_what_it_selects(self) -> None:
        self.assertEqual([one.path for one in self.shelf.artifacts("tag:some")], self.wanted)
        self.assertEqual([one.path for one in self.shelf.artifacts("tag:some", words="t")][:1], self.wanted[:1])
        with tempfile.TemporaryDirectory() as folder:
            packed = Path(folder, "p.zip")
            self.shelf.pack("tag:some", packed, only=[], dependencies=False)
            with contextlib.closing(Parcel(packed)) as parcel:
                self.assertEqual(sorted(parcel.digests), self.wanted)
            self.shelf.download_zip(packed, "tag:some")
            with zipfile.ZipFile(packed) as zipped:
                self.assertEqual(sorted(zipped.namelist()), self.wanted)
        self.assertEqual(len(list(self.shelf.artifacts(f"commit:{self.shelf.tag('some').commit}"))), 22)

    def test_compared_is_what_was_selected_on_both_sides(self) -> None:
        found = self.shelf.compare("tag:some", "main")
        self.assertEqual(
            [(a.path, a.state) for a in found.artifacts], [("data/t1.csv", "edited"), ("data/t2.csv", "gone")]
        )
        self.assertEqual(len(self.shelf.compare("main", "tag:some").artifacts), 2)
        self.shelf.make_tag("all")
        self.assertEqual(len(self.shelf.compare("tag:some", "tag:all").artifacts), 2)
        # The rules of the commit hold, though shelf.toml was not selected.
        (changed,) = [a for a in found.artifacts if a.path == "data/t1.csv"]
        self.assertEqual(changed.kind, "opaque")

    def test_in_the_terminal_whole_means_the_commit(self) -> None:
        terminal = Terminal(self, self.service)
        where = "--shelf", self.shelf.key
        self.assertIn("3 artifacts at tag:some", terminal.run("browse", "--at", "tag:some", *where).stdout)
        self.assertIn("22 artifacts", terminal.run("browse", "--at", "tag:some", "--whole", *where).stdout)
        self.assertEqual(
            json.loads(terminal.run("parcel", "pack", "tag:some", "--json", *where).stdout)["artifacts"], 3
        )
        whole = terminal.run("parcel", "pack", "tag:some", "--whole", "--output", "w.zip", "--json", *where).stdout
        self.assertEqual(json.loads(whole)["artifacts"], 22)
        self.assertEqual(len(terminal.json("compare", "tag:some", "main", *where)["artifacts"]), 2)
        self.assertEqual(len(terminal.json("compare", "tag:some", "main", "--whole", *where)["artifacts"]), 3)
        terminal.run("take", self.shelf.key, "desk")
        terminal.folder = terminal.folder / "desk"
        found = terminal.json("compare", "tag:some", "desk")
        self.assertEqual(sorted(a["path"] for a in found["artifacts"]), ["data/t1.csv", "data/t2.csv"])


if __name__ == "__main__":
    import unittest

    unittest.main()
