"""Several people in several browsers: editing, proposing, experimenting, inviting."""

from __future__ import annotations

import json

from selenium.webdriver.common.by import By
from selenium.webdriver.common.keys import Keys
from selenium.webdriver.remote.webelement import WebElement

from everyshelf.client import ChangeRequest
from tests.console.test_console import ConsoleCase
from tests.support.browser import Browser
from tests.support.service import PASSWORD, Service

STEPS = {"steps": [{"id": k, "name": k, "run": f"{k}.py", "timeout": 30} for k in ("weigh", "load", "sail")]}
FLOW = (json.dumps(STEPS, indent=2) + "\n").encode()
BOOK = json.dumps(
    {
        "cells": [
            {"cell_type": "code", "id": "one", "metadata": {}, "outputs": [], "source": "rows = 1"},
            {"cell_type": "code", "id": "two", "metadata": {}, "outputs": [], "source": "late = 2"},
        ],
        "metadata": {},
        "nbformat": 4,
        "nbformat_minor": 5,
    },
    indent=1,
).encode()
FARES = b"id,zone,fare\n1,A,2.50\n2,B,3.00\n3,C,4.00\n"
TESTS = b"Feature: Fares\n\n  Scenario: Adult\n    Given zone A\n    Then 2.50\n\n  Scenario: Child\n    Given zone B\n    Then 1.25\n"


class TwoBrowsersCase(ConsoleCase):
    """The owner's browser, and that of a keeper."""

    other: Browser

    @classmethod
    def setUpClass(cls) -> None:
        super().setUpClass()
        cls.other = Browser()
        cls.addClassCleanup(cls.other.close)
        cls.other.sign_in(cls.service.address, "keeper", PASSWORD)

    def setUp(self) -> None:
        super().setUp()
        self.shelf.set_member("keeper", "keeper")

    def edit(self, browser: Browser, path: str, way: str = "") -> None:
        more = f"&by={way}" if way else ""
        browser.open(f"{self.service.address}/s/{self.shelf.key}/artifact?path={path}&view=edit{more}")

    def field(self, browser: Browser, part: str, label: str, value: str) -> None:
        """Change one field of one part, and wait until it is saved."""
        browser.see("Every edit is saved into your draft")
        tree = browser.find(".fields .tree")
        next(b for b in tree.find_elements(By.TAG_NAME, "button") if b.text.split("\n")[-1] == part).click()
        browser.wait_for(lambda: browser.find(".fields h2:not(.h3)").text == part)
        box = browser.field(label)
        box.send_keys(Keys.CONTROL, "a")
        box.send_keys(value, Keys.TAB)
        self.saved(browser)

    def saved(self, browser: Browser) -> None:
        browser.wait_for(lambda: browser.driver.find_elements(By.CSS_SELECTOR, "[data-state=saved]"))

    def cell(self, browser: Browser, row: int, column: int, value: str) -> None:
        browser.see("Every edit is saved into your draft")
        cell = f".rowsgrid [data-rowindex='{row}'] [data-field='c{column}']"
        browser.click(cell)
        browser.press_key(Keys.ENTER)
        box = browser.find(f"{cell} input")
        box.send_keys(Keys.CONTROL, "a")
        box.send_keys(value, Keys.ENTER)
        self.saved(browser)

    def type_over(self, browser: Browser, old: str, new: str) -> None:
        """Replace a word in the text editor, through its own search."""
        browser.see("Every edit is saved into your draft")
        editor = browser.wait_for(lambda: browser.driver.find_elements(By.CSS_SELECTOR, ".cm-content"))[0]
        editor.click()
        editor.send_keys(Keys.CONTROL, "f")
        find = browser.wait_for(lambda: browser.driver.find_elements(By.CSS_SELECTOR, ".cm-search [name=search]"))[0]
        find.send_keys(old)
        browser.find(".cm-search [name=replace]").send_keys(new)
        browser.click(".cm-search [name=replaceAll]")
        self.saved(browser)

    def commit(self, browser: Browser, summary: str, count: int = 1) -> None:
        browser.open(f"{self.service.address}/s/{self.shelf.key}/pending")
        browser.type_into("Summary", summary)
        browser.press(f"Commit {count} artifact{'s' if count > 1 else ''}")


