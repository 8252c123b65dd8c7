"""Drawings, reports and unfolded artifacts over HTTP, through the client."""

from __future__ import annotations

import io
import json
import zipfile

from everyshelf.client import ProblemError
from everyshelf.demo import flows
from tests.support.factories import ServiceCase

APP = json.dumps(
    {"app": "gangway", "screens": [{"name": "Scan", "text": "Ticket"}, {"name": "Result"}], "dataSources": []}, indent=1
).encode()


class DrawingTests(ServiceCase):
    """Pipelines and workflows as nodes and edges."""

    def test_one_version_and_two_in_one(self) -> None:
        self.put({"flow.bpmn": flows.disruption(), "a.csv": b"a,b\n1,2\n"})
        self.shelf.make_tag("one")
        self.put({"flow.bpmn": flows.disruption(tide_check=True)})
        alone = self.shelf.drawing("flow.bpmn")
        self.assertEqual({n.state for n in alone.nodes}, {"same"})
        self.assertEqual(len(self.shelf.drawing("flow.bpmn", version=1).nodes), len(alone.nodes) - 1)
        both = self.shelf.compare_drawing("flow.bpmn", "tag:one")
        self.assertEqual([n.label for n in both.nodes if n.state == "added"], ["Check tide window"])
        self.assertEqual(both, self.shelf.compare_drawing("flow.bpmn", "version:1", "version:2"))
        self.assertEqual(self.shelf.drawing("a.csv").nodes, [])

    def test_unchanged_added_and_missing(self) -> None:
        self.put({"other.txt": b"x"})
        self.shelf.make_tag("zero")
        self.put({"flow.bpmn": flows.disruption()})
        for before in ("main", "tag:zero"):
            self.assertEqual({n.state for n in self.shelf.compare_drawing("flow.bpmn", before).nodes}, {"same"})
        with self.assertRaises(ProblemError) as raised:
            self.shelf.compare_drawing("none.bpmn", "main")
        self.assertEqual(raised.exception.problem["code"], "artifact.missing")


class ReportTests(ServiceCase):
    """Comparisons to keep."""

    def test_states_and_one_artifact_in_every_form(self) -> None:
        self.put({"a.json": b'{"limit": 1}', "b.txt": b"one\n"})
        self.shelf.make_tag("one")
        self.put({"a.json": b'{"limit": 2}', "b.txt": b"two\n"})
        for path, names in ((None, ("a.json", "b.txt")), ("a.json", ("a.json",))):
            for form in ("html", "md", "json"):
                text = self.shelf.compare_report("tag:one", path=path, form=form)
                for name in names:
                    self.assertIn(name, text)
        told = json.loads(self.shelf.compare_report("tag:one", form="json"))
        self.assertEqual([a["path"] for a in told["artifacts"]], ["a.json", "b.txt"])
        with self.assertRaises(ProblemError) as raised:
            self.shelf.compare_report("tag:one", form="pdf")
        self.assertEqual(raised.exception.problem["code"], "report.form")

    def test_all_findings_are_listed_not_the_first_fifty(self) -> None:
        self.put({"a.json": json.dumps({f"k{n}": n for n in range(200)}).encode()})
        self.shelf.make_tag("one")
        self.put({"a.json": json.dumps({f"k{n}": n + 1 for n in range(200)}).encode()})
        told = json.loads(self.shelf.compare_report("tag:one", form="json"))
        self.assertEqual(len(told["artifacts"][0]["findings"]), 200)


class UnfoldedTests(ServiceCase):
    """Artifacts as readable parts, and back."""

    def test_taken_away_edited_and_folded_again(self) -> None:
        self.put({"apps/gangway.json": APP})
        told = self.shelf.unfolded("apps/gangway.json")
        texts = {f.path: f.text for f in told.files}
        self.assertIn('"text": "Ticket"', texts["screens/Scan.json"])
        with zipfile.ZipFile(io.BytesIO(self.shelf.unfolded_zip("apps/gangway.json"))) as archive:
            files = {n: archive.read(n) for n in archive.namelist()}
        self.assertEqual(set(files), set(texts))
        files["screens/Scan.json"] = files["screens/Scan.json"].replace(b"Ticket", b"Pass")
        out = io.BytesIO()
        with zipfile.ZipFile(out, "w") as archive:
            for name, data in files.items():
                archive.writestr(f"gangway.json.unfolded/{name}", data)
        folded = self.shelf.fold(self.shelf.upload(out.getvalue()).id)
        self.assertEqual((folded["name"], folded["notes"]), ("gangway.json", []))
        self.assertEqual(folded["size"], len(APP) - 2)
        self.assertEqual(self.shelf.upload(APP.replace(b"Ticket", b"Pass")).id, folded["id"])

    def test_what_cannot_be_is_refused_in_words(self) -> None:
        self.put({"a.py": b"x = 1\n"})
        with self.assertRaises(ProblemError) as raised:
            self.shelf.unfolded("a.py")
        self.assertEqual(raised.exception.problem["code"], "unfold.impossible")
        for data, code in ((b"no zip", "fold.zip"), (b"PK\x05\x06" + b"\0" * 18, "fold.manifest")):
            with self.assertRaises(ProblemError) as raised:
                self.shelf.fold(self.shelf.upload(data).id)
            self.assertEqual(raised.exception.problem["code"], code)
        with self.assertRaises(ProblemError) as raised:
            self.shelf.fold("0" * 64)
        self.assertEqual(raised.exception.status, 404)
