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
        near = self.browser.driver.find_element("css selector", "section[aria-label='Before and after it']").text
        self.assertIn("First fares", near)
        self.assertIn("Notes", near)
        self.assertEqual(self.browser.axe(), [])
        self.browser.press("Restore this state")
        self.browser.see(
            "main gets all 2 artifacts as they were then, in a new commit. The history keeps the later commit."
        )
        self.browser.type_into("Summary", "As in spring")
        self.browser.press("Restore", within="dialog[open]")
        self.browser.see("“As in spring”")
        self.assertEqual(self.shelf.read("n.txt"), b"one\n")
        self.browser.open(f"{self.service.address}/s/{self.shelf.key}/artifact?path=n.txt&version=2")
        self.browser.press("Restore this version")
        self.browser.press("Restore", within="dialog[open]")
        self.browser.see("back from version:2")
        self.assertEqual(self.shelf.read("n.txt"), b"two\n")
        self.browser.open(f"{self.service.address}/s/{self.shelf.key}")
        self.browser.press("State shown: main ▾")
        self.browser.see("As it was at the end of")
