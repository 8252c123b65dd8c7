"""T14, T16, T17: parsing and comparing two versions of one large document, against merely parsing both."""

from __future__ import annotations

import random
from collections.abc import Iterator
from typing import Any

import orjson
import yaml
from lxml import etree

from bench.measure import Figure, interleave
from everyshelf.core.compare.artifact import ArtifactSide, compare_artifacts

_EDITS = 100


def records(count: int, words: int, seed: int = 1) -> dict[str, Any]:
    """Sailings as a service would export them, nested two deep: 15 nodes each, and a note of 42 times ``words`` bytes."""
    rng = random.Random(seed)
    return {
        "sailings": [
            {
                "id": f"s-{n}",
                "name": f"Sailing {n}",
                "from": rng.choice("ABCDEF"),
                "to": rng.choice("GHIJ"),
                "minutes": rng.randint(10, 90),
                "fare": rng.randint(100, 4000) / 100,
                "note": f"Wind {rng.randint(0, 30)} knots, " + "sea calm, visibility good, crew complete; " * words,
                "stops": [{"port": f"p{k}", "wait": k} for k in range(2)],
            }
            for n in range(count)
        ]
    }


def edited(tree: dict[str, Any], seed: int = 2) -> dict[str, Any]:
    """The same with a hundred fares changed, ten records gone and ten new."""
    rng = random.Random(seed)
    other: dict[str, Any] = orjson.loads(orjson.dumps(tree))
    rows = other["sailings"]
    for n in rng.sample(range(20, len(rows)), _EDITS):
        rows[n]["fare"] += 1
    del rows[:10]
    rows.insert(7, {**rows[0], "id": "brand-new", "name": "Extra"})
    return other


def bpmn(count: int) -> bytes:
    """A process of ``count`` tasks in a row with its drawing, as an editor saves it."""
    parts = [
        '<b:definitions xmlns:b="http://www.omg.org/spec/BPMN/20100524/MODEL" xmlns:d="http://www.omg.org/spec/BPMN/20100524/DI" '
        'xmlns:c="http://www.omg.org/spec/DD/20100524/DC" xmlns:w="http://www.omg.org/spec/DD/20100524/DI" id="defs"><b:process id="p">'
    ]
    parts += [
        f'<b:serviceTask id="t{n}" name="Task {n}"><b:incoming>f{n}</b:incoming><b:outgoing>f{n + 1}</b:outgoing></b:serviceTask>'
        f'<b:sequenceFlow id="f{n + 1}" sourceRef="t{n}" targetRef="t{(n + 1) % count}"/>'
        for n in range(count)
    ]
    parts.append('</b:process><d:BPMNDiagram id="dia"><d:BPMNPlane id="plane" bpmnElement="p">')
    parts += [
        f'<d:BPMNShape id="t{n}_di" bpmnElement="t{n}"><c:Bounds x="{n}" y="{2 * n}" width="100" height="80"/></d:BPMNShape>'
        f'<d:BPMNEdge id="f{n}_di" bpmnElement="f{n + 1}"><w:waypoint x="{n}" y="3"/><w:waypoint x="{n + 5}" y="4"/></d:BPMNEdge>'
        for n in range(count)
    ]
    parts.append("</d:BPMNPlane></d:BPMNDiagram></b:definitions>")
    return "".join(parts).encode()


def _ratio(name: str, what: str, target: float, old: bytes, new: bytes, file: str, parse: object) -> Figure:
    def ours() -> None:
        found = compare_artifacts(ArtifactSide(file, old), ArtifactSide(file, new))
        assert found.findings and not found.read_as

    def rival() -> None:
        parse(old), parse(new)  # type: ignore[operator]

    taken = interleave({"ours": ours, "parsing": rival})
    ratio = taken["ours"] / taken["parsing"]
    detail = f"{taken['ours']:.2f} against {taken['parsing']:.2f} s"
    return Figure(name, what, ratio, f"<= {target}", ratio <= target, detail)


def meaning() -> Iterator[Figure]:
    """All three, one after the other."""
    tree = records(10_000, 16)
    old, new = (orjson.dumps(t, option=orjson.OPT_INDENT_2) for t in (tree, edited(tree)))
    yield _ratio(
        "T14", f"JSON, {len(old) / 1e6:.0f} MB: parse, compare, against orjson", 2.5, old, new, "s.json", orjson.loads
    )
    tree = records(14_500, 4)
    old, new = (yaml.dump(t, Dumper=yaml.CSafeDumper).encode() for t in (tree, edited(tree)))
    what = f"YAML, {len(old) / 1e6:.0f} MB: parse, compare, against PyYAML in C"
    yield _ratio("T16", what, 2.0, old, new, "s.yaml", lambda data: yaml.load(data, yaml.CSafeLoader))
    old = bpmn(24_000)
    new = old.replace(b'name="Task 77"', b'name="Job 77"').replace(b'x="500"', b'x="501"')
    what = f"BPMN, {len(old) / 1e6:.0f} MB: parse, compare, against lxml"
    yield _ratio("T17", what, 4.0, old, new, "s.bpmn", etree.fromstring)
