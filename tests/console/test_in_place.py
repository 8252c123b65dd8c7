"""The page of data in place."""

from __future__ import annotations

from everyshelf.client import ShelfClient
from tests.console.test_together import TwoBrowsersCase
from tests.support.web_files import WebFiles

FARES = b"zone,fare\nZ1,4.50\nZ2,6.00\n"


class InPlacePageTests(TwoBrowsersCase):
    """Registered, checked, changed there, told."""

    web: WebFiles

    @classmethod
    def setUpClass(cls) -> None:
        super().setUpClass()
        cls.web = WebFiles(cls)

    def test_registered_checked_and_told_when_it_changes(self) -> None:
        self.web.files["/fares.csv"], self.web.token = FARES, "harbour"
        address = f"{self.web.address}/fares.csv"
        browser, shelf = self.browser, self.shelf
        browser.open(f"{self.service.address}/s/{shelf.key}")
        browser.press("Data in place")
        browser.see("No artifact lies in place here.")
        self.assertEqual(browser.axe(), [])
        browser.press("Register data")
        browser.type_into("Where the data lies", "ftp://harbour/fares.csv")
        browser.type_into("Path on the shelf", "data/fares.csv")
        browser.press("Register", within="[role=dialog]")
        browser.see("is not an address of data")
        browser.type_into("Where the data lies", address)
        browser.press("Register", within="[role=dialog]")
        browser.see("Registering failed.")
        browser.see("refuses this service (HTTP 401)")
        browser.press("Set credentials")
        browser.type_into("Bucket or server", address)
        browser.type_into("Token", "harbour")
        self.assertEqual(browser.axe(), [])
        browser.press("Set", within="[role=dialog]")
        browser.see("a token")
        self.register(shelf, address)
        browser.see("1 artifact of 26 B lies in place, not checked since.")
        browser.press("Read and check")
        browser.see("1 artifact of 26 B lies in place, unchanged.")
        self.web.files["/fares.csv"] = FARES.replace(b"4.50", b"5.00")
        browser.press("Check")
        browser.see("one has changed or cannot be read")
        browser.see("its ETag differs")
        self.assertEqual(browser.axe(), [])
        browser.press("data/fares.csv")
        browser.see("has changed since it was registered")
        browser.see("in place at")
        browser.press("Download")
        browser.wait_for(lambda: len(browser.texts(".problem")) > 1)
        self.assertIn("/artifact?", browser.driver.current_url)
        self.register(shelf, address)
        browser.open(f"{self.service.address}/s/{shelf.key}/artifact?path=data/fares.csv&ref=main")
        browser.see("5.00")
        self.assertEqual(shelf.artifact("data/fares.csv").version, 2)

    def register(self, shelf: ShelfClient, address: str) -> None:
        browser = self.browser
        browser.open(f"{self.service.address}/s/{shelf.key}/in-place")
        browser.press("Register data")
        browser.type_into("Where the data lies", address)
        browser.type_into("Path on the shelf", "data/fares.csv")
        browser.press("Register", within="[role=dialog]")
        browser.wait_for(lambda: any(one.problem == "" for one in shelf.in_place()))