class EditingTests(TwoBrowsersCase):
    """Two people edit the same artifacts in two browsers."""

    def test_edits_of_different_parts_of_every_kind_combine(self) -> None:
        self.put({"flow.json": FLOW, "book.ipynb": BOOK, "fares.csv": FARES, "fares.feature": TESTS}, "Base")
        self.edit(self.browser, "flow.json", "fields")
        self.field(self.browser, "weigh", "timeout", "45")
        self.edit(self.other, "flow.json", "fields")
        self.field(self.other, "sail", "run", "leave.py")
        self.edit(self.browser, "book.ipynb", "fields")
        self.field(self.browser, "rows = 1", "source", "rows = 100")
        self.edit(self.other, "book.ipynb", "fields")
        self.field(self.other, "late = 2", "source", "late = 200")
        self.edit(self.browser, "fares.csv")
        self.cell(self.browser, 0, 2, "2.75")
        self.edit(self.other, "fares.csv")
        self.cell(self.other, 0, 1, "A1")
        self.edit(self.browser, "fares.feature", "text")
        self.type_over(self.browser, "Then 2.50", "Then 2.75")
        self.edit(self.other, "fares.feature", "text")
        self.type_over(self.other, "Then 1.25", "Then 1.50")
        self.commit(self.browser, "By the owner", 4)
        self.browser.see("By the owner")
        self.commit(self.other, "By the keeper", 4)
        self.other.see("moved on")
        self.other.press("Merge with newer commits and commit")
        self.other.see("By the keeper")
        flow = json.loads(self.shelf.read("flow.json"))["steps"]
        self.assertEqual((flow[0]["timeout"], flow[2]["run"]), (45, "leave.py"))
        cells = [c["source"] for c in json.loads(self.shelf.read("book.ipynb"))["cells"]]
        self.assertEqual(["".join(c) for c in cells], ["rows = 100", "late = 200"])
        self.assertEqual(self.shelf.read("fares.csv"), FARES.replace(b"1,A,2.50", b"1,A1,2.75"))
        self.assertEqual(self.shelf.read("fares.feature"), TESTS.replace(b"2.50", b"2.75").replace(b"1.25", b"1.50"))

    def test_the_same_field_is_a_conflict_that_reads_like_a_sentence(self) -> None:
        self.put({"flow.json": FLOW}, "Base")
        for browser, value in ((self.browser, "45"), (self.other, "60")):
            self.edit(browser, "flow.json", "fields")
            self.field(browser, "weigh", "timeout", value)
        self.commit(self.browser, "Forty-five")
        self.browser.see("Forty-five")
        self.commit(self.other, "Sixty")
        self.other.see("moved on")
        self.other.press("Merge with newer commits and commit")
        self.other.see("timeout was 30; on main it is 45, in")
        self.other.press("Settle them")
        self.other.see("Both sides changed timeout of step weigh")
        self.other.press_key("2")
        self.other.see("1 of 1")
        self.other.see("Read back: it contains the changes of both sides")
        told = self.other.wait_for(lambda: self.other.driver.find_elements(By.CSS_SELECTOR, ".result tbody tr"))
        self.assertIn(("a commit of keeper", '"timeout": 60'), [_row(r) for r in told])
        self.other.press("Commit merge")
        self.other.see("Sixty")
        self.assertEqual(json.loads(self.shelf.read("flow.json"))["steps"][0]["timeout"], 60)

    def test_a_field_that_cannot_be_set_by_itself_says_so_and_loses_nothing(self) -> None:
        self.put({"script.py": b"def load(rows):\n    return rows[1:]\n"}, "Base")
        self.edit(self.browser, "script.py", "fields")
        self.browser.see("Every edit is saved into your draft")
        box = self.browser.field("code")
        box.send_keys(Keys.CONTROL, "a")
        box.send_keys("return (", Keys.TAB)
        self.browser.see("cannot be changed by itself")
        self.browser.see("Edit the text instead")
        self.assertEqual(list(self.shelf.drafts()), [])
        self.assertEqual([c for c in self.browser.complaints() if "400" not in c], [])

    def test_what_was_saved_elsewhere_meanwhile_is_not_overwritten(self) -> None:
        self.put({"notes.md": b"# Notes\n\nOne line.\n"}, "Base")
        self.edit(self.browser, "notes.md", "text")
        self.type_over(self.browser, "One", "Two")
        self.shelf.save("main", [_saving(self, "notes.md", b"# From the desk\n")])
        self.type_again(self.browser, "Two", "Three")
        self.browser.see("was saved elsewhere meanwhile")
        self.assertEqual(self.shelf.read("notes.md", "draft:main"), b"# From the desk\n")
        self.browser.press("Overwrite with my version")
        self.saved(self.browser)
        self.assertEqual(self.shelf.read("notes.md", "draft:main"), b"# Notes\n\nThree line.\n")
        self.browser.complaints()  # the refused request is one, and expected

    def type_again(self, browser: Browser, old: str, new: str) -> None:
        for name, text in (("search", old), ("replace", new)):
            box = browser.find(f".cm-search [name={name}]")
            box.send_keys(Keys.CONTROL, "a")
            box.send_keys(text)
        browser.click(".cm-search [name=replaceAll]")

    def test_pages_pass_axe(self) -> None:
        self.put({"flow.json": FLOW, "fares.csv": FARES}, "Base")
        self.shelf.make_branch("try")
        self.put({"flow.json": FLOW.replace(b"30", b"31")}, "Try", "try")
        self.shelf.open_proposal("Try it", "try")
        self.shelf.begin_experiment("Does it?", key="does", branch="try")
        for n in (1, 2):
            series = {"error": [(k, 5 - k * n / 10) for k in range(10)]}
            self.shelf.record_run("does", "try", str(self.shelf.branch("try").head), parameters={"n": n}, series=series)
        pages = (
            "/artifact?path=flow.json&view=edit",
            "/artifact?path=flow.json&view=edit&by=fields",
            "/artifact?path=fares.csv&view=edit",
            "/proposals",
            "/proposals/1",
            "/experiments",
            "/experiments/does",
            "/people",
            "/log",
            "/branches",
        )
        for scheme in ("light", "dark"):
            features = [{"name": "prefers-color-scheme", "value": scheme}]
            self.browser.driver.execute_cdp_cmd("Emulation.setEmulatedMedia", {"features": features})
            for page in pages if scheme == "light" else pages[1::3]:
                with self.subTest(page=page, scheme=scheme):
                    self.page(page)
                    self.browser.wait_for(
                        lambda: self.browser.driver.find_elements(By.CSS_SELECTOR, "main section, main .cm-content")
                    )
                    self.assertEqual(self.browser.axe(), [])
        self.browser.driver.execute_cdp_cmd("Emulation.setEmulatedMedia", {"features": []})


