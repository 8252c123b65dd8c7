"""Headless Chromium at exactly 1280 x 800, through Debian's own driver."""

from __future__ import annotations

import functools
import os
import re
import shutil
import subprocess
import tempfile
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

from selenium import webdriver
from selenium.common.exceptions import (
    ElementClickInterceptedException,
    InvalidSessionIdException,
    NoSuchWindowException,
    StaleElementReferenceException,
    WebDriverException,
)
from selenium.webdriver.chrome.service import Service
from selenium.webdriver.common.by import By
from selenium.webdriver.common.keys import Keys
from selenium.webdriver.remote.webelement import WebElement
from selenium.webdriver.support.select import Select

_SHELL = "/usr/bin/chromium-headless-shell"
AXE = Path(__file__).parents[2] / "console" / "node_modules" / "axe-core" / "axe.min.js"
_FLAGS = (
    "--headless",
    "--no-sandbox",
    "--disable-gpu",
    "--disable-quic",
    "--no-first-run",
    "--disable-sync",
    "--disable-background-networking",
    "--disable-component-update",
    "--disable-dev-shm-usage",
    "--force-color-profile=srgb",
    "--force-prefers-reduced-motion",  # colours are judged as they end up, not on their way there
    "--lang=en-GB",
)


@functools.cache
def _has_shell() -> bool:
    """Whether there is Chromium without windows, of the version the driver is for: it starts in half the time."""
    programs = [_SHELL, shutil.which("chromedriver") or "/usr/bin/chromedriver"]
    try:
        said = [
            subprocess.run([one, "--version"], capture_output=True, text=True, check=True).stdout for one in programs
        ]
    except (OSError, subprocess.CalledProcessError):
        return False
    versions = [re.search(r"\d+\.\d+\.\d+\.\d+", one) for one in said]
    return None not in versions and len({found.group() for found in versions if found is not None}) == 1


