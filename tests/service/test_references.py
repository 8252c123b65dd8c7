"""Who uses what on a shelf: exact where the format is, a guess elsewhere, and what is missing."""

from __future__ import annotations

import json

from everyshelf.demo import flows
from tests.service.test_users import FARES, FLOW, SCRIPT, TOOL
from tests.support.factories import ServiceCase, Terminal

CALLER = flows.refund().replace(
    b"</process>", b'<callActivity id="tell" name="Tell them" calledElement="disruption_notice"/></process>'
)


class ReferenceTests(ServiceCase):
    """Uses and users of artifacts."""

    def setUp(self) -> None:
        super().setUp()
        self.put(
            {
                "flows/clean.cwl": TOOL,
                "flows/delays.cwl": FLOW,
                "flows/notice.bpmn": flows.disruption(),
                "flows/refund.bpmn": CALLER,
                "data/fares.csv": FARES,
                "scripts/total.py": SCRIPT,
                "other/clean.cwl": TOOL,
            }
        )

    def used(self, path: str, side: str) -> list[tuple[str, str, bool]]:
        return [(u["artifact"], u["label"], u["exact"]) for u in self.shelf.references(path)[side]]

    def test_file_beside_wins_over_one_of_the_same_name_elsewhere(self) -> None:
        self.assertEqual(self.used("flows/delays.cwl", "uses"), [("flows/clean.cwl", "tidy", True)])
        self.assertEqual(self.used("flows/clean.cwl", "used_by"), [("flows/delays.cwl", "tidy", True)])
        self.assertEqual(self.used("other/clean.cwl", "used_by"), [])

    def test_called_process_is_found_by_its_id(self) -> None:
        self.assertEqual(self.used("flows/refund.bpmn", "uses"), [("flows/notice.bpmn", "Tell them", True)])
        self.assertEqual(self.used("flows/notice.bpmn", "used_by"), [("flows/refund.bpmn", "Tell them", True)])

    def test_name_in_a_script_is_a_guess(self) -> None:
        users = self.used("data/fares.csv", "used_by")
        self.assertEqual([(artifact, exact) for artifact, _, exact in users], [("scripts/total.py", False)])

    def test_missing_targets_are_shown(self) -> None:
        missing = self.shelf.references("flows/delays.cwl")["missing"]
        self.assertEqual([(m["name"], m["label"]) for m in missing], [("plot.cwl", "plot")])
        self.put({"flows/plot.cwl": TOOL})
        self.assertEqual(self.shelf.references("flows/delays.cwl")["missing"], [])
        self.put({"flows/notice.bpmn": None})
        missing = self.shelf.references("flows/refund.bpmn")["missing"]
        self.assertEqual([m["name"] for m in missing], ["disruption_notice"])

    def test_addresses_and_patterns_are_not_missing(self) -> None:
        steps = [
            {"id": n, "path": p} for n, p in enumerate(("https://x.org/a.csv", "/var/b.csv", "c-*.csv", "${d}.csv"))
        ]
        self.put({"flows/load.json": json.dumps({"steps": steps}).encode()})
        self.assertEqual(self.shelf.references("flows/load.json")["missing"], [])

    def test_older_states_have_their_own_users(self) -> None:
        self.shelf.make_tag("one")
        self.put({"flows/delays.cwl": None})
        self.assertEqual(self.used("flows/clean.cwl", "used_by"), [])
        self.assertEqual(len(self.shelf.references("flows/clean.cwl", "tag:one")["used_by"]), 1)

    def test_on_the_command_line(self) -> None:
        said = (
            Terminal(self, self.service).run("browse", "flows/delays.cwl", "--uses", "--shelf", self.shelf.key).stdout
        )
        for words in ("uses 1 artifact", "flows/clean.cwl", "missing", "plot.cwl"):
            self.assertIn(words, said)
