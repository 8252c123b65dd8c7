"""What others did since one looked, in two browsers."""

from __future__ import annotations

from tests.console.test_together import TwoBrowsersCase


class NewsTests(TwoBrowsersCase):
    """What others did, marked where it is followed; seen once that is said."""

    def test_news_of_what_is_followed(self) -> None:
        self.put({"a.csv": b"id\n1\n", "b.csv": b"id\n1\n"}, "First")
        self.other.open(f"{self.service.address}/s/{self.shelf.key}/artifact?path=a.csv")
        self.other.press("Follow a.csv")
        self.other.see("You follow a.csv")
        self.other.open(f"{self.service.address}/s/{self.shelf.key}/news")
        self.other.see("committed First on main")
        self.other.press("Mark all as seen")
        self.other.see("Nothing new since you looked")
        self.put({"b.csv": b"id\n2\n"}, "Not this one")
        self.put({"a.csv": b"id\n2\n"}, "This one")
        self.other.see("committed This one on main")  # comes by itself
        self.other.see("committed Not this one")
        self.other.press("Only what I follow")
        self.other.wait_for(lambda: "Not this one" not in self.other.text())
        self.assertEqual(self.other.axe(), [])
        self.other.press("Mark all as seen")
        self.other.see("Nothing new since you looked")
        self.other.press("Undo", within=".done")
        self.other.see("committed This one on main")
        self.other.press("Follow no longer a.csv")
        self.other.see("Nothing new about what you follow.")
