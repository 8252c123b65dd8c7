"""Editing in the console: what is typed is saved or kept, whatever becomes of the session, and a cell holds what its column does."""

from __future__ import annotations

import json

from selenium.webdriver.common.by import By
from selenium.webdriver.common.keys import Keys

from tests.console.test_console import ConsoleCase
from tests.support.service import PASSWORD

FLOW = (
    json.dumps({"steps": [{"id": k, "name": k, "timeout": 30} for k in ("weigh", "sail")]}, indent=2) + "\n"
).encode()
FARES = b"id,zone,fare\n1,A,2.50\n2,B,3.00\n3,C,4.00\n4,A,4.57\n"


class EditingCase(ConsoleCase):
    def setUp(self) -> None:
        super().setUp()
        self.put({"flow.json": FLOW, "fares.csv": FARES, "notes.md": b"# Notes\n\nBoats sail.\n"})

    def edit(self, path: str, way: str = "") -> None:
        self.page(f"/artifact?path={path}&view=edit&by={way}")
        self.browser.see("Every edit is saved into your draft")

    def state(self, state: str) -> None:
        self.browser.wait_for(lambda: self.browser.driver.find_elements(By.CSS_SELECTOR, f"[data-state='{state}']"))

    def draft(self, path: str) -> bytes:
        return self.shelf.read(path, "draft:main")

    def end_session(self) -> None:
        """The session is no longer known to the service, as after two weeks or a sign-out in another window."""
        names = [one["name"] for one in self.browser.driver.get_cookies()]
        self.assertTrue(any("session" in name for name in names), names)
        for name in names:
            if "session" in name:
                self.browser.driver.delete_cookie(name)

    def sign_in_again(self) -> None:
        self.browser.see("You were signed out")
        self.browser.type_into("Password", PASSWORD)
        self.browser.press("Sign in")

    def leave_and_sign_in(self) -> None:
        self.browser.driver.execute_script("window.onbeforeunload = null; setTimeout(() => location.assign('/'), 0)")
        self.browser.wait_for(lambda: self.leave())
        self.browser.see("Sign in to see your shelves")
        self.browser.type_into("Name", "owner")
        self.browser.type_into("Password", PASSWORD)
        self.browser.press("Sign in")
        self.browser.wait_for(lambda: "Sign in to see" not in self.browser.text())

    def leave(self) -> bool:
        """Leave although the browser warns of what is not saved."""
        try:
            self.browser.driver.switch_to.alert.accept()
        except Exception:
            pass
        return "Sign in to see" in self.browser.text()


class SessionTests(EditingCase):
    """A session that ends while someone types."""

    def test_what_was_typed_as_text_is_saved_once_one_signs_in_over_the_page(self) -> None:
        self.edit("notes.md", "text")
        editor = self.browser.find(".cm-content")
        editor.send_keys(Keys.CONTROL, Keys.END)
        editor.send_keys("Piers open.")
        self.state("saved")
        self.end_session()
        editor.send_keys(" Late boats wait.")
        self.state("signed out")
        self.assertIn("Late boats wait.", self.browser.find(".cm-content").text)
        self.assertEqual(self.browser.axe(), [])
        self.sign_in_again()
        self.state("saved")
        self.assertIn("Late boats wait.", self.browser.find(".cm-content").text)
        self.assertEqual(self.draft("notes.md"), b"# Notes\n\nBoats sail.\nPiers open. Late boats wait.")
        editor.send_keys(" Berths fill.")
        self.browser.wait_for(lambda: self.draft("notes.md").endswith(b"Berths fill."))

    def test_what_was_typed_into_a_field_is_kept_when_the_page_is_left(self) -> None:
        self.edit("flow.json", "fields")
        self.part("sail")
        self.end_session()
        box = self.browser.field("timeout")
        self.browser.empty(box)
        box.send_keys("75")
        self.state("signed out")
        self.leave_and_sign_in()
        self.page("/artifact?path=flow.json&view=edit&by=fields")
        self.browser.see("It was kept in this browser and is saved now")
        self.browser.wait_for(lambda: json.loads(self.draft("flow.json"))["steps"][1]["timeout"] == 75)

    def part(self, name: str) -> None:
        tree = self.browser.find(".fields .tree")
        next(b for b in tree.find_elements(By.TAG_NAME, "button") if b.text.split("\n")[-1] == name).click()
        self.browser.wait_for(lambda: self.browser.find(".fields h2:not(.h3)").text == name)

    def test_a_field_is_saved_while_one_types_in_it(self) -> None:
        self.edit("flow.json", "fields")
        self.part("sail")
        box = self.browser.field("name")
        box.send_keys(" off")
        self.state("saved")
        self.assertEqual(json.loads(self.draft("flow.json"))["steps"][1]["name"], "sail off")
        for letter in " at high water":  # letter by letter, while the part is given another name each time
            box.send_keys(letter)
        self.browser.wait_for(
            lambda: json.loads(self.draft("flow.json"))["steps"][1]["name"] == "sail off at high water"
        )
        self.assertEqual(box.get_attribute("value"), "sail off at high water")
        number = self.browser.field("timeout")
        number.send_keys("x")
        self.browser.see("This field holds a number")
        number.send_keys(Keys.BACKSPACE, "5")
        self.browser.wait_for(lambda: json.loads(self.draft("flow.json"))["steps"][1]["timeout"] == 305)


