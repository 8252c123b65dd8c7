"""The law of findings: whatever is changed alone in a file somebody published, and is not on the kind's written list of
what is cosmetic or derived, gives a finding that is not cosmetic and shows it.

Changes are made by general parsers (tests/support/one_change.py). Each test prints how many there were.
"""

from __future__ import annotations

import itertools
import json
import random
import unittest
from collections import Counter
from collections.abc import Callable, Iterator
from typing import Any

import yaml
from lxml import etree

from everyshelf.core.kinds.plurals import singular
from everyshelf.core.kinds.registry import kind_for
from everyshelf.core.kinds.table import KindTable
from tests.support.factories import compared
from tests.support.figures import say
from tests.support.one_change import MARK, Change, sample_of_data, sample_of_xml
from tests.support.published import published

Made = Iterator[tuple[bytes, bytes, Change]]


class PlainYaml(yaml.CSafeLoader):
    """YAML without dates, which JSON cannot hold."""


PlainYaml.yaml_implicit_resolvers = {
    first: [(tag, pattern) for tag, pattern in found if not tag.endswith("timestamp")]
    for first, found in yaml.CSafeLoader.yaml_implicit_resolvers.items()
}


def data_changes(name: str, data: bytes, rng: random.Random, most: int) -> Made:
    is_json = name.endswith((".json", ".ipynb", ".side"))
    tree = json.loads(data) if is_json else yaml.load(data, PlainYaml)
    base = json.dumps(tree).encode()
    if not isinstance(tree, dict | list):
        return
    for new, change in sample_of_data(tree, rng, most):
        yield base, json.dumps(new).encode(), change


def xml_changes(name: str, data: bytes, rng: random.Random, most: int) -> Made:
    root = etree.fromstring(data)
    base = etree.tostring(root)
    for new, change in sample_of_xml(root, rng, most):
        yield base, etree.tostring(new), change


def _is_listed(change: Change, table: KindTable) -> bool:
    """Whether the kind's list, or the list for all kinds, says that the place is cosmetic or derived."""
    names = [str(step).partition(":")[0] for step in change.path if isinstance(step, str)]
    known = {n for e in (*table.cosmetic_fields, *table.cosmetic_types) for n in e.names} | set(table.derived)
    types = {t for n in names for t in (n, table.types.get(n, n), singular(n))}
    if change.name in known or types & {n for e in table.cosmetic_types for n in e.names}:
        return True
    if change.sort == "order":
        held = table.types.get(change.name) or singular(change.name)
        if not change.name:
            held = "step" if table.id == "workflow" else held  # a list of nodes is all of the file
        return table.is_unordered(held) or change.detail in ("names", "named", "blank")
    if change.sort in ("removed", "key", "attribute removed", "tag") and _is_empty(change.before):
        return True
    if change.sort == "removed" and change.detail == "blank":
        return True
    if change.name == "required" and change.before is False:
        return change.sort in ("removed", "key")
    return "id" in (change.name, *names[-1:])


def _is_empty(value: Any) -> bool:
    if isinstance(value, dict | list):
        return all(map(_is_empty, value.values() if isinstance(value, dict) else value))
    return value in (None, "", "null")