def _row(row: WebElement) -> tuple[str, str]:
    """Where a line of the result comes from, and the line."""
    cells = row.find_elements(By.TAG_NAME, "td")
    return cells[2].text, cells[1].text.strip().rstrip(",")


def _saving(case: ConsoleCase, path: str, data: bytes):  # type: ignore[no-untyped-def]
    from everyshelf.client import Saving

    return Saving(path, case.shelf.upload(data).id)


class TogetherTests(TwoBrowsersCase):
    """Proposals, experiments, people."""

    def test_a_proposal_is_opened_judged_and_merged(self) -> None:
        self.put({"flow.json": FLOW}, "Base")
        self.shelf.guard_branch("main")
        self.shelf.make_branch("keeper/faster")
        keeper = self.client_of("keeper").shelf(self.shelf.key)
        content = keeper.upload(FLOW.replace(b'"timeout": 30', b'"timeout": 10', 1)).id
        keeper.commit(
            "keeper/faster", keeper.branch("keeper/faster").head, [ChangeRequest("flow.json", content)], "Faster"
        )
        self.other.open(f"{self.service.address}/s/{self.shelf.key}/branches")
        self.other.see("keeper/faster")
        self.other.click("Propose", By.LINK_TEXT)
        self.other.type_into("Title: what changes, in one line", "Weigh faster")
        self.other.press("Open the proposal")
        self.other.see("at least one person must agree")
        self.page("/proposals/1")
        self.browser.see("1 artifact edited")
        self.browser.press("flow.json")
        self.browser.see("see its findings part by part")
        self.browser.click("see its findings", By.PARTIAL_LINK_TEXT)
        self.browser.see("Remark on weigh")
        self.browser.find("part-remark", By.ID).send_keys("Is the scale quick enough?")
        self.browser.press("Add remark")
        self.browser.see("Added to proposal 1")
        self.browser.click("Back to proposal 1", By.LINK_TEXT)
        self.browser.see("Is the scale quick enough?")
        self.browser.press("against")
        self.browser.find("[aria-label='Reason']").send_keys("not in March")
        self.browser.press("Give verdict")
        self.browser.see("against: not in March")
        self.browser.type_into("Remark on the proposal", "The scale is tried first")
        self.browser.field("Condition: do not merge before this is met").click()
        self.browser.press("Add remark")
        self.browser.see("condition of owner: The scale is tried first")
        self.other.open(f"{self.service.address}/")
        self.other.see("Your tasks")
        self.other.see("2 remarks to answer")
        self.page("/proposals/1")
        self.browser.press("Give verdict")
        self.browser.see("Before merging: 1 open point")
        self.browser.press("Mark as met")
        self.browser.see("Ready to merge")
        self.browser.press("Merge into main")
        self.browser.press("Merge")
        self.browser.wait_for(lambda: self.shelf.proposal(1)["state"] == "merged")
        self.assertEqual(json.loads(self.shelf.read("flow.json"))["steps"][0]["timeout"], 10)

    def test_runs_are_compared_drawn_and_adopted(self) -> None:
        self.put(
            {"shelf.toml": b'[metrics]\n"mean error" = {better = "lower", unit = "min"}\n', "a.csv": FARES}, "Base"
        )
        self.shelf.begin_experiment("Does depth cut the error?", key="depth", branch="try")
        self.put({"a.csv": FARES + b"4,D,5.00\n"}, "More rows", "try")
        head = str(self.shelf.branch("try").head)
        for depth, error in ((6, 4.12), (8, 3.41)):
            course = {"mean error": [(k, error + 3 / (k + 1)) for k in range(50)]}
            self.shelf.record_run(
                "depth",
                "try",
                head,
                reads=["a.csv"],
                parameters={"depth": depth},
                metrics={"mean error": error},
                series=course,
            )
        self.page("/experiments")
        self.browser.see("So far mean error went from 4.12 to 3.41 min (−17 %), in run 2.")
        self.browser.click("Does depth cut", By.PARTIAL_LINK_TEXT)
        self.browser.see("best so far")
        differing = self.browser.driver.find_elements(By.CSS_SELECTOR, "td.df")
        self.assertEqual([d.text for d in differing], ["8"])
        self.browser.wait_for(
            lambda: len(self.browser.driver.find_elements(By.CSS_SELECTOR, "[aria-label^='Course of'] path")) >= 2
        )
        self.browser.press("Only columns that differ")
        self.browser.wait_for(
            lambda: "a" not in [h.text for h in self.browser.driver.find_elements(By.CSS_SELECTOR, ".runs th button")]
        )
        self.browser.press("mean error, min")
        self.browser.wait_for(lambda: self.browser.driver.find_elements(By.CSS_SELECTOR, "th[aria-sort=ascending]"))
        self.browser.press("Adopt try")
        self.browser.press("Open the proposal")
        self.browser.see("Does depth cut the error?")
        self.browser.wait_for(lambda: self.shelf.experiment("depth")["state"] == "adopted")

    def test_somebody_is_invited_and_joins_and_the_log_says_so(self) -> None:
        self.page("/people")
        self.browser.press("Invite a person")
        self.browser.type_into("Recipient (note for yourself)", "the mate")
        self.browser.press("Make the invitation")
        box = self.browser.field("Link of the invitation")
        link = box.get_attribute("value") or ""
        self.assertIn("/join#join_", link)
        fresh = Browser()
        self.addCleanup(fresh.close)
        fresh.open(link)
        fresh.see("invites you as author")
        name = f"mate-{link[-6:].lower().replace('_', '0')}".rstrip("-")
        fresh.type_into("Sign-in name you choose", name)
        fresh.type_into("Your name", "The Mate")
        fresh.type_into("A password of at least ten characters", PASSWORD)
        fresh.press("Join")
        fresh.see("no artifacts yet")
        self.page("/log")
        self.browser.see("joined as author")
        self.page("/people")
        self.browser.see("The Mate")
        self.browser.press("All signed-in users can read")
        self.browser.see("all signed-in users can read")
        self.assertTrue(self.shelf.info().open_to_all)

    def test_a_token_is_shown_once_and_revoked(self) -> None:
        self.browser.open(f"{self.service.address}/tokens")
        self.browser.press("Make a token")
        self.browser.type_into("Name", f"console {self.shelf.key}")
        self.browser.press("Make the token")
        value = self.browser.field("The token").get_attribute("value") or ""
        self.assertTrue(value.startswith("es_"))
        self.browser.press("Done")
        self.browser.wait_for(lambda: value not in self.browser.driver.page_source)
        self.browser.press(f"Revoke console {self.shelf.key}")
        self.browser.press("Revoke the token")
        self.browser.wait_for(lambda: f"console {self.shelf.key}" not in self.browser.text())


