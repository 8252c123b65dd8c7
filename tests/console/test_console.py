"""The console in headless Chromium: the whole path, every page, keyboard, colours, and what goes wrong."""

from __future__ import annotations

import json
import tempfile
from pathlib import Path

from selenium.webdriver.common.by import By
from selenium.webdriver.common.keys import Keys

from tests.support.browser import Browser
from tests.support.factories import ServiceCase
from tests.support.service import PASSWORD


class ConsoleCase(ServiceCase):
    browser: Browser

    @classmethod
    def setUpClass(cls) -> None:
        super().setUpClass()
        cls.browser = Browser()
        cls.addClassCleanup(cls.browser.close)
        cls.browser.sign_in(cls.service.address, "owner", PASSWORD)

    def tearDown(self) -> None:
        self.assertEqual(self.browser.complaints(), [])

    def page(self, rest: str = "") -> None:
        self.browser.open(f"{self.service.address}/s/{self.shelf.key}{rest}")

    def fill(self) -> None:
        """Two tags, a branch, environments, and something of each look."""
        self.put(
            {
                "data/fares.csv": b"id,fare\n1,2\n2,3\n",
                "flow.json": b'{"steps": [{"id": "a", "next": "b"}, {"id": "b", "limit": 3}]}',
                "notes.md": b"# one\ntwo\nthree\n",
            }
        )
        self.shelf.make_tag("one")
        self.put(
            {
                "data/fares.csv": b"id,fare\n1,2\n2,4\n",
                "flow.json": b'{"steps": [{"id": "a", "next": "c"}, {"id": "b", "limit": 3}, {"id": "c"}]}',
                "notes.md": b"# one\n2\nthree\n",
            },
            "Second thoughts",
        )
        self.shelf.make_tag("two")
        self.shelf.make_environment("test", fed_from="main")
        self.shelf.make_environment("production", earlier_first=True)


class PathTests(ConsoleCase):
    """A person follows the path without a command line."""

    def send(self, name: str, data: bytes) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        file = Path(folder.name) / name
        file.write_bytes(data)
        self.browser.field("Files to send").send_keys(str(file))

    def test_from_upload_to_production_and_back(self) -> None:
        see, press = self.browser.see, self.browser.press
        self.page()
        see("no artifacts yet")
        press("Add files")
        self.browser.type_into("Folder on the shelf (may be new)", "data")
        self.send("fares.csv", b"id,fare\n1,2\n2,3\n")
        see("1 artifact pending")
        self.browser.open(f"{self.service.address}/")  # a page left and found again: nothing is lost
        self.page("/pending")
        see("data/fares.csv")
        self.browser.type_into("Summary", "First fares")
        press("Commit 1 artifact")
        see("First fares")
        self.make_tag("spring-1")
        self.replace_fares(b"id,fare\n1,2\n2,9\n3,1\n")
        self.make_tag("spring-2")
        self.page("/compare?from=tag:spring-1")
        see("1 artifact edited")
        press("fares.csv")
        see("1 cell in fare, 1 row added")
        press("Raw text")
        see("2,9")
        self.promote_twice()

    def make_tag(self, name: str) -> None:
        self.page("/branches")
        self.browser.press("Make a tag")
        self.browser.type_into("Name", name)
        self.browser.press("Make the tag")
        self.browser.wait_for(lambda: name in self.browser.find("[aria-label=Tags]").text)

    def replace_fares(self, data: bytes) -> None:
        self.page("/artifact?path=data%2Ffares.csv")
        self.browser.press("Replace")
        self.send("fares.csv", data)
        self.browser.see("1 artifact pending")
        self.browser.type_into("Summary", "Dearer")
        self.browser.press("Commit 1 artifact")
        self.browser.see("Dearer")

    def promote_twice(self) -> None:
        see, press = self.browser.see, self.browser.press
        self.page("/environments")
        press("Make an environment")
        self.browser.type_into("Name", "test")
        press("Make the environment", "[role=dialog] form")
        see("nothing yet")
        for number, tag in enumerate(("spring-1", "spring-2"), 1):
            self.page(f"/environments?env=test&tag={tag}")
            press("Rehearse")
            see("Nothing was changed")
            press("Promote into test")
            see(f"Deployment {number} is done")
        press("Roll back")
        self.browser.see("spring-1 there again in place of tag:spring-2")
        self.browser.find("[role=dialog] input").send_keys("Fares were wrong")
        press("Roll back now")
        see("Deployment 3 is done")
        folder = Path(self.shelf.environments()[0].address)
        self.assertEqual((folder / "now/data/fares.csv").read_bytes(), b"id,fare\n1,2\n2,3\n")

    def test_removing_waits_for_its_commit(self) -> None:
        self.fill()
        self.page("/artifact?path=notes.md")
        self.browser.press("Remove")
        self.browser.see("notes.md")
        self.assertIn("notes.md", [a.path for a in self.shelf.artifacts()])
        self.browser.type_into("Summary", "No more notes")
        self.browser.press("Commit 1 artifact")
        self.browser.wait_for(lambda: "notes.md" not in [a.path for a in self.shelf.artifacts()])

    def test_merge_conflict_is_shown_and_settled(self) -> None:
        self.put({"a.txt": b"1"})
        self.shelf.make_branch("try")
        self.put({"a.txt": b"2"}, branch="try")
        self.put({"a.txt": b"3"})
        self.page("/branches")
        self.browser.press("Merge")
        self.browser.press("Merge", "[role=dialog]")
        self.browser.see("only one change can be kept")
        self.browser.press("Settle them")
        self.browser.press("Take try for all")
        self.browser.see("1 of 1 settled")
        self.browser.press("Commit merge")
        self.browser.see("Merge try into main")
        self.assertEqual(self.shelf.read("a.txt"), b"2")


