"""The page of one commit: what it changed, where it is, and its state restored."""

from __future__ import annotations

from tests.console.test_together import TwoBrowsersCase


class CommitPageTests(TwoBrowsersCase):
    """A shelf with three commits and a tag."""

    def test_looked_at_gone_on_and_restored(self) -> None:
        self.put({"f.csv": b"zone,fare\nZ1,4\nZ2,5\n", "n.txt": b"one\n"}, "First fares")
        self.put({"f.csv": b"zone,fare\nZ1,4\nZ2,7\n"}, "SK-4: dearer")
        self.shelf.make_tag("spring-1")
        self.put({"n.txt": b"two\n"}, "Notes")
        self.browser.open(f"{self.service.address}/s/{self.shelf.key}/history")
        self.browser.see("SK-4: dearer")
        dearer = next(one for one in self.shelf.commits("main") if one.summary.startswith("SK-4"))
        self.browser.press(dearer.commit[:8])
        self.browser.see("“SK-4: dearer”")
        self.browser.see("1 cell in fare")
        self.browser.see("tag:spring-1")
        near = self.browser.find("section[aria-label='Before and after it']").text
        self.assertIn("First fares", near)
        self.assertIn("Notes", near)
        self.assertEqual(self.browser.axe(), [])
        self.browser.press("Restore this state")
        self.browser.see(
            "main gets all 2 artifacts as they were then, in a new commit. The history keeps the later commit."
        )
        self.browser.type_into("Summary", "As in spring")
        self.browser.press("Restore", within="[role=dialog]")
        self.browser.see("“As in spring”")
        self.assertEqual(self.shelf.read("n.txt"), b"one\n")
        self.browser.open(f"{self.service.address}/s/{self.shelf.key}/artifact?path=n.txt&version=2")
        self.browser.press("Restore this version")
        self.browser.press("Restore", within="[role=dialog]")
        self.browser.see("back from version:2")
        self.assertEqual(self.shelf.read("n.txt"), b"two\n")
        self.browser.open(f"{self.service.address}/s/{self.shelf.key}")
        self.browser.press("State shown: main ▾")
        self.browser.see("As it was at the end of")

    def test_one_commit_undone(self) -> None:
        self.put({"f.csv": b"zone,fare\nZ1,4\nZ2,5\n", "n.txt": b"one\n"}, "First fares")
        wrong = self.put({"f.csv": b"zone,fare\nZ1,4\nZ2,7\n", "n.txt": b"two\n"}, "Dearer").commit
        self.put({"f.csv": b"zone,fare\nZ1,3\nZ2,7\n"}, "Cheaper")
        self.browser.open(f"{self.service.address}/s/{self.shelf.key}/commit/{wrong}")
        self.browser.see("1 artifact goes back to what it was before it. 1 artifact changed since keeps that")
        self.browser.press("Undo this commit")
        self.browser.press("Undo", within="[role=dialog]")
        self.browser.see("“Undo “Dearer””")
        self.assertEqual(self.shelf.read("f.csv"), b"zone,fare\nZ1,3\nZ2,5\n")
        self.browser.open(f"{self.service.address}/s/{self.shelf.key}/commit/{wrong}")
        self.browser.see("Nothing of it is left on main.")
        self.browser.see("Undone by")
        again = self.put({"n.txt": b"three\n"}, "Three").commit
        self.put({"n.txt": b"four\n"}, "Four")
        self.browser.open(f"{self.service.address}/s/{self.shelf.key}/commit/{again}")
        self.browser.see("1 part changed again since is yours to settle")
        self.browser.press("Undo this commit")
        self.browser.press("Begin, and settle", within="[role=dialog]")
        self.browser.see(f"the state before {again[:8]}")

    def test_one_version(self) -> None:
        self.put({"f.csv": b"zone,fare\nZ1,4\nZ2,5\n"}, "First fares")
        self.put({"f.csv": b"zone,fare\nZ1,4\nZ2,7\n"}, "Dearer")
        self.shelf.make_tag("spring-1")
        self.put({"f.csv": b"zone,fare\nZ1,3\nZ2,7\n"}, "Cheaper")
        self.browser.open(f"{self.service.address}/s/{self.shelf.key}/artifact?path=f.csv&view=history")
        self.browser.see("Cheaper")
        self.browser.press("2", within="section[aria-label=History]")
        self.browser.see("f.csv, version 2 of 3: “Dearer”")
        self.browser.see("Against version 1, which it was made of.")
        self.browser.see("1 cell in fare")
        self.browser.see("tag:spring-1")
        self.assertEqual(self.browser.axe(), [])
        self.browser.press("v3", within="section[aria-label='Before and after it']")
        self.browser.see("version 3 of 3: “Cheaper”")
