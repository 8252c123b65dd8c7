"""Uses on the artifact page: who is hit, level by level, in the drawing and in the table."""

from __future__ import annotations

from urllib.parse import urlencode

from selenium.webdriver.common.keys import Keys

from everyshelf.client import ChangeRequest, CommitMessage
from tests.console.test_together import TwoBrowsersCase
from tests.support.used import FILES


class UsesPageTests(TwoBrowsersCase):
    def setUp(self) -> None:
        super().setUp()
        changes = [ChangeRequest(path, self.shelf.upload(data).id) for path, data in FILES.items()]
        self.shelf.commit("main", self.shelf.branch("main").head, changes, "All that uses each other")

    def page(self, path: str, **more: str) -> None:
        query = urlencode({"path": path, "view": "uses", **more})
        self.browser.open(f"{self.service.address}/s/{self.shelf.key}/artifact?{query}")

    def boxes(self) -> list[str]:
        found = self.browser.driver.find_elements("css selector", "button.usebox")
        return [box.get_attribute("data-box") or "" for box in found]

    def rows(self) -> list[str]:
        found = self.browser.driver.find_elements("css selector", "section[aria-label='Uses as a table'] tbody tr")
        return [" ".join(row.text.split()) for row in found]

    def test_a_column_its_users_and_theirs(self) -> None:
        self.page("data/tides.csv")
        self.browser.see("Removing data/tides.csv breaks 7 of")
        self.browser.field("If this goes").send_keys("tide_window")
        self.browser.see("Removing column tide_window of data/tides.csv breaks 7 of 11 users.")
        self.assertIn("scripts/check.py", self.boxes())
        self.assertIn("1 pipelines/nightly.json tide_window breaks exact", self.rows())
        self.assertIn("2 data/training.csv made by train.py alters guess", self.rows())
        self.assertEqual(self.browser.axe(), [])
        self.browser.press("1")
        self.browser.see("There are further levels")
        self.browser.wait_for(lambda: "scripts/check.py" not in self.boxes())
        self.browser.press("Show all")
        self.browser.wait_for(lambda: "scripts/check.py" in self.boxes())
        self.browser.field("guesses").click()
        self.browser.wait_for(
            lambda: "scripts/check.py" not in self.boxes() and "pipelines/nightly.json" in self.boxes()
        )

    def test_keys_lead_through_the_levels_and_to_the_place(self) -> None:
        self.page("data/tides.csv", part="tide_window")
        self.browser.see("breaks 7 of 11 users")
        first = self.browser.find("button.usebox")
        first.send_keys(Keys.ARROW_RIGHT)
        pressed = lambda: self.browser.find("button.usebox[aria-pressed=true]")  # noqa: E731
        self.browser.wait_for(pressed)
        pressed().send_keys(Keys.ARROW_DOWN)
        self.browser.wait_for(lambda: pressed().get_attribute("data-box") == self.boxes()[1])
        pressed().send_keys(Keys.ARROW_RIGHT)
        level = lambda: "level 2" in (pressed().get_attribute("textContent") or "")  # noqa: E731
        self.browser.wait_for(level)
        self.browser.wait_for(lambda: self.browser.driver.switch_to.active_element == pressed())
        path = pressed().get_attribute("data-box") or ""
        pressed().send_keys(Keys.ENTER)
        self.browser.see(path)
        self.browser.wait_for(lambda: "view=outline" in self.browser.driver.current_url)

    def test_what_it_uses_and_what_is_missing(self) -> None:
        self.page("models/forecast.pkl", side="of")
        self.browser.see("forecast.pkl uses 3 artifacts, 1 of them itself.")
        self.assertIn("1 scripts/train.py makes forecast.pkl guess", self.rows())
        self.page("data/berths.csv")
        self.browser.see("Nothing that could be read uses data/berths.csv.")
        self.browser.open(
            f"{self.service.address}/s/{self.shelf.key}/artifact?path=pipelines/nightly.json&view=outline"
        )
        self.browser.see("References")
        self.browser.press("All uses")
        self.browser.see("Removing pipelines/nightly.json breaks 1 of 1 user.")

    def test_what_it_was_made_from(self) -> None:
        change = ChangeRequest("data/training.csv", self.shelf.upload(b"window,late\n2,True\n").id)
        labels = {"made-from": "data/tides.csv, scripts/train.py", "made-with": "python scripts/train.py"}
        self.shelf.commit("main", self.shelf.branch("main").head, [change], CommitMessage("Trained", labels=labels))
        self.page("data/training.csv", side="made")
        self.browser.see("data/training.csv v2 was made by commit")
        self.browser.see("It can be made again: command, code and 2 inputs are all on this shelf.")
        drawn = [box.text for box in self.browser.driver.find_elements("css selector", "a.usebox b")]
        self.assertEqual(drawn[:3], ["tides.csv v1", "train.py v1", "training.csv v2"])
        self.assertTrue(any(text.startswith("commit ") for text in drawn))
        self.assertEqual(self.browser.axe(), [])
        self.browser.press("Used by")
        self.browser.see("Removing data/training.csv breaks 2 of")
        self.page("data/berths.csv", side="made")
        self.browser.see("No run, build or copy that made data/berths.csv v1 is recorded")
