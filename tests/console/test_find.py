"""The find page: the field, the filters, the places, and the way to them."""

from __future__ import annotations

import json

from selenium.webdriver.common.keys import Keys

from tests.console.test_together import TwoBrowsersCase


class FindPageTests(TwoBrowsersCase):
    """One shelf with a word nothing else has."""

    def places(self) -> list[str]:
        found = self.browser.driver.find_elements("css selector", "section[aria-label=Places] .place")
        return [" ".join(row.text.split()) for row in found]

    def test_found_by_keyboard_narrowed_and_opened(self) -> None:
        steps = [{"id": "load", "command": "wait for lowtide9"}, {"id": "join", "command": "x", "after": ["load"]}]
        tree = json.dumps({"pipeline": "nightly", "steps": steps}).encode()
        self.put({"p.json": tree, "notes.txt": b"dry\nthe lowtide9 of Brae\n"}, "Low tide")
        self.browser.open(f"{self.service.address}/s/{self.shelf.key}")
        self.browser.see("Find on this shelf")
        self.browser.find("body").send_keys("/")
        self.browser.see("Type a word; an exact phrase goes in quotes.")
        self.browser.field("Words to find").send_keys("LOWTIDE9\n")
        self.browser.see("2 artifacts on 1 shelf.")
        self.browser.wait_for(lambda: len(self.places()) == 2)
        self.assertIn("line 2 the lowtide9 of Brae", self.places())
        self.assertIn("step load command: wait for lowtide9", self.places())
        marks = self.browser.driver.find_elements("css selector", ".place mark")
        self.assertEqual({mark.text for mark in marks}, {"lowtide9"})
        self.assertEqual(self.browser.axe(), [])
        self.browser.field("pipeline 1").click()
        self.browser.see("1 artifact on 1 shelf.")
        self.assertIn("kind=pipeline", self.browser.driver.current_url)
        self.browser.driver.back()
        self.browser.see("2 artifacts on 1 shelf.")
        field = self.browser.field("Words to find")
        for _ in range(4):
            field.send_keys(Keys.ARROW_DOWN)
        self.browser.see("Set by")
        self.browser.press("Origins")
        self.browser.see("Who set it:")