class OutOfReachTests(ConsoleCase):
    """What is written while the service is away is kept, and sent when it answers."""

    @classmethod
    def setUpClass(cls) -> None:
        cls.service = Service()
        cls.addClassCleanup(cls.service.stop)
        cls.client = cls.service.client()
        cls.addClassCleanup(cls.client.close)
        cls.browser = Browser()
        cls.addClassCleanup(cls.browser.close)
        cls.browser.sign_in(cls.service.address, "owner", PASSWORD)

    def tearDown(self) -> None:
        self.browser.complaints()  # requests that found nobody are complained about, and expected

    def test_a_text_written_out_of_reach_is_saved_later_and_outlives_a_reload(self) -> None:
        self.put({"notes.md": b"# Notes\n"}, "Base")
        self.page("/artifact?path=notes.md&view=edit")
        self.browser.see("Every edit is saved into your draft")
        editor = self.browser.wait_for(lambda: self.browser.driver.find_elements(By.CSS_SELECTOR, ".cm-content"))[0]
        editor.click()
        editor.send_keys(Keys.CONTROL, Keys.END)
        self.service.kill_group()
        editor.send_keys("\nWritten while nobody listened.")
        self.browser.see("kept in this browser", 30)
        self.service.start()
        self.browser.wait_for(lambda: self.browser.driver.find_elements(By.CSS_SELECTOR, "[data-state=saved]"), 30)
        self.assertEqual(self.shelf.read("notes.md", "draft:main"), b"# Notes\n\nWritten while nobody listened.")
