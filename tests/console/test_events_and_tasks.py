"""The pages of webhooks and tasks."""

from __future__ import annotations

from selenium.webdriver.common.by import By

from tests.console.test_together import TwoBrowsersCase
from tests.support.receiver import receiver


class WebhookPageTests(TwoBrowsersCase):
    """Who hears of what, and what arrived."""

    def test_made_tried_and_sent_again(self) -> None:
        with receiver() as program:
            self.browser.open(f"{self.service.address}/s/{self.shelf.key}/log")
            self.browser.press("Webhooks")
            self.browser.see("No program hears of what happens here yet.")
            self.browser.press("Make a webhook")
            self.browser.field("Name").send_keys("builds")
            self.browser.field("Address").send_keys(program.address)
            self.browser.click("//label[normalize-space()='commits']//input", By.XPATH)
            self.assertEqual(self.browser.axe(), [])
            self.browser.press("Make it and try it")
            self.browser.see("A test event arrived: answered 202.")
            self.assertGreater(len(self.browser.field("The secret").get_attribute("value") or ""), 40)
            self.browser.press("Done")
            self.browser.see("1 program hears of what happens here: everything arrived.")
            self.put({"fares.csv": b"zone,fare\nZ1,4\n"}, "Fares of the spring")
            self.browser.see("Fares of the spring")
            heard = self.browser.wait_for(
                lambda: [one.event for one in program.heard if "commit.made" in one.event["type"]]
            )
            event = heard[0]["id"]  # the page tells of it as soon as it is on its way
            self.browser.press(f"Send again {event}")
            self.browser.press(f"Show {event}")
            self.browser.see('"specversion": "1.0"')
            program.status = 500
            self.browser.press("Test builds")
            self.browser.see("The test event did not arrive: it answered 500.")
            self.browser.see("not everything reached builds")
            program.status = 202
            self.browser.press("Change builds")
            changed = self.browser.find("[role=dialog]")
            changed.find_element("xpath", ".//label[normalize-space()='tags']//input").click()
            self.assertEqual(self.browser.axe(), [])
            self.browser.press("Change it and try it")
            self.browser.see("A test event arrived: answered 202.")
            self.browser.press("Done")
            self.assertEqual(self.shelf.webhook("builds").about, ["commit", "tag"])
            self.assertEqual(self.browser.axe(), [])


class TaskPageTests(TwoBrowsersCase):
    """From the id in a summary to what runs."""

    def test_found_and_followed(self) -> None:
        self.put({"fares.csv": b"zone,fare\nZ1,4\n"}, "SK-12: first fares")
        self.put({"fares.csv": b"zone,fare\nZ1,5\n"}, "SK-12: dearer")
        self.shelf.make_tag("one")
        self.shelf.make_environment("test")
        self.shelf.make_environment("production")
        self.shelf.wait(self.shelf.promote("one", "test"))
        self.browser.open(f"{self.service.address}/s/{self.shelf.key}/tasks")
        self.browser.see("No commit names a task.")
        self.browser.press("How tasks are found")
        self.browser.field("What an id looks like (a regular expression)").send_keys("SK-[0-9]+")
        self.browser.press("Find tasks")
        self.browser.see("Commits are for 1 task.")
        self.assertEqual(self.browser.axe(), [])
        self.browser.press("SK-12")
        self.browser.see("SK-12: 2 commits changed 1 artifact; all of it is in test.")
        places = [place.text for place in self.browser.driver.find_elements("css selector", ".reached li")]
        self.assertEqual(
            [" ".join(text.split("\n")[0].split()) for text in places], ["main all", "test all", "production none"]
        )
        self.browser.see("1 cell in fare")
        self.assertEqual(self.browser.axe(), [])
