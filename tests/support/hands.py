"""Two ways to do the same in a browser, each counted: with a mouse, and with the keyboard alone."""

from __future__ import annotations

from selenium.webdriver.common.keys import Keys
from selenium.webdriver.remote.webelement import WebElement
from selenium.webdriver.support.select import Select

from tests.support.browser import Browser

# Whether what has the focus is called so, and lies within.
_HAS_FOCUS = """
const [want, within] = arguments;
const one = document.activeElement;
if (!one || one === document.body || (within && !one.closest(within))) return false;
const said = [one.getAttribute('aria-label'), one.textContent, ...[...(one.labels ?? [])].map((l) => l.textContent)];
return said.some((words) => (words ?? '').trim() === want);
"""
_MOST_TABS = 250


class Mouse:
    """Everything is pointed at and clicked; only words are typed."""

    def __init__(self, browser: Browser) -> None:
        self.browser = browser
        self.clicks = self.keys = 0

    def visit(self, page: str) -> None:
        """Go to a page of the shelf by its tab."""
        self.browser.wait_for(lambda: self.browser.texts("nav.board a"))
        script = (
            "return [...document.querySelectorAll('nav.board a')].find((a) => a.innerText.startsWith(arguments[0]))"
        )
        tab: WebElement = self.browser.wait_for(lambda: self.browser.driver.execute_script(script, page))
        tab.click()
        self.clicks += 1

    def open_artifact(self, path: str) -> None:
        """Go to an artifact from the list of the shelf."""
        self.press(path)

    def press(self, name: str, within: str = "") -> None:
        """Do what a button or link says."""
        self.browser.press(name, within)
        self.clicks += 1

    def write(self, label: str, text: str) -> None:
        """Put a text into a field."""
        self.browser.type_into(label, text)
        self.clicks += 1
        self.keys += len(text)

    def choose(self, label: str, option: str) -> None:
        """Choose from a list."""
        self.browser.choose(label, option)
        self.clicks += 2

    def head(self, column: str) -> None:
        """Sort a grid by a column."""
        selector = f"[role=columnheader][data-field={column}]"
        self.browser.click(selector)
        self.clicks += 1

    def submit(self) -> None:
        """Send the field that was written into last."""
        self.browser.press_key(Keys.ENTER)
        self.keys += 1


class Keyboard(Mouse):
    """No mouse: the list of all pages by its key, Tab from control to control, arrows, Enter."""

    def _press(self, *keys: str) -> None:
        for key in keys:
            self.browser.press_key(key)
            self.keys += 1

    def _until_focused(self, name: str, within: str) -> None:
        for _ in range(_MOST_TABS):
            if self.browser.driver.execute_script(_HAS_FOCUS, name, within):
                return
            self._press(Keys.TAB)
        raise AssertionError(f"Tab does not lead to {name!r} at {self.browser.driver.current_url}")

    def _go(self, words: str) -> None:
        self._press(";")
        self.browser.wait_for(lambda: self.browser.field("Page, act or artifact").is_displayed())
        self._press(*words)
        self.browser.wait_for(lambda: words.casefold() in " ".join(self.browser.texts("[role=option]")).casefold())
        self._press(Keys.ENTER)

    def visit(self, page: str) -> None:
        """Go to a page by typing a part of its name."""
        self._go(page)

    def open_artifact(self, path: str) -> None:
        """Go to an artifact by typing its path."""
        self._go(path)

    def press(self, name: str, within: str = "") -> None:
        """Do what a button or link says."""
        self.browser.button(name, within)
        self._until_focused(name, within)
        self._press(Keys.ENTER)

    def write(self, label: str, text: str) -> None:
        """Put a text into a field."""
        self.browser.field(label)
        self._until_focused(label, "")
        self._press(*text)

    def choose(self, label: str, option: str) -> None:
        """Choose from a list by the beginning of its name."""
        box = self.browser.field(label)
        self._until_focused(label, "")
        for letter in option:
            if Select(box).first_selected_option.text == option:
                return
            self._press(letter)
        self.browser.wait_for(lambda: Select(box).first_selected_option.text == option)

    def head(self, column: str) -> None:
        """Sort a grid by a column: into its head, along it, Enter."""
        script = """
          const head = document.activeElement?.closest('[role=columnheader]');
          return head ? head.dataset.field : '';"""
        for _ in range(_MOST_TABS):
            field = self.browser.driver.execute_script(script)
            if field == column:
                break
            self._press(Keys.ARROW_RIGHT if field else Keys.TAB)
        self._press(Keys.ENTER)
