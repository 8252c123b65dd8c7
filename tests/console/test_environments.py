"""From a rehearsal that is held to a draft with what was changed in the environment, in two browsers."""

from __future__ import annotations

import sqlite3
from contextlib import closing

from selenium.webdriver.common.by import By
from selenium.webdriver.support.select import Select

from tests.console.test_together import TwoBrowsersCase
from tests.support.standin import TOKEN, shared_standin

RULES = b'[bindings]\nHARBOUR_ROLE = {in = "settings/*"}\nFEED_TOKEN = {in = "settings/*", secret = true}\n'
FEEDS = b'{"ask": "${HARBOUR_ROLE}", "token": "${FEED_TOKEN}", "late": 20}\n'


class EnvironmentsTests(TwoBrowsersCase):
    """A platform behind gates."""

    def setUp(self) -> None:
        super().setUp()
        self.space = shared_standin().space()
        self.put({"shelf.toml": RULES, "settings/feeds.json": FEEDS})
        self.shelf.make_tag("one")

    def test_held_satisfied_put_in_place_and_brought_back(self) -> None:
        see, press, type_into = self.browser.see, self.browser.press, self.browser.type_into
        self.page("/environments")
        press("Make an environment")
        type_into("Name", "harbour")
        Select(self.browser.field("Destination")).select_by_visible_text("a platform")
        type_into("Address of the space", self.space.address)
        type_into("Token there (kept encrypted)", TOKEN)
        press("Make the environment", "[role=dialog] form")
        see("nothing yet")
        press("Settings")
        type_into("Approvals needed from people other than the author", "1")
        press("Save settings")
        see("1 review of others")

        press("Rehearse tag:one")
        see("1 gate not met, 2 bindings without a value")
        press("Set the value")
        for name, value in (("HARBOUR_ROLE", "harbour master"), ("FEED_TOKEN", "a-secret-4711")):
            type_into(f"New value of {name}", value)
            press("Set", f"tr:has([aria-label='New value of {name}'])")
            self.browser.wait_for(lambda n=name: {b.name: b.set for b in self.shelf.bindings("harbour")}[n])
        see("All 2 have a value")
        see("secret, kept encrypted")
        self.assertEqual(self.browser.axe(), [])

        self.other.open(f"{self.service.address}/s/{self.shelf.key}/environments?env=harbour&tag=one")
        self.other.press("Rehearse")
        self.other.see("keeper must agree")
        self.other.press("I agree")
        self.other.see("reviews, 1 of 1, met")
        self.other.press("Promote into harbour")
        self.other.see("Deployment 1 is done")
        placed = b'{"ask": "harbour master", "token": "a-secret-4711", "late": 20}\n'
        self.assertEqual(self.space.objects(), {"settings/feeds.json": placed, "shelf.toml": RULES})

        self.space.write("settings/feeds.json", placed.replace(b"20", b"45"), "connection")
        self.page("/environments?env=harbour&panel=drift")
        see("1 artifact changed in harbour")
        see("purser")
        press("Capture 1 in my draft")
        see("in your draft, changed")
        self.assertEqual(self.browser.axe(), [])
        self.assertEqual(self.shelf.read("settings/feeds.json", "draft:main"), FEEDS.replace(b"20", b"45"))
        self.assertNotIn("a-secret-4711", self.browser.driver.page_source)

    def test_forcing_takes_a_reason(self) -> None:
        self.shelf.make_environment("harbour", gates={"checks": ["smoke"]})
        for name, value in (("HARBOUR_ROLE", "x"), ("FEED_TOKEN", "y")):
            self.shelf.bind("harbour", name, value)
        self.page("/environments?env=harbour&tag=one")
        self.browser.press("Rehearse")
        self.browser.see("check smoke, not met")
        self.assertFalse(self.browser.button("Not ready to promote").is_enabled())
        self.browser.field("Force the gate, with the reason above (owners)").click()
        self.assertFalse(self.browser.button("Not ready to promote").is_enabled())
        self.browser.type_into("Reason", "The boat leaves at nine")
        self.browser.press("Promote into harbour")
        self.browser.see("Deployment 1 is done")
        made = self.shelf.deployments("harbour")[0]
        self.assertEqual(([g["gate"] for g in made.forced], made.reason), (["check smoke"], "The boat leaves at nine"))

    def test_of_many_artifacts_those_in_sight_are_drawn(self) -> None:
        self.put({"shelf.toml": b"", **{f"many/sailing-{n:03}.txt": b"at %d\n" % n for n in range(300)}})
        self.shelf.make_tag("many")
        self.shelf.make_environment("harbour")
        self.page("/environments?env=harbour&tag=many")
        self.browser.press("Rehearse")
        self.browser.see("tag:many would add 302")
        self.browser.see("sailing-000.txt")
        frame = "[aria-label='What would change']"
        self.assertLess(len(self.browser.driver.find_elements(By.CSS_SELECTOR, f"{frame} tbody tr")), 80)
        self.assertNotIn("sailing 299", self.browser.text())
        self.browser.driver.execute_script(f'document.querySelector("{frame}").scrollTop = 1e6')
        self.browser.see("sailing-299.txt")
        self.assertEqual(self.browser.axe(), [])

    def test_a_folder_is_chosen_and_one_going_back_asks_why(self) -> None:
        see, press = self.browser.see, self.browser.press
        self.page("/environments")
        press("Make an environment")
        self.browser.type_into("Name", "pier")
        self.browser.field("Folder").click()
        see("made with it")
        option = self.browser.find(".suggested .mono")
        self.assertTrue(option.text.endswith(f"/{self.shelf.key}/pier"))
        self.assertEqual(self.browser.axe(), [])
        option.click()
        press("Make the environment", "[role=dialog] form")
        see("nothing yet")
        self.shelf.make_environment("quay", route="other")
        for number, name in enumerate(("HARBOUR_ROLE", "FEED_TOKEN") * 2):
            self.shelf.bind("pier" if number < 2 else "quay", name, "x")
        self.shelf.make_tag("two")
        for tag in ("one", "two"):
            self.shelf.wait(self.shelf.promote(tag, "pier"))
        self.page("/environments?env=quay")
        see("Tag for quay")
        press("Roll back pier")
        see("tag:one there again in place of tag:two")
        press("Roll back now")  # held by the browser: a reason is required
        self.assertEqual(len(self.shelf.deployments("pier")), 2)
        self.browser.find("[role=dialog] input").send_keys("The wrong fares")
        press("Roll back now")
        self.browser.wait_for(
            lambda: "Deployment 3 is done" in self.browser.find("[aria-label='Route main'] .ofstation").text
        )
        self.assertEqual(self.shelf.deployments("pier")[0].reason, "The wrong fares")
        self.assertEqual(
            self.browser.driver.find_elements(By.CSS_SELECTOR, "[aria-label='Route other'] .ofstation"), []
        )
        self.assertEqual(self.browser.axe(), [])

    def test_a_trial_environment_is_made_and_shown(self) -> None:
        self.put({"shelf.toml": b"", "settings/feeds.json": b"{}\n"})
        self.shelf.make_tag("plain")
        self.page("/environments")
        self.browser.press("New trial environment")
        self.browser.type_into("Name", "try-quays")
        self.browser.press("Make it, and put the tag there", "[role=dialog] form")
        self.browser.see("Deployment 1 is done")
        self.browser.see("of tag:plain, ends")
        self.assertEqual(self.shelf.environment("try-quays").trial_of, "plain")

    def test_a_database_is_told_what_is_done_and_what_is_lost(self) -> None:
        see, press, type_into = self.browser.see, self.browser.press, self.browser.type_into
        self.page("/environments")
        press("Make an environment")
        type_into("Name", "office")
        Select(self.browser.field("Destination")).select_by_visible_text("a database")
        type_into("Folder of the shelf its tables and records lie in", "bookings")
        type_into("Tables to version with their records (others: schema only)", "vessels")
        press("Make the environment", "[role=dialog] form")
        see("nothing yet")
        address = self.shelf.environment("office").address
        self.run_in(
            address,
            "CREATE TABLE vessels (code TEXT PRIMARY KEY NOT NULL, name TEXT); INSERT INTO vessels VALUES ('TERN', 'Tern')",
        )
        self.page("/environments?env=office&panel=drift")
        see("2 artifacts changed in office")
        press("Capture 2 in my draft")
        see("in your draft, added")
        self.shelf.commit_draft("main", "as the office keeps it")
        self.shelf.make_tag("two")
        self.run_in(address, "ALTER TABLE vessels ADD COLUMN decks INTEGER; UPDATE vessels SET decks = 2")
        self.shelf.capture("office")
        self.shelf.commit_draft("main", "decks")
        self.shelf.make_tag("three")
        self.shelf.wait(self.shelf.promote("three", "office"))

        self.page("/environments?env=office&tag=two")
        press("Rehearse")
        see("vessels.decks")
        see("Would be permanently lost")
        self.assertFalse(self.browser.button("Not ready to promote").is_enabled())
        self.assertEqual(self.browser.axe(), [])
        self.browser.field("lose vessels.decks, column with 1 value").click()
        press("Promote into office")
        see("Deployment 2 is done")
        see("What was done there")
        self.assertEqual(self.ask(address, "SELECT * FROM vessels"), [("TERN", "Tern")])
        self.shelf.make_environment("folders")
        self.page("/environments?env=office&panel=beside")
        see("2 only in office")
        self.assertEqual(self.browser.axe(), [])
        self.browser.open(f"{self.service.address}/s/{self.shelf.key}/artifact?path=bookings/vessels.table.json")
        see("Raw text")
        press("Edit")

    @staticmethod
    def run_in(address: str, script: str) -> None:
        with closing(sqlite3.connect(address)) as records:
            records.executescript(script)

    @staticmethod
    def ask(address: str, query: str) -> list[tuple[object, ...]]:
        with closing(sqlite3.connect(address)) as records:
            return records.execute(query).fetchall()
