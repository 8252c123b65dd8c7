"""Tests: Gherkin features in any language, result files in the JUnit form, and one-file test projects."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from everyshelf.core.formats.xml import Element
from everyshelf.core.kinds.cosmetic import Cosmetic, prose
from everyshelf.core.kinds.maker import Maker
from everyshelf.core.kinds.shapes import XmlShape
from everyshelf.core.kinds.table import KindTable
from everyshelf.core.outline.model import Effect, Part


def _judge(action: str, part: Part, field: str | None, before: Any, after: Any) -> Effect | None:
    """A case that fails now and did not before breaks; one that is new and fails does too."""
    if part.type == "case" and field == "status" and after in ("failed", "error"):
        return "breaks" if before not in ("failed", "error") else "alters"
    if part.type == "case" and field is None and action == "added" and part.fields.get("status") in ("failed", "error"):
        return "breaks"
    return None


TABLE = KindTable(
    id="tests",
    types={
        "testsuite": "suite",
        "testcase": "case",
        "suites": "suite",
        "cases": "case",
        "testCases": "case",
        "test_cases": "case",
        "scenarios": "scenario",
        "tests": "case",
        "item": "case",
        "commands": "step",
        "steps": "step",
        "assertions": "assertion",
        "system-out": "output",
        "system-err": "output",
    },
    derived=dict.fromkeys(
        ("tests", "failures", "errors", "skipped_count", "assertions_count", "disabled"), "counts of the cases below"
    ),
    cosmetic_types=(Cosmetic(frozenset({"output"}), "what a run printed", made=True),),
    cosmetic_fields=(
        Cosmetic(
            frozenset({"time", "timestamp", "hostname", "duration"}), "when, where and how long it ran", made=True
        ),
        Cosmetic(frozenset({"file", "line"}), "where the case stands in its source", made=True),
        Cosmetic(frozenset({"id"}), "made by the program; cases are known by class and name", made=True),
        Cosmetic(frozenset({"keyword", "language"}), "the same step in other words of the grammar"),
        prose("description", "comment"),
    ),
    unordered=frozenset({"suite", "case", "scenario", "rule", "property", "tag"}),
    identity={"case": ("classname", "name")},
    follows={"message": "status", "failure type": "status", "failure text": "status"},
    judge=_judge,
)
_PRINTED = ("system-out", "system-err")
_OUTCOMES = {"failure": "failed", "error": "error", "skipped": "skipped", "rerunFailure": "failed"}


def read_gherkin(text: str, table: KindTable) -> Part:
    """The root part of a feature; scenarios are keyed by title within their rule, steps stand in order."""
    # Imported late: the grammar's keywords of all languages take a while to load.
    from everyshelf.core.formats.gherkin import parse_gherkin

    feature = parse_gherkin(text)
    maker = Maker(table)
    part = _group(feature, "tests", maker)
    part.key = ""
    return part


def _tags(node: dict[str, Any]) -> str | None:
    return " ".join(sorted(t["name"] for t in node.get("tags", []))) or None


def _prose(node: dict[str, Any]) -> str | None:
    return "\n".join(line.strip() for line in str(node.get("description") or "").splitlines()).strip() or None


def _group(node: dict[str, Any], part_type: str, maker: Maker) -> Part:
    """A feature or a rule with its background, scenarios and rules."""
    children = []
    for child in node.get("children", []):
        if "background" in child:
            background = child["background"]
            steps = [_step(s, maker) for s in background["steps"]]
            fields = {"name": background["name"] or None, "description": _prose(background)}
            children.append(maker.part("background", background["name"] or "background", "background", fields, steps))
        elif "rule" in child:
            children.append(_group(child["rule"], "rule", maker))
        elif "scenario" in child:
            children.append(_scenario(child["scenario"], maker))
    fields = {"tags": _tags(node), "description": _prose(node)}
    if part_type == "tests":
        fields |= {"name": node["name"], "language": node.get("language")}
    return maker.part(part_type, node["name"], node["name"], fields, children)


def _scenario(scenario: dict[str, Any], maker: Maker) -> Part:
    children = [_step(s, maker) for s in scenario["steps"]]
    children += [_examples(e, place, maker) for place, e in enumerate(scenario.get("examples", []), 1)]
    fields = {"tags": _tags(scenario), "description": _prose(scenario)}
    return maker.part("scenario", scenario["name"], scenario["name"] or "unnamed", fields, children)


def _step(step: dict[str, Any], maker: Maker) -> Part:
    sort = {"Context": "given", "Action": "when", "Outcome": "then", "Conjunction": "and"}.get(
        step.get("keywordType", "")
    )
    fields: dict[str, Any] = {"sort": sort, "text": step["text"], "keyword": step["keyword"].strip()}
    children = []
    if "docString" in step:
        text = step["docString"]
        fields["doc string"] = text["content"]
        fields["media type"] = text.get("mediaType")
    if "dataTable" in step:
        children = _rows(step["dataTable"]["rows"], maker)
    return maker.part("step", step["keyword"] + step["text"], None, fields, children, anonymous=True)


def _rows(rows: list[dict[str, Any]], maker: Maker) -> list[Part]:
    cells = [[cell["value"] for cell in row["cells"]] for row in rows]
    return [
        maker.part("row", " | ".join(row), None, {f"column {k}": value for k, value in enumerate(row, 1)})
        for row in cells
    ]


def _examples(examples: dict[str, Any], place: int, maker: Maker) -> Part:
    """Rows whose fields are the columns of the header."""
    header = [cell["value"] for cell in (examples.get("tableHeader") or {"cells": []})["cells"]]
    rows = []
    for row in examples.get("tableBody") or []:
        values = [cell["value"] for cell in row["cells"]]
        rows.append(maker.part("row", " | ".join(values), None, dict(zip(header, values, strict=False))))
    name = examples["name"] or f"examples {place}"
    fields = {"tags": _tags(examples), "columns": " | ".join(header) or None, "description": _prose(examples)}
    return maker.part("examples", name, name, fields, rows)


def read_results(root: Element, table: KindTable) -> Part:
    """The root part of a result file in the JUnit form; cases by class and name, with one status each."""
    maker = Maker(table)
    suites = [root] if root.name == "testsuite" else [c for c in root.children if c.name == "testsuite"]
    children = [_suite(s, place, maker) for place, s in enumerate(suites, 1)]
    if root.name != "testsuite":
        children += [_case(c, maker) for c in root.children if c.name == "testcase"]
        shape = XmlShape(table)
        children += [shape.part(c) for c in root.children if c.name not in ("testsuite", "testcase")]
    fields = dict(root.attributes) if root.name != "testsuite" else {}
    return maker.part("tests", root.attributes.get("name", "results"), "", fields, children)


def _suite(suite: Element, place: int, maker: Maker) -> Part:
    children: list[Part] = []
    fields: dict[str, Any] = dict(suite.attributes)
    shape = XmlShape(maker.table)
    for child in suite.children:
        if child.name == "testcase":
            children.append(_case(child, maker))
        elif child.name == "testsuite":
            children.append(_suite(child, len(children) + 1, maker))
        elif child.name == "properties":
            children += _properties(child, maker, shape)
        elif child.name in _PRINTED:
            children.append(maker.part("output", child.name, child.name, {"text": child.text}))
        else:
            children.append(shape.part(child))
    name = fields.pop("name", "") or fields.get("package") or f"suite {place}"
    fields["package"] = fields.get("package") or None
    fields.pop("skipped", None)  # a count of the cases below
    return maker.part("suite", name, name, fields, children)


def _properties(holder: Element, maker: Maker, shape: XmlShape) -> Iterator[Part]:
    for item in holder.children:
        if item.name == "property" and not item.children:
            name = item.attributes.get("name", "")
            fields = {k: v for k, v in item.attributes.items() if k != "name"}
            yield maker.part("property", name, name, {**fields, "text": item.text or None})
        else:
            yield shape.part(item)


def _case(case: Element, maker: Maker) -> Part:
    given = case.attributes
    name = given.get("name", "")
    identity = f"{given['classname']}.{name}" if given.get("classname") else name
    fields: dict[str, Any] = {k: v for k, v in given.items() if k not in ("name", "classname")}
    fields["status"] = next((_OUTCOMES[c.name] for c in case.children if c.name in _OUTCOMES), None) or (
        "skipped" if given.get("status") in ("skipped", "notrun", "disabled") else "passed"
    )
    children: list[Part] = []
    shape = XmlShape(maker.table)
    told = False
    for child in case.children:
        if child.name in _OUTCOMES and not told and not child.children:
            told = True
            given = child.attributes
            fields["message"] = given.get("message") or child.text.split("\n")[0] or None
            fields["failure type"] = given.get("type")
            fields["failure text"] = child.text if child.text != fields["message"] else None
            fields |= {f"failure {k}": v for k, v in given.items() if k not in ("message", "type")}
        elif child.name in _PRINTED:
            children.append(maker.part("output", child.name, child.name, {"text": child.text}))
        elif child.name == "properties":
            children += _properties(child, maker, shape)
        else:
            children.append(shape.part(child))
    return maker.part("case", identity, identity, fields, children)
