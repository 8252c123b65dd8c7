"""Each page in both colours, wide and on a telephone: nothing axe-core finds, and nothing to push sideways."""

from __future__ import annotations

import json
import re
from pathlib import Path
from urllib.parse import quote

from everyshelf.client import ProblemError
from everyshelf.demo import flows
from tests.console.test_console import ConsoleCase
from tests.core.kinds.test_notebooks import CELLS, notebook
from tests.service.test_seen_and_unfolded import APP

_ROUTES = Path(__file__).parents[2] / "console" / "src" / "pages.ts"
_ROUTE = re.compile(r'^\s+\[?"(/[^"]*)"', re.MULTILINE)

# The artifact, in the views that are a page of their own.
_ARTIFACTS = [
    "flow.bpmn",
    "flow.bpmn&view=origins",
    "delays.ipynb",
    "notes.md",
    "notes.md&view=text",
    "notes.md&view=edit",
    "data/fares.csv",
    "data/fares.csv&view=edit",
    "data/fares.csv&view=history",
    "data/fares.csv&view=uses",
    "gangway.json&view=outline",
    "gangway.json&view=unfolded",
]
_COMPARED = ["", "&path=flow.bpmn", "&path=data%2Ffares.csv", "&path=notes.md&seen=text", "&path=delays.ipynb"]

_SIDEWAYS = """
const [wide, room] = [document.documentElement.scrollWidth, window.innerWidth];
if (wide <= room) return "";
const out = [...document.querySelectorAll("body *")].filter((one) => one.getBoundingClientRect().right > room);
const said = out.slice(-3).map((one) => `${one.tagName} ${one.className} "${(one.textContent || "").slice(0, 30)}"`);
return `the page is ${wide} pixels wide, the window ${room}: ${said.join("; ")}`;
"""


class EveryPageTests(ConsoleCase):
    """A shelf with something on every page."""

    def fill(self) -> None:
        """Two tags, environments, a proposal, an experiment with a run, a webhook, and a merge that waits."""
        cells = json.dumps(notebook(CELLS)).encode()
        self.put(
            {
                "data/fares.csv": b"id,fare\n1,2\n2,3\n",
                "data/old/fares.csv": b"id,fare\n1,2\n",
                "flow.bpmn": flows.disruption(),
                "notes.md": b"# one\n\ntwo\n\n| a | b |\n|---|---|\n| 1 | 2 |\n",
                "delays.ipynb": cells,
                "gangway.json": APP,
            }
        )
        self.shelf.make_tag("one")
        self.shelf.make_branch("clash")
        self.put({"notes.md": b"# one\n\nthree\n"}, branch="clash")
        head = self.put(
            {
                "data/fares.csv": b"id,fare\n1,2\n2,4\n",
                "flow.bpmn": flows.disruption(tide_check=True, approver="harbour master"),
                "notes.md": b"# one\n\n2\n",
                "delays.ipynb": cells.replace(b"> 5", b"> 10"),
            },
            "Second thoughts",
        )
        self.shelf.make_tag("two")
        self.shelf.make_environment("test", fed_from="main")
        self.shelf.make_environment("production", earlier_first=True)
        self.shelf.wait(self.shelf.promote("two", "test"))
        with self.assertRaises(ProblemError):
            self.shelf.merge("clash", "main")
        merge = self.shelf.merges()[0]
        self.shelf.make_branch("quiet")
        self.put({"notes.md": b"# one\n\nquiet\n"}, branch="quiet")
        proposal = self.shelf.open_proposal("Quiet hours", "quiet")
        experiment = self.shelf.begin_experiment("Does a longer wait help?")
        branch = experiment["branch"]
        made = self.put({"model.json": b'{"wait": 5}'}, branch=branch)
        self.shelf.record_run(experiment["key"], branch, made.commit, parameters={"wait": 5}, metrics={"late": 0.2})
        self.shelf.make_webhook("board", "http://127.0.0.1:9/board")
        own = f"/s/{self.shelf.key}"
        self.found = {
            "/": ["/"],
            "/find": ["/find?words=fare"],
            "/tokens": ["/tokens"],
            "/account": ["/account"],
            "/s/:key": [own, f"{own}?folder=data%2Fold"],
            "/s/:key/artifact": [f"{own}/artifact?path={rest}" for rest in _ARTIFACTS],
            "/s/:key/version": [f"{own}/version?path=data%2Ffares.csv&ref=main&version=2"],
            "/s/:key/compare": [f"{own}/compare?from=tag:one{rest}" for rest in _COMPARED],
            "/s/:key/commit/:commit": [f"{own}/commit/{head.commit}"],
            "/s/:key/proposals/:number": [f"{own}/proposals/{proposal['number']}"],
            "/s/:key/experiments/:experiment": [f"{own}/experiments/{quote(experiment['key'])}"],
            "/s/:key/settle/:merge": [f"{own}/settle/{merge.id}"],
        }

    def addresses(self) -> list[str]:
        """What is to be looked at: of each route of the console at least one address."""
        routes = ["/", *_ROUTE.findall(_ROUTES.read_text())]
        self.assertGreater(len(routes), 20)
        return [
            address for route in routes for address in self.found.get(route, [route.replace(":key", self.shelf.key)])
        ]

    def test_in_both_colours_wide_and_on_a_telephone(self) -> None:
        self.fill()
        self.addCleanup(self.browser.resize, 1280, 800)
        wrong: list[str] = []
        for address in self.addresses():
            self.assertNotIn(":", address.partition("?")[0], "a route without an address to look at")
            self.browser.resize(1280, 800)
            self.browser.open(self.service.address + address)
            self.browser.wait_for(lambda: self.browser.texts("h1"))
            wrong += [f"{address}: {said}" for said in self.browser.axe()]
            self.colours("dark")
            wrong += [f"{address} dark: {said}" for said in self.browser.axe(only="color-contrast")]
            for width in (1280, 390):
                self.browser.resize(width, 844)
                wide = self.browser.driver.execute_script(_SIDEWAYS)
                wrong += [f"{address}: {wide}"] if wide else []
            wrong += [f"{address} dark at 390: {said}" for said in self.browser.axe()]
            self.colours("light")
        self.assertEqual(wrong, [])

    def colours(self, scheme: str) -> None:
        self.browser.driver.execute_script("document.documentElement.setAttribute('data-theme', arguments[0])", scheme)
