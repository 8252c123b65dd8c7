"""Findings as people see them: words that differ, code by lines, breaks before the rest, a thousand findings at once."""

from __future__ import annotations

import json
from typing import Any

from selenium.webdriver.common.by import By

from tests.console.test_console import ConsoleCase
from tests.core.kinds.test_apis import API
from tests.core.kinds.test_notebooks import CELLS, CLEAN, cell, notebook
from tests.service.test_users import FLOW, TOOL


class MeaningTests(ConsoleCase):
    """One artifact compared, kind by kind."""

    def show(self, name: str, before: bytes, after: bytes, more: str = "") -> None:
        self.put({name: before})
        self.shelf.make_tag("one")
        self.put({name: after}, "Second thoughts")
        self.page(f"/compare?from=tag:one&path={name}{more}")

    def marked(self, tag: str, within: str) -> list[str]:
        return self.browser.texts(f"{within} {tag}")

    def differing(self) -> tuple[list[str], list[str]]:
        """What is marked in both texts beside each other."""
        left, right = (self.browser.texts(f".cm-merge-{side} .cm-changedText") for side in "ab")
        return left, right

    def test_only_the_words_that_differ_are_marked(self) -> None:
        before = "# Plan\n\nBoats leave at eight in the morning.\n\nIn fog they wait.\n"
        self.show("plan.md", before.encode(), before.replace("eight", "nine").encode())
        self.browser.see("Paragraph: Boats leave at eight in the morning. → Boats leave at nine in the morning.")
        for within in ("[aria-label=Finding]", "[aria-label=Findings]"):
            self.assertEqual((self.marked("del", within), self.marked("ins", within)), (["eight"], ["nine"]))
        self.browser.press("Raw text")
        self.browser.see("tag:one left")
        self.browser.wait_for(lambda: self.differing() == (["eight"], ["nine"]))

    def test_one_goes_from_change_to_change_in_a_long_text(self) -> None:
        lines = [f"row {n}" for n in range(3000)]
        after = [*lines]
        after[100], after[2000] = "row one hundred", "row two thousand"
        self.show("rows.txt", "\n".join(lines).encode(), "\n".join(after).encode(), "&seen=text")
        self.browser.see("2 changes")
        self.browser.see("equal lines")
        self.browser.press("Next change")
        self.browser.see("Change 1 of 2")
        self.browser.find("body").send_keys("n")
        self.browser.see("Change 2 of 2")
        self.browser.wait_for(lambda: "row two thousand" in self.browser.text())
        self.browser.find("body").send_keys("p")
        self.browser.see("Change 1 of 2")
        self.browser.press("Show equal lines")
        self.browser.see("Fold equal lines")
        self.assertEqual(self.browser.axe(), [])
        self.assertEqual(self.browser.complaints(), [])

    def test_cells_of_a_notebook_are_shown_line_by_line(self) -> None:
        after = [*CELLS[:2], cell(CLEAN.replace("> 5", "> 10")), *CELLS[3:]]
        sides = [json.dumps(notebook(cells)).encode() for cells in (CELLS, after)]
        self.show("delays.ipynb", sides[0], sides[1])
        self.browser.see("Cell: source changed, 1 of 2 lines new, 1 of 2 gone")
        self.browser.wait_for(lambda: self.differing() == (["5"], ["10"]))
        self.assertIn("kept = [row for row in rows", self.browser.text())

    def test_what_was_not_read_is_not_judged(self) -> None:
        self.put({"plan.md": b"# Plan\n"})
        torn = [b"PAR1" + bytes([n]) * 500 + b"PAR1" for n in (1, 2)]
        self.show("gauge.parquet", torn[0], torn[1])
        self.browser.see("Not compared: not readable as Parquet")
        self.browser.see("its effects are not judged")
        self.page("/compare?from=tag:one")
        self.browser.see("1 artifact edited; 1 artifact could not be judged.")
        effects = self.browser.find("[aria-label=Effect]")
        self.assertEqual(" ".join(effects.text.split()), "breaks 0 alters 0 cosmetic 0 not judged 1")
        effects.find_element(By.XPATH, ".//button[contains(., 'breaks')]").click()
        self.browser.wait_for(lambda: "gauge.parquet" not in self.browser.text())
        effects.find_element(By.XPATH, ".//button[contains(., 'not judged')]").click()
        self.browser.see("gauge.parquet")

    def test_what_breaks_can_be_shown_alone(self) -> None:
        after: dict[str, Any] = json.loads(json.dumps(API))
        del after["paths"]["/sailings"]
        after["info"]["title"] = "All sailings"
        after["components"]["schemas"]["Person"]["properties"]["home"] = {"type": "string"}
        self.show("sailings.json", json.dumps(API).encode(), json.dumps(after).encode())
        self.browser.see("1 finding may break users")
        self.browser.see("Show 1 cosmetic finding")
        button = self.browser.find(".eff, [aria-label*=ffect]")
        button.find_element(By.XPATH, ".//button[contains(., 'breaks')]").click()
        self.browser.wait_for(lambda: len(self.browser.driver.find_elements(By.CSS_SELECTOR, ".find")) == 1)
        self.assertIn("POST /sailings", self.browser.text())

    def test_breaking_finding_names_whom_it_breaks(self) -> None:
        self.put({"clean.cwl": TOOL, "delays.cwl": FLOW})
        self.shelf.make_tag("one")
        self.put({"clean.cwl": TOOL.replace(b"table: File, ", b"")}, "No table any more")
        self.page("/compare?from=tag:one&path=clean.cwl")
        self.browser.see("1 finding may break users")
        table = self.browser.find("[aria-label='Used by']").text
        for words in ("delays.cwl", "/step:plot/source:table", "exactly"):
            self.assertIn(words, table)
        self.assertEqual(self.browser.axe(), [])

    def test_a_thousand_findings_stay_usable(self) -> None:
        before = {f"key-{n}": {"value": n, "unit": "min"} for n in range(1500)}
        after = {name: {**entry, "value": entry["value"] + 1} for name, entry in before.items()}
        self.show("limits.json", json.dumps(before).encode(), json.dumps(after).encode())
        self.browser.see("1 of 1000")
        self.browser.see("500 more; narrow by effect")
        body = self.browser.find("body", By.TAG_NAME)
        for _ in range(3):
            body.send_keys("n")
        self.browser.see("4 of 1000")
