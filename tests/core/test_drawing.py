"""Drawings: what leads to what, what became of it, and where it stands, for files of many programs."""

from __future__ import annotations

import json
import unittest

from everyshelf.core.answers.drawings import Drawing
from everyshelf.core.compare.artifact import ArtifactSide
from everyshelf.core.drawing.files import draw_file, draw_files
from everyshelf.core.kinds.rules import Rules
from everyshelf.demo import flows
from tests.support.published import published


def drawn(before: bytes, after: bytes, name: str) -> Drawing:
    return draw_files(ArtifactSide(name, before), ArtifactSide(name, after), Rules())


def states(drawing: Drawing) -> dict[str, str]:
    return {n.label: n.state for n in drawing.nodes if n.state != "same"}


def courses(drawing: Drawing) -> set[tuple[str, str, str]]:
    names = {n.id: n.label for n in drawing.nodes}
    return {(names[e.source], names[e.target], e.state) for e in drawing.edges if e.state != "same"}


class OverlayTests(unittest.TestCase):
    """Both versions in one drawing."""

    def test_workflow(self) -> None:
        found = drawn(flows.disruption(), flows.disruption(tide_check=True, approver="harbour master"), "d.bpmn")
        self.assertEqual(states(found), {"Check tide window": "added", "Approve notice": "changed"})
        self.assertEqual(
            courses(found),
            {
                ("Sailing at risk", "Check tide window", "changed"),
                ("Sailing at risk", "Over 30 min late?", "was"),
                ("Check tide window", "Over 30 min late?", "added"),
            },
        )
        self.assertTrue(found.placed)
        self.assertEqual(next(n.detail for n in found.nodes if n.label == "Approve notice"), "harbour master")

    def test_removed_things_are_drawn_where_they_were(self) -> None:
        found = drawn(flows.disruption(shops=True), flows.disruption(), "d.bpmn")
        gone = next(n for n in found.nodes if n.state == "removed")
        self.assertEqual((gone.label, gone.after), ("Notify island shops", None))
        self.assertIsNotNone(gone.before)

    def test_regenerated_ids_are_the_same_steps(self) -> None:
        before = flows.disruption()
        after = before
        for name in ("risk", "late", "draft", "approve", "send", "log", "done", *(f"f{k}" for k in range(1, 8))):
            for old, new in (
                (f'"{name}"', f'"id_{name}"'),
                (f'"{name}_owner"', f'"id_{name}_o"'),
                (f">{name}<", f">id_{name}<"),
            ):
                after = after.replace(old.encode(), new.encode())
        found = drawn(before, after, "d.bpmn")
        self.assertEqual((states(found), courses(found)), ({}, set()))
        self.assertEqual(len(found.nodes), 7)

    def test_pipeline_by_its_sources(self) -> None:
        found = drawn(flows.nightly_cwl(), flows.nightly_cwl(skip_cancelled=True, zones=False), "n.cwl")
        self.assertEqual(states(found), {"skip_cancelled": "added", "zones": "removed"})
        self.assertIn(("skip_cancelled", "join_timetable", "changed"), courses(found))
        self.assertIn(("read_gate_logs", "join_timetable", "was"), courses(found))
        self.assertFalse(found.placed)

    def test_step_renamed_or_in_another_frame_is_drawn_once(self) -> None:
        def graph(name: str) -> bytes:
            nodes = [
                {"id": name, "type": "filter", "rule": "passengers >= 0", "limit": 25},
                {"id": "b", "type": "sink"},
            ]
            return json.dumps({"nodes": nodes, "edges": [{"from": name, "to": "b"}]}).encode()

        found = drawn(graph("first"), graph("start"), "g.json")
        self.assertEqual(sorted(n.label for n in found.nodes), ["b", "start"])
        self.assertEqual([e.state for e in found.edges if e.state == "was"], [])

    def test_very_large_graphs_show_what_changed_and_its_neighbours(self) -> None:
        def graph(title: str) -> bytes:
            nodes = [{"id": f"n{k}", "type": "step", "title": title if k == 900 else f"step {k}"} for k in range(1500)]
            return json.dumps(
                {"nodes": nodes, "edges": [{"from": f"n{k}", "to": f"n{k + 1}"} for k in range(1499)]}
            ).encode()

        found = drawn(graph("a"), graph("b"), "g.json")
        self.assertLessEqual(len(found.nodes), 400)
        self.assertIn("n900", {n.key for n in found.nodes})
        self.assertIn("1100 things", found.note)


class OneVersionTests(unittest.TestCase):
    """One version drawn."""

    def test_every_step_of_a_large_one_is_drawn(self) -> None:
        steps = [{"id": f"s{n}", "run": "x", "depends_on": [f"s{n // 2}"] if n else []} for n in range(3000)]
        found = draw_file(ArtifactSide("g.json", json.dumps({"steps": steps}).encode()), Rules())
        self.assertEqual((len(found.nodes), len(found.edges), found.note), (3000, 2999, ""))

    def test_edges_in_every_form(self) -> None:
        forms = {
            "depends_on": {"steps": [{"id": "a", "run": "x"}, {"id": "b", "depends_on": ["a"]}]},
            "scalar": {"jobs": {"a": {"run": "x"}, "b": {"run": "y", "needs": "a"}}},
            "next": {"steps": [{"id": "a", "next": "b"}, {"id": "b", "run": "y"}]},
            "wires": [{"id": "a", "type": "in", "wires": [["b"]]}, {"id": "b", "type": "out", "wires": []}],
            "edges": {"nodes": [{"id": "a"}, {"id": "b"}], "edges": [{"source": "a", "target": "b"}]},
            "ports": {
                "nodes": [{"id": "a"}, {"id": "b"}],
                "edges": [{"from": {"node": "a", "port": 1}, "to": {"node": "b", "port": 2}}],
            },
        }
        for form, tree in forms.items():
            with self.subTest(form=form):
                found = draw_file(ArtifactSide("g.json", json.dumps(tree).encode()), Rules())
                names = {n.id: n.key for n in found.nodes}
                self.assertEqual([(names[e.source], names[e.target]) for e in found.edges], [("a", "b")])

    def test_what_is_no_graph_has_no_drawing(self) -> None:
        for name, data in (("a.csv", b"a,b\n1,2\n"), ("a.json", b"{}"), ("a.bpmn", b"<definitions"), ("e", b"")):
            self.assertEqual(draw_file(ArtifactSide(name, data), Rules()).nodes, [])

    def test_published_files_are_drawn_and_equal_ones_show_nothing(self) -> None:
        drawings = placed = 0
        for group, suffixes in (("process", (".bpmn", ".dmn")), ("graph", (".json",)), ("pipeline", (".cwl",))):
            for name, data in published(group, suffixes):
                side = ArtifactSide(name.rpartition("/")[2], data)
                found = draw_files(side, ArtifactSide(side.name, data + b"\n"), Rules())
                drawings += bool(found.nodes)
                placed += found.placed
                with self.subTest(file=name):
                    self.assertEqual((states(found), courses(found)), ({}, set()))
                    known = {n.id for n in found.nodes}
                    self.assertLessEqual({end for e in found.edges for end in (e.source, e.target)}, known)
        print(f"    drawn: {drawings} published files, {placed} with places of their own")
        self.assertGreater(drawings, 400)
        self.assertGreater(placed, 150)


if __name__ == "__main__":
    unittest.main()