class OneChange(unittest.TestCase):
    """One test per sort of file."""

    def walk(
        self,
        title: str,
        group: str,
        suffixes: tuple[str, ...],
        changes: Callable[[str, bytes, random.Random, int], Made],
        most: int = 5,
        listed: Callable[[Change], bool] = lambda change: False,
    ) -> None:
        rng = random.Random(11)
        files = told = silent = elsewhere = 0
        excused: Counter[str] = Counter()
        for name, data in published(group, suffixes):
            short = name.rpartition("/")[2]
            try:
                made = list(itertools.islice(changes(short, data, rng, most), most))
            except (ValueError, yaml.YAMLError, etree.LxmlError, RecursionError, TypeError):
                continue  # broken on purpose, which other people's tests are full of
            files += 1
            for before, after, change in made:
                found = compared(before, after, short)
                if found["read_as"] in ("text", "bytes"):
                    continue
                real = [f for f in found["findings"] if f["effect"] != "cosmetic"]
                if real:
                    told += 1
                    elsewhere += found["kind"] != "dataset" and not _shows(change, real)  # cells are paged apart
                    continue
                table = kind_for(found["kind"]).table
                is_listed = found["kind"] == "dataset" or listed(change) or _is_listed(change, table)
                silent += not is_listed
                excused[change.name] += is_listed
                with self.subTest(file=name, change=change):
                    self.assertTrue(is_listed, f"{found['kind']}: nothing that counts was found")
        most_excused = ", ".join(f"{name} {count}" for name, count in excused.most_common(4))
        say(
            f"{title}: {files} files, {told} single changes told, {excused.total()} on the list ({most_excused}), "
            f"{silent} unseen, {elsewhere} told without showing them"
        )
        self.assertGreater(told, 20)
        self.assertLessEqual(elsewhere, told * 0.05)

    def test_pipelines(self) -> None:
        # The options of a type, and what a step gives, have no order.
        def has_no_order(change: Change) -> bool:
            return change.sort == "order" and change.name in ("type", "out", "items")

        self.walk("CWL", "pipeline", (".cwl",), data_changes, most=3, listed=has_no_order)

    def test_processes(self) -> None:
        self.walk("BPMN", "process", (".bpmn",), xml_changes, most=40)

    def test_decisions(self) -> None:
        self.walk("DMN", "process", (".dmn",), xml_changes, most=60)

    def test_graphs(self) -> None:
        self.walk("graphs", "graph", (".json",), data_changes)

    def test_forms(self) -> None:
        self.walk("apps in XML", "app", (".ui", ".glade"), xml_changes, most=10)

    def test_apps(self) -> None:
        def names_a_body(change: Change) -> bool:
            return change.name == "name" and change.before == "body"  # a service description is among them

        self.walk("apps and settings in JSON", "app", (".json",), data_changes, most=20, listed=names_a_body)
        self.walk("apps and settings in YAML", "app", (".yml",), data_changes)

    def test_notebooks(self) -> None:
        self.walk("notebooks", "notebook", (".ipynb",), data_changes, most=15)

    def test_test_projects(self) -> None:
        self.walk("test projects", "projects", (".side", ".yaml", "collection.json"), data_changes, most=12)

    def test_results(self) -> None:
        self.walk("results", "results", (".xml",), xml_changes, most=25)

    def test_service_descriptions(self) -> None:
        def is_listed(change: Change) -> bool:
            above = change.path[-2:-1]
            names_schema = change.sort == "key" and above in (("schemas",), ("definitions",), ("$defs",))
            return names_schema or "consumes" in change.path

        self.walk("service descriptions", "api", (".yaml", ".yml"), data_changes, most=12, listed=is_listed)


def _shows(change: Change, findings: list[dict[str, Any]]) -> bool:
    """Whether the findings hold the new value, something of the old one, or a name on the way to the place."""
    said = json.dumps(findings, ensure_ascii=False).lower()
    if change.sort == "value" and isinstance(change.after, str):
        return MARK.lower() in said
    names = [s for s in change.path if isinstance(s, str)]
    wanted = [str(v).strip() for v in (*_leaves(change.after), *_leaves(change.before), *names)]
    return any(w and json.dumps(w, ensure_ascii=False)[1:-1].lower() in said for w in wanted)


def _leaves(value: Any) -> Iterator[str]:
    if isinstance(value, dict | list):
        yield from value if isinstance(value, dict) else ()
        for child in value.values() if isinstance(value, dict) else value:
            yield from _leaves(child)
    elif isinstance(value, bytes):
        for element in etree.fromstring(value.strip()).iter(etree.Element):
            yield from (*map(str, element.attrib.values()), (element.text or "").strip())
    elif value is not None:
        yield str(value)


class TypesOfElements(unittest.TestCase):
    """An element made another of the same family."""

    FAMILIES = (
        ("task", "userTask", "serviceTask", "scriptTask", "sendTask", "receiveTask", "manualTask", "businessRuleTask"),
        ("startEvent", "endEvent", "intermediateCatchEvent", "intermediateThrowEvent"),
        ("exclusiveGateway", "parallelGateway", "inclusiveGateway", "eventBasedGateway", "complexGateway"),
        ("messageEventDefinition", "signalEventDefinition", "errorEventDefinition"),
        ("dataObject", "dataObjectReference", "dataStoreReference"),
    )

    def test_every_element_of_every_published_process(self) -> None:
        tried = 0
        for name, data in published("process", (".bpmn",)):
            try:
                root = etree.fromstring(data)
            except etree.LxmlError:
                continue
            before = etree.tostring(root)
            for element in root.iter(etree.Element):
                space, _, local = element.tag.rpartition("}")
                family = next((f for f in self.FAMILIES if local in f), ())
                for other in [f for f in family if f != local][:2]:
                    element.tag = f"{space}}}{other}" if space else other
                    found = compared(before, etree.tostring(root), "process.bpmn")
                    element.tag = f"{space}}}{local}" if space else local
                    tried += 1
                    with self.subTest(file=name, was=local, now=other):
                        real = [f for f in found["findings"] if f["effect"] != "cosmetic"]
                        self.assertTrue(real)
        say(f"types of elements: {tried} changed, all told")
        self.assertGreater(tried, 300)