class PageTests(ConsoleCase):
    """Pages are walked by keys, and say what they show."""

    def test_findings_are_walked_by_keyboard(self) -> None:
        self.fill()
        self.page("/compare?from=tag:one&path=flow.json")
        self.browser.see("1 of 2")
        self.browser.find("body", By.TAG_NAME).send_keys("n")
        self.browser.see("2 of 2")

    def test_strip_is_one_tab_stop_walked_by_arrows(self) -> None:
        self.fill()
        self.page()
        spines = self.browser.wait_for(lambda: self.browser.driver.find_elements(By.CSS_SELECTOR, "g.spine"))
        self.assertEqual(sum(s.get_attribute("tabindex") == "0" for s in spines), 1)
        self.browser.driver.execute_script("arguments[0].focus()", spines[0])
        active = self.browser.driver.switch_to.active_element
        active.send_keys(Keys.ARROW_RIGHT)
        active = self.browser.driver.switch_to.active_element
        self.assertEqual(active.get_attribute("aria-label"), spines[1].get_attribute("aria-label"))
        active.send_keys(Keys.ENTER)
        self.browser.wait_for(lambda: "/artifact" in self.browser.driver.current_url)

    def test_read_only_states_offer_no_editing(self) -> None:
        self.fill()
        self.page("/artifact?path=flow.json&ref=tag:one")
        self.browser.see("read only")
        self.browser.see("Download")
        names = self.browser.texts("button")
        self.assertIn("Raw text", names)
        self.assertNotIn("Remove", names)

    def test_what_is_missing_is_said(self) -> None:
        self.page("/artifact?path=no%2Fsuch.txt")
        self.browser.see("artifact.missing")
        self.browser.open(f"{self.service.address}/s/no-such-shelf")
        self.browser.see("There is no shelf")

    def test_wrong_password_is_said(self) -> None:
        other = Browser()
        self.addCleanup(other.close)
        other.open(self.service.address)
        other.type_into("Name", "nobody-here")
        other.type_into("Password", "wrong")
        other.press("Sign in")
        other.see("Wrong name or password")


class LargeShelfTests(ConsoleCase):
    """5,000 artifacts with long names: still a shelf."""

    def test_five_thousand_artifacts_are_listed_and_narrowed(self) -> None:
        from everyshelf.client import ChangeRequest

        contents = [self.shelf.upload(b'{"steps": [{"id": "a", "next": "%d"}]}' % n).id for n in range(5)]
        data = self.shelf.upload(b"id,v\n1,2\n" * 4000).id
        changes = [
            ChangeRequest(
                f"area-{n % 37:02d}/a rather long name of an artifact, number {n:05d}.{'csv' if n % 6 == 0 else 'json'}",
                data if n % 6 == 0 else contents[n % 5],
            )
            for n in range(5000)
        ]
        self.shelf.commit("main", None, changes, "Many")
        self.page()
        self.browser.see("5\u202f000 artifacts", 40)
        rows = self.browser.driver.find_elements(By.CSS_SELECTOR, "tbody tr")
        self.assertLess(len(rows), 80)  # only what is in sight is drawn
        self.assertLess(len(self.browser.driver.find_elements(By.CSS_SELECTOR, "g.spine")), 200)
        self.browser.type_into("Narrow the list", "number 04242")
        self.browser.see("1 of 5\u202f000 artifacts")
        self.browser.click("a.row")
        self.browser.see("04242")
        self.assertEqual(self.browser.axe(), [])