class CellTests(EditingCase):
    """Cells of a table, also of one that is edited already."""

    def open_cell(self, row: int, column: int, value: str) -> None:
        cell = f".rowsgrid [data-rowindex='{row}'] [data-field='c{column}']"
        self.browser.click(cell)
        self.browser.press_key(Keys.ENTER)
        box = self.browser.find(f"{cell} input")
        box.send_keys(Keys.CONTROL, "a")
        box.send_keys(value)

    def test_a_word_among_numbers_is_refused_and_a_number_is_saved(self) -> None:
        self.edit("fares.csv")
        self.open_cell(3, 2, "4.57a11.11")
        self.browser.see("Enter saves the cell")
        self.browser.press_key(Keys.ENTER)
        self.browser.see("does not fit the other values of fare")
        self.browser.press_key(Keys.ESCAPE)
        self.browser.wait_for(lambda: "does not fit" not in self.browser.text())
        self.assertEqual(self.draft("fares.csv"), FARES)
        self.open_cell(3, 2, "11.11")
        self.browser.press_key(Keys.ENTER)
        self.state("saved")
        self.assertEqual(self.draft("fares.csv"), FARES.replace(b"4.57", b"11.11"))
        # What is in the draft is of the kind it was: it can be edited by cell again.
        self.assertEqual(self.shelf.artifact("fares.csv", "draft:main").kind, "dataset")
        self.edit("fares.csv")
        self.open_cell(0, 1, "AB")
        self.browser.press_key(Keys.ENTER)
        self.state("saved")
        self.assertEqual(self.draft("fares.csv"), FARES.replace(b"4.57", b"11.11").replace(b"1,A,", b"1,AB,"))

    def test_a_cell_that_could_not_be_saved_is_there_when_the_table_is_opened_again(self) -> None:
        self.edit("fares.csv")
        self.end_session()
        self.open_cell(1, 2, "3.25")
        self.browser.press_key(Keys.ENTER)
        self.state("signed out")
        self.leave_and_sign_in()
        self.page("/artifact?path=fares.csv&view=edit")
        self.browser.wait_for(lambda: self.draft("fares.csv") == FARES.replace(b"3.00", b"3.25"))
        self.browser.wait_for(lambda: any("3.25" in row for row in self.browser.texts(".rowsgrid [data-rowindex='1']")))


class NamesTests(EditingCase):
    """What a link takes is in its name."""

    def test_a_zip_from_within_a_folder_is_of_that_folder(self) -> None:
        self.put({"data/one.csv": b"id\n1\n", "data/two.csv": b"id\n2\n", "plans/three.csv": b"id\n3\n"}, "Folders")
        self.page("?folder=data")
        link = self.browser.button("Download data as zip").get_attribute("href") or ""
        self.assertIn("folder=data", link)
        self.page("?folder=data&by=owner")
        self.browser.button("Download all of data as zip")
        self.page("?by=owner")
        self.browser.button("Download all as zip")
        self.page()
        self.browser.button("Download as zip")
