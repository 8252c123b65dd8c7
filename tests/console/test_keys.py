"""The console by keyboard alone: going anywhere by typing, and seeing where one is."""

from __future__ import annotations

from selenium.webdriver.common.by import By
from selenium.webdriver.common.keys import Keys

from tests.console.test_console import ConsoleCase

# Every control in sight gets the focus as keys give it; those that show nothing are named.
_UNSEEN = """
const done = arguments[0];
const outlined = (one) => {
  const style = one && getComputedStyle(one);
  return Boolean(style) && style.outlineStyle !== 'none' && parseFloat(style.outlineWidth) >= 2;
};
const around = '.MuiInputBase-root,.MuiCheckbox-root,.MuiRadio-root,.MuiDataGrid-columnHeader,.MuiDataGrid-cell';
const controls = [...document.querySelectorAll('a[href],button,input,select,textarea,[tabindex="0"]')]
  .filter((e) => !e.disabled && e.getClientRects().length && e.tabIndex >= 0);
(async () => {
  const failed = [];
  for (const one of controls) {
    one.focus({focusVisible: true, preventScroll: true});
    await new Promise((go) => requestAnimationFrame(() => setTimeout(go, 0)));
    const holder = one.closest(around);
    if (document.activeElement === one && !outlined(one) && !outlined(holder)) failed.push(one.outerHTML.slice(0, 160));
  }
  done([controls.length, failed]);
})();
"""


class GoingTests(ConsoleCase):
    """The key ; and what it leads to."""

    def open_list(self) -> None:
        self.browser.press_key(";")
        self.browser.wait_for(lambda: self.browser.field("Page, act or artifact").is_displayed())

    def test_keys_can_be_changed_and_turned_off(self) -> None:
        self.put({"fares.csv": b"id,fare\n1,4\n"})
        self.page()
        self.browser.see("fares.csv")
        self.browser.press_key("?")
        self.browser.press("Change keys")
        for label, key in (
            ("To go to any page, act or artifact by typing", "g"),
            ("To find words on the shelf, or on all of them", ""),
        ):
            box = self.browser.field(label)
            box.send_keys(Keys.BACKSPACE + key)
            self.browser.wait_for(lambda b=box, k=key: b.get_property("value") == k)
        self.browser.field("To what this page is for, and what its words mean").send_keys(Keys.BACKSPACE + "g")
        self.browser.see("This key is used to go to any page")
        self.assertEqual(self.browser.axe(), [])
        self.page("/log")
        self.browser.see("Log")
        for key in ("/", ";"):
            self.browser.press_key(key)
        self.assertNotIn("/find", self.browser.driver.current_url)
        self.assertEqual(self.browser.texts("[role=dialog]"), [])
        self.browser.press_key("g")
        self.browser.wait_for(lambda: self.browser.field("Page, act or artifact").is_displayed())
        self.browser.driver.execute_script("localStorage.clear()")

    def test_each_page_explains_its_words(self) -> None:
        self.put({"notes.md": b"# Notes\n"})
        for rest, words in (("", "One artifact in the strip above"), ("/environments", "A tag is rehearsed first")):
            self.page(rest)
            self.browser.wait_for(lambda: self.browser.texts("button.helpact"))
            self.browser.press_key("?")
            self.browser.see("Keys")
            self.assertIn(words, self.browser.text())
            self.assertEqual(self.browser.axe(), [])
            self.browser.press_key(Keys.ESCAPE)
            self.browser.wait_for(lambda: not self.browser.texts("[role=dialog]"))
        self.browser.press("Help for this page")
        self.browser.see("Keys")

    def test_one_key_leads_past_the_head_of_the_page(self) -> None:
        self.put({"notes.md": b"# Notes\n"})
        self.page("")
        self.browser.see("1 artifact")
        self.browser.press_key(Keys.TAB)
        self.assertEqual(self.browser.driver.switch_to.active_element.text, "Skip to the page")
        self.browser.press_key(Keys.ENTER)
        self.browser.press_key(Keys.TAB)
        inside = "return document.activeElement.closest('main') !== null"
        self.assertTrue(self.browser.driver.execute_script(inside))

    def test_pages_acts_and_artifacts_by_typing(self) -> None:
        self.put({"data/fares.csv": b"zone,fare\nZ1,4\n", "notes.md": b"# Notes\n"})
        self.page("")
        self.browser.see("2 artifacts")
        self.open_list()
        self.browser.see("find words on the shelf")
        self.assertEqual(self.browser.axe(), [])
        self.browser.press_key("hist")
        self.browser.see("History")
        self.browser.press_key(Keys.ENTER)
        self.browser.see("in the line of main")
        self.open_list()
        self.browser.press_key("fares")
        self.browser.see("data/fares.csv")
        self.browser.press_key(Keys.ENTER)
        self.browser.see("1 row, 2 columns")
        self.page("/branches")
        self.browser.see("1 branch")
        self.open_list()
        self.browser.press_key("make a tag")
        self.browser.press_key(Keys.ENTER)
        self.browser.see("What it stands for")
        self.browser.press_key(Keys.ESCAPE)
        self.browser.wait_for(lambda: "What it stands for" not in self.browser.text())
        self.assertEqual(self.browser.complaints(), [])

    def test_keys_do_nothing_while_something_is_typed(self) -> None:
        self.put({"notes.md": b"# Notes\n"})
        self.page("")
        field = self.browser.field("Narrow the list")
        field.send_keys("a;b/c")
        self.assertEqual(field.get_attribute("value"), "a;b/c")
        self.assertEqual(self.browser.driver.find_elements(By.CSS_SELECTOR, "[role=dialog]"), [])


class FocusTests(ConsoleCase):
    """Where the focus is can be seen on every control."""

    def test_every_control_shows_its_focus(self) -> None:
        self.put({"data/fares.csv": b"zone,fare\nZ1,4\n", "notes.md": b"# Notes\n"})
        self.shelf.make_tag("one")
        for page, words in (
            ("", "2 artifacts"),
            ("/artifact?path=data/fares.csv", "1 row, 2 columns"),
            ("/history", "in the line of main"),
            ("/branches", "1 branch"),
            ("/people", "Invite a person"),
            ("/environments", "Make an environment"),
            ("/git", "Make a link"),
            ("/log", "Audit log"),
        ):
            with self.subTest(page=page):
                self.page(page)
                self.browser.see(words)
                count, failed = self.browser.driver.execute_async_script(_UNSEEN)
                self.assertGreater(count, 12)
                self.assertEqual(failed, [])
