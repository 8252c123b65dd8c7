"""Tests: Gherkin features in any language, result files in the JUnit form, and one-file test projects."""

from __future__ import annotations

from typing import Any

from everyshelf.core.formats.xml import Element
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
    },
    derived=frozenset({"tests", "failures", "errors", "skipped_count", "assertions_count", "disabled"}),
    cosmetic_types=frozenset({"output"}),
    cosmetic_fields=frozenset(
        {
            "time",
            "timestamp",
            "hostname",
            "duration",
            "description",
            "language",
            "comment",
            "keyword",
            "file",
            "line",
            "id",
        }
    ),
    unordered=frozenset({"suite", "case", "scenario", "rule", "property", "tag"}),
    identity={"case": ("classname", "name")},
    follows={"message": "status", "failure type": "status"},
    judge=_judge,
)
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
            for item in child.children:
                name = item.attributes.get("name", "")
                children.append(maker.part("property", name, name, {"value": item.attributes.get("value", item.text)}))
        elif child.name in ("system-out", "system-err"):
            children.append(maker.part("output", child.name, child.name, {"text": child.text}))
        else:
            children.append(shape.part(child))
    name = fields.pop("name", "") or fields.get("package") or f"suite {place}"
    fields["package"] = fields.get("package") or None
    return maker.part("suite", name, name, fields, children)


def _case(case: Element, maker: Maker) -> Part:
    given = case.attributes
    name = given.get("name", "")
    identity = f"{given['classname']}.{name}" if given.get("classname") else name
    fields: dict[str, Any] = {k: v for k, v in given.items() if k not in ("name", "classname")}
    fields["status"] = next((_OUTCOMES[c.name] for c in case.children if c.name in _OUTCOMES), None) or (
        "skipped" if given.get("status") in ("skipped", "notrun", "disabled") else "passed"
    )
    children = []
    for child in case.children:
        if child.name in _OUTCOMES:
            fields["message"] = child.attributes.get("message") or child.text.split("\n")[0] or None
            fields["failure type"] = child.attributes.get("type")
        elif child.name in ("system-out", "system-err"):
            children.append(maker.part("output", child.name, child.name, {"text": child.text}))
    return maker.part("case", identity, identity, fields, children)