class WorkTests(ConsoleCase):
    """What people do beside the main path."""

    def test_shelf_is_made_and_usable_at_once(self) -> None:
        self.browser.open(self.service.address)
        self.browser.press("Make a shelf")
        name = f"Made in the console {self.shelf.key}"
        self.browser.type_into("Name", name)
        self.browser.type_into("What it is for", "trying things")
        self.browser.press("Make the shelf")
        self.browser.see("no artifacts yet")
        self.assertIn(name, [s.name for s in self.client.shelves()])

    def test_refs_are_chosen_by_typing(self) -> None:
        self.fill()
        self.page()
        self.browser.press("State shown: main ▾")
        self.browser.type_into("Narrow the refs", "tag:on")
        self.browser.press_key(Keys.ENTER)
        self.browser.see("read only")
        self.assertIn("ref=tag%3Aone", self.browser.driver.current_url)
        self.assertIn("Save as CSV", self.browser.text())
        self.assertNotIn("Add files", self.browser.text())

    def test_a_ref_that_is_not_there_yet_is_chosen_once_it_is(self) -> None:
        self.fill()
        slow = {"offline": False, "latency": 1500, "downloadThroughput": -1, "uploadThroughput": -1}
        self.browser.driver.execute_cdp_cmd("Network.enable", {})
        self.browser.driver.execute_cdp_cmd("Network.emulateNetworkConditions", slow)
        quick = {**slow, "latency": 0}
        self.addCleanup(self.browser.driver.execute_cdp_cmd, "Network.emulateNetworkConditions", quick)
        self.page()
        self.browser.press("State shown: main ▾")
        self.browser.type_into("Narrow the refs", "tag:on")
        self.browser.press_key(Keys.ENTER)
        self.browser.see("read only")
        self.assertIn("ref=tag%3Aone", self.browser.driver.current_url)

    def test_list_is_narrowed_and_sorted(self) -> None:
        self.fill()
        self.page()
        self.browser.see("fares")
        self.browser.press("dataset 1")
        self.browser.see("1 of 3 artifacts")
        self.browser.press("dataset 1")
        names = [one.path for one in self.shelf.artifacts(sort="size")]

        def listed() -> list[str]:
            return self.browser.texts("a.row")

        self.browser.press("Size")
        self.browser.wait_for(lambda: listed() == names)
        self.browser.press("Size ▴")
        self.browser.wait_for(lambda: listed() == names[::-1])
        self.assertEqual(self.browser.find("th[aria-sort]").get_attribute("aria-sort"), "descending")

    def test_branch_is_made_and_dropped(self) -> None:
        self.fill()
        self.page("/branches")
        self.browser.press("Make a branch")
        self.browser.type_into("Name", "owner/quiet-hours")
        self.browser.press("Make the branch")
        self.browser.see("owner/quiet-hours")
        self.browser.see("0 ahead, 0 behind")
        self.browser.press("Delete")
        self.browser.see("All its commits are in main")
        self.browser.press("Delete the branch")
        self.browser.wait_for(lambda: [b.name for b in self.shelf.branches()] == ["main"])

    def test_gate_that_holds_is_shown_with_what_would_satisfy_it(self) -> None:
        self.fill()
        self.page("/environments?env=production&tag=two")
        self.browser.press("Rehearse")
        self.browser.see("promote it to test first")
        self.assertFalse(self.browser.button("Not ready to promote").is_enabled())
        self.assertEqual(self.browser.axe(), [])

    def test_drift_is_overwritten_only_when_agreed(self) -> None:
        import os
        from pathlib import Path

        self.fill()
        self.shelf.wait(self.shelf.promote("one", "test"))
        file = Path(self.shelf.environments()[0].address) / "now" / "notes.md"
        os.chmod(file, 0o644)
        file.write_bytes(b"set there by the purser\n")
        self.page("/environments?env=test&tag=two")
        self.browser.press("Rehearse")
        self.browser.see("changed there; would be lost")
        self.assertFalse(self.browser.button("Not ready to promote").is_enabled())
        self.browser.field("Overwrite what was changed there").click()
        self.browser.press("Promote into test")
        self.browser.see("is done")
        self.assertNotIn(b"purser", file.parent.joinpath("notes.md").read_bytes())

    def test_what_was_saved_outlives_a_killed_browser_and_can_be_brought_back(self) -> None:
        self.fill()
        other = Browser()
        self.addCleanup(other.close)
        other.sign_in(self.service.address, "owner", PASSWORD)
        other.open(f"{self.service.address}/s/{self.shelf.key}/artifact?path=notes.md")
        other.press("Remove")
        other.see("1 artifact pending, saved")
        other.kill()
        self.page("/pending")
        self.browser.see("notes.md")
        self.browser.press("Save points")
        self.browser.see("not committed")
        self.browser.press("Discard")
        self.browser.see("No pending changes")
        self.assertEqual([p.state for p in self.shelf.save_points("main")], ["discarded", "gone"])
        self.shelf.restore_point("main", 1)
        self.page("/pending")
        self.browser.see("1 artifact pending, saved")
        self.assertEqual(self.browser.axe(), [])

    def test_the_owner_says_how_long_saved_work_is_kept(self) -> None:
        self.fill()
        self.page("/artifact?path=notes.md")
        self.browser.press("Remove")
        self.browser.see("1 artifact pending")
        self.page("/pending")
        self.browser.see(
            "Pending changes are kept as long as the shelf, save points that no longer count as long as the shelf."
        )
        self.browser.press("Change how long")
        self.browser.type_into("Pending changes, in days after they were last saved", "90")
        self.browser.type_into("Save points that no longer count, in days", "30")
        self.assertEqual(self.browser.axe(), [])
        self.browser.press("Save")
        self.browser.see("kept for 90 days after they were last saved, save points that no longer count for 30 days")
        self.browser.see("They are discarded on ")
        self.browser.press("Undo")
        self.browser.see("Pending changes are kept as long as the shelf")

    def test_commit_onto_a_moved_branch_can_be_combined(self) -> None:
        self.fill()
        self.page("/artifact?path=notes.md")
        self.browser.press("Remove")
        self.browser.see("1 artifact pending")
        self.put({"shelf.toml": b"# new rules\n"}, "By someone else")
        self.browser.type_into("Summary", "No more notes")
        self.browser.press("Commit 1 artifact")
        self.browser.see("has moved on")
        self.browser.press("Merge with newer commits and commit")
        self.browser.wait_for(
            lambda: {a.path for a in self.shelf.artifacts()} == {"data/fares.csv", "flow.json", "shelf.toml"}
        )

    def test_a_merge_is_settled_part_by_part_in_the_browser(self) -> None:
        def flow(weigh: int, load: str) -> bytes:
            steps = [{"id": "weigh", "run": "weigh.py", "timeout": weigh}, {"id": "load", "run": load, "timeout": 60}]
            return (json.dumps({"steps": steps}, indent=2) + "\n").encode()

        self.put({"night.json": flow(30, "load.py")})
        self.shelf.make_branch("try")
        self.put({"night.json": flow(45, "a.py")}, "Mine")
        self.put({"night.json": flow(60, "b.py")}, "Other", branch="try")
        self.page("/branches")
        self.browser.press("Merge")
        self.browser.press("Merge", "[role=dialog]")
        self.browser.see("timeout was 30; on main it is 45, on try 60")
        self.browser.press("Settle them")
        self.browser.see("Both sides changed timeout of step weigh")
        self.browser.see("0 of 2 settled")
        self.assertEqual(self.browser.axe(), [])
        self.browser.press_key("2")
        self.browser.see("1 of 2 settled")
        self.browser.see("Both sides changed run of step load")
        self.browser.click(".opt")
        self.browser.type_into("The value of run", "both.py")
        self.browser.press("Settle with this")
        self.browser.see("2 of 2 settled")
        self.browser.press("Commit merge")
        self.browser.see("Merge try into main")
        self.assertEqual(self.shelf.read("night.json"), flow(60, "both.py"))
        self.assertEqual(self.browser.complaints(), [])

    def test_text_is_read_in_a_chosen_encoding(self) -> None:
        self.put({"a.txt": "Fähre nach Färö\n".encode("latin-1") * 9})
        self.page("/artifact?path=a.txt&view=text")
        self.browser.see("Fähre nach Färö")
        self.page("/artifact?path=a.txt&view=text&encoding=shift_jis")
        self.browser.wait_for(lambda: "Fähre" not in self.browser.text())

    def test_versions_lead_to_their_comparison(self) -> None:
        self.fill()
        self.page("/artifact?path=flow.json&view=history")
        self.browser.press("Compare", "[aria-label=History]")
        self.browser.see("1 step changed, 1 step added")
        self.browser.see("none break users")

    def test_colours_follow_the_choice_and_signing_out_ends(self) -> None:
        other = Browser()
        self.addCleanup(other.close)
        other.sign_in(self.service.address, "reader", PASSWORD)
        other.press("Re, Reader: settings and sign out")
        other.press("Colours: dark")
        other.wait_for(lambda: other.driver.execute_script("return document.documentElement.dataset.theme") == "dark")
        other.press("Sign out")
        other.see("Sign in to see your shelves")
        self.assertEqual(other.complaints(), [])
