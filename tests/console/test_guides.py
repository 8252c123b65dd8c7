"""The guide for reviewers, clicked through step by step."""

from __future__ import annotations

import unittest

from tests.support.browser import Browser
from tests.support.guide import GUIDES, blocks, clicks, running
from tests.support.service import PASSWORD


class ReviewerTests(unittest.TestCase):
    """A reviewer without a terminal."""

    def test_each_step_can_be_done(self) -> None:
        page = (GUIDES / "reviewer.md").read_text()
        acts = clicks(page)
        self.assertGreater(len(acts), 20)
        with running() as run:
            for block in blocks(page):
                code, text = run.told(block)
                self.assertEqual(code, block.code, text)
            browser = Browser()
            self.addCleanup(browser.close)
            browser.sign_in(run.service.address, "maren", PASSWORD)
            for act in acts:
                self._do(browser, act)
            self.assertEqual(browser.complaints(), [])

    def _do(self, browser: Browser, act: dict[str, str]) -> None:
        if "into" in act:
            browser.type_into(act["into"], act["text"])
        elif "tick" in act:
            browser.field(act["tick"]).click()
        elif "press" in act:
            browser.press(act["press"])
        else:
            browser.see(act["see"])


if __name__ == "__main__":
    unittest.main()
