"""Origins on the artifact page: who set each part, line and row, and the forms each had."""

from __future__ import annotations

import json
from urllib.parse import urlencode

from selenium.webdriver.common.keys import Keys
from selenium.webdriver.support.ui import Select

from everyshelf.client import ChangeRequest, CommitMessage
from tests.console.test_together import TwoBrowsersCase


def _steps(**limits: int) -> bytes:
    steps = [{"id": k, "command": f"load {k}", "limit": v, "after": [next(iter(limits))]} for k, v in limits.items()]
    return json.dumps({"pipeline": "nightly", "steps": steps}).encode()


class OriginsPageTests(TwoBrowsersCase):
    """One shelf with a pipeline, a text and a table that two people worked on."""

    def commit(self, files: dict[str, bytes], summary: str, by: str) -> None:
        changes = [ChangeRequest(path, self.shelf.upload(data).id) for path, data in files.items()]
        self.shelf.commit("main", self.shelf.branch("main").head, changes, CommitMessage(summary, author=by))

    def page(self, path: str, **more: str) -> None:
        query = urlencode({"path": path, "view": "origins", **more})
        self.browser.open(f"{self.service.address}/s/{self.shelf.key}/artifact?{query}")

    def rows(self, label: str = "Who set it") -> list[str]:
        found = self.browser.driver.find_elements("css selector", f"section[aria-label='{label}'] tbody tr")
        return [" ".join(row.text.split()) for row in found]

    def test_parts_lines_and_rows(self) -> None:
        rows = "".join(f"Z{k},adult,4\n" for k in range(1, 9))
        table = f"zone,kind,fare\n{rows}".encode()
        self.commit(
            {"p.json": _steps(load=1, join=2, old=3), "notes.txt": b"low water\nhigh water\n"}, "First", "maren"
        )
        self.commit(
            {"p.json": _steps(load=1, join=20), "notes.txt": b"low water\nspring tide\n"}, "SK-9: later", "ines"
        )
        self.commit({"f.csv": table}, "Fares", "maren")
        self.commit({"f.csv": table.replace(b"Z3,adult,4", b"Z3,adult,5")}, "Zone 3", "ines")
        self.browser.open(f"{self.service.address}/s/{self.shelf.key}/artifact?path=p.json&view=outline")
        self.browser.see("Set by maren")
        said = {" ".join(row.split()) for row in self.browser.texts(".parts .name")}
        self.assertTrue(any(one.startswith("step load maren, today") for one in said), said)
        self.assertTrue(any(one.startswith("step join ines, today") for one in said), said)
        self.browser.press("Its earlier forms")
        self.browser.see("1 form in 2 versions")
        self.page("p.json")
        self.browser.see("by 2 people in 2 versions")
        self.assertTrue(any(row.startswith("join step ines") and row.endswith("SK-9: later v2") for row in self.rows()))
        self.assertTrue(any(row.startswith("load step maren") for row in self.rows()))
        self.browser.press("limit")
        self.browser.see("2 forms in 2 versions")
        forms = self.browser.find("section[aria-label='One part over time']")
        self.assertIn("/step:join/limit", forms.text)
        self.assertEqual([d.text for d in forms.find_elements("css selector", "del, ins")][:2], ["2", "20"])
        self.assertEqual(self.browser.axe(), [])
        self.browser.press("Show removed")
        self.browser.see("old step")
        Select(self.browser.field("Who")).select_by_visible_text("maren")
        self.browser.wait_for(lambda: all("ines" not in row for row in self.rows()[:3]))
        self.browser.find(".origins .pick").send_keys(Keys.ARROW_DOWN)

        self.page("notes.txt")
        self.browser.see("2 lines by 2 people in 2 versions")
        self.browser.press("Line 2")
        self.browser.see("One line over time")
        self.browser.see("“SK-9: later”")
        self.browser.wait_for(
            lambda: "tide" in self.rows("One line over time") or self.browser.see("SK-9: later") is None
        )
        self.assertEqual(self.browser.axe(), [])

        self.page("f.csv")
        self.browser.see("3 columns by 2 people in 2 versions")
        self.browser.field("Key of a row").send_keys("Z3\n")
        self.browser.see("One row over time")
        self.browser.see("fare: 45")  # what went and what came stand side by side
        self.assertEqual(self.browser.axe(), [])
        self.browser.empty(self.browser.field("Key of a row"))
        self.page("f.csv", row="Z99")
        self.browser.see("has no row 'Z99'")
