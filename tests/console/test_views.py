"""A page with what it is narrowed to is saved under a name, and found again by typing."""

from __future__ import annotations

from tests.console.test_console import ConsoleCase


class ViewsTests(ConsoleCase):
    """Saving, opening, replacing, removing."""

    def test_a_view_is_saved_opened_and_removed(self) -> None:
        see, press = self.browser.see, self.browser.press
        self.put({"a.csv": b"id\n1\n", "flow.json": b'{"steps": [{"id": "a"}]}'}, "First")
        self.page("/log?who=owner")
        press("Views")
        see("Log, who owner")
        self.browser.type_into("Save it as", "What I did")
        self.browser.field("Share it: all who see the shelf see it").click()
        self.assertEqual(self.browser.axe(), [])
        press("Save the view")
        see("The view What I did is saved.")
        (kept,) = self.shelf.views()
        self.assertEqual((kept.address, kept.shared), ("/log?who=owner", True))
        self.page("/branches")
        see("they never move")
        self.browser.press_key(";")
        self.browser.type_into("Page, act or artifact", "what i")
        see("Saved views")
        self.browser.press_key("\ue007")
        self.browser.wait_for(lambda: self.browser.driver.current_url.endswith("/log?who=owner"))
        press("Views")
        see("yours, shared")
        press("Remove the view What I did")
        see("The view What I did is removed.")
        self.assertEqual(self.shelf.views(), [])
        press("Close", within="[role=dialog]")
        press("Undo", within=".done")
        see("Undone.")
        self.assertEqual([(v.name, v.shared) for v in self.shelf.views()], [("What I did", True)])