class Browser:
    """One browser with a profile of its own; finds things by role and name, as a person would."""

    def __init__(self) -> None:
        os.environ["SE_OFFLINE"] = "true"
        self._profile = tempfile.mkdtemp(prefix="es-browser-")
        options = webdriver.ChromeOptions()
        if _has_shell():
            options.binary_location = _SHELL
            options.set_capability("browserName", "chrome-headless-shell")
        else:
            options.binary_location = shutil.which("chromium") or "/usr/bin/chromium"
        for flag in (*_FLAGS, f"--user-data-dir={self._profile}"):
            options.add_argument(flag)
        options.set_capability("goog:loggingPrefs", {"browser": "ALL"})
        self.driver = webdriver.Chrome(options, Service(shutil.which("chromedriver") or "/usr/bin/chromedriver"))
        self.resize(1280, 800)

    def resize(self, width: int, height: int) -> None:
        metrics = {"width": width, "height": height, "deviceScaleFactor": 1, "mobile": False}
        self.driver.execute_cdp_cmd("Emulation.setDeviceMetricsOverride", metrics)

    def close(self) -> None:
        self.driver.quit()
        shutil.rmtree(self._profile, ignore_errors=True)

    def kill(self) -> None:
        """End the browser as a crash would: with -9, nothing is asked."""
        subprocess.run(["pkill", "-9", "-f", self._profile], check=False)

    def open(self, address: str) -> None:
        self.driver.get(address)

    def sign_in(self, address: str, name: str, password: str) -> None:
        self.open(address)
        self.type_into("Name", name)
        self.type_into("Password", password)
        self.press("Sign in")
        self.wait_for(lambda: "Sign in to see" not in self.text())

    def text(self) -> str:
        return self.driver.find_element(By.TAG_NAME, "body").text

    def texts(self, selector: str) -> list[str]:
        """What each element in sight says, all at one moment: an answer may draw the page again between two."""
        script = """
          return [...document.querySelectorAll(arguments[0])].filter((one) => one.getClientRects().length)
            .map((one) => one.innerText.trim())"""
        found: list[str] = self.driver.execute_script(script, selector)
        return found

    def wait_for(self, condition: Callable[[], Any], seconds: float = 90) -> Any:
        """The first truthy value of ``condition``; fails with the page's text."""
        end = time.monotonic() + seconds
        while time.monotonic() < end:
            try:
                found = condition()
            except (InvalidSessionIdException, NoSuchWindowException):  # the browser is gone
                raise
            except WebDriverException:  # the page is being changed: stale, replaced by another, not there yet
                found = None
            if found:
                return found
            time.sleep(0.05)
        raise AssertionError(f"waited in vain at {self.driver.current_url}; the page says:\n{self.text()[:2000]}")

    def see(self, words: str, seconds: float = 90) -> None:
        self.wait_for(lambda: words in self.text(), seconds)

    def field(self, label: str) -> WebElement:
        script = """
          const want = arguments[0];
          return [...document.querySelectorAll('input,select,textarea')].find(e =>
            e.offsetParent !== null && ((e.labels && [...e.labels].some(l => l.textContent.trim() === want))
            || e.getAttribute('aria-label') === want)) || null"""
        found: WebElement = self.wait_for(lambda: self.driver.execute_script(script, label))
        return found

    def find(self, selector: str, by: str = By.CSS_SELECTOR) -> WebElement:
        """The first such element, as soon as the page has one: pages draw their parts one after another."""
        found: WebElement = self.wait_for(lambda: self.driver.find_element(by, selector))
        return found

    def type_into(self, label: str, text: str) -> None:
        box = self.field(label)
        self.empty(box)
        box.send_keys(text)

    @staticmethod
    def empty(box: WebElement) -> None:
        """Take out what is typed there as a person would: the driver's own way tells the page nothing."""
        box.send_keys(Keys.CONTROL, "a")
        box.send_keys(Keys.DELETE)

    def button(self, name: str, within: str = "") -> WebElement:
        script = """
          const [want, within] = arguments;
          const root = within ? document.querySelector(within) : document;
          return root && [...root.querySelectorAll('button,a,[role=button],[role^=menuitem],[role=option],label[role=button]')].find(e =>
            (e.offsetParent !== null || e.tagName === 'g') && ((e.getAttribute('aria-label') || '') === want
            || (e.textContent || '').trim() === want)) || null"""
        found: WebElement = self.wait_for(lambda: self.driver.execute_script(script, name, within))
        return found

    def choose(self, label: str, option: str) -> None:
        """Choose of a list what is called so."""
        Select(self.field(label)).select_by_visible_text(option)

    def press(self, name: str, within: str = "") -> None:
        """Click what is called so."""
        self._click(lambda: self.button(name, within))

    def click(self, selector: str, by: str = By.CSS_SELECTOR) -> None:
        """Click the first such element."""
        self._click(lambda: self.driver.find_element(by, selector))

    def _click(self, find: Callable[[], WebElement]) -> None:
        """Click it; once more if the page drew it again, or moved it, between being found and being clicked."""
        for _ in range(5):
            try:
                self.wait_for(lambda: self._at_rest(find)).click()
            except StaleElementReferenceException:
                continue
            except ElementClickInterceptedException:  # an answer that came in moved it: see where it is now
                time.sleep(0.2)
                continue
            return
        self.wait_for(find).click()

    @staticmethod
    def _at_rest(find: Callable[[], WebElement]) -> WebElement | None:
        """What can be clicked and stays where it is: what it needs, or what is above it, may still be on its way."""
        found = find()
        place = found.rect
        time.sleep(0.05)
        return found if found.is_enabled() and found.rect == place else None

    def press_key(self, key: str) -> None:
        """A key, on whatever has the focus."""
        self.driver.switch_to.active_element.send_keys(key)

    def complaints(self) -> list[str]:
        """Errors of the page's own console, without those of requests that were meant to be refused."""
        rows = self.driver.get_log("browser")  # type: ignore[no-untyped-call]
        return [r["message"] for r in rows if r["level"] == "SEVERE" and "Failed to load resource" not in r["message"]]

    def axe(self, only: str = "") -> list[str]:
        """Every finding of axe-core on the page once it is there, however small; of one rule if ``only`` names it."""
        self.wait_for(
            lambda: (
                not self.driver.find_elements(By.CSS_SELECTOR, "main [aria-busy=true], body > #root > [aria-busy=true]")
            )
        )
        self.driver.execute_script(AXE.read_text())
        found = self.driver.execute_async_script(
            """const [only, done] = arguments;
            const wanted = {resultTypes: ['violations'], ...(only ? {runOnly: {type: 'rule', values: [only]}} : {})};
            axe.run(document, wanted).then((found) => done(found.violations));""",
            only,
        )
        return [f"{v['id']}: {v['help']} at {n['target']}" for v in found for n in v["nodes"][:3]]

    def picture(self, path: Path) -> None:
        time.sleep(0.3)
        self.driver.save_screenshot(str(path))
