"""Origins against truth: histories of hundreds of commits, made by a script that knows who set what."""

from __future__ import annotations

import re
import unittest
from collections.abc import Iterator
from typing import Any

from everyshelf.core.compare.artifact import ArtifactSide
from everyshelf.core.compare.carried import step_between
from everyshelf.core.compare.carried_lines import line_step
from everyshelf.core.formats.archives import open_archive
from everyshelf.core.formats.workbook_files import read_workbook
from everyshelf.core.kinds.reading import read_outline, recognise_file
from everyshelf.core.kinds.rules import parse_rules
from everyshelf.core.origins import lines, trees
from everyshelf.core.origins.sheets import row_place
from everyshelf.core.origins.trees import Node
from everyshelf.core.outline.model import Part
from tests.support.figures import say
from tests.support.known_origins import KINDS, History, Maker, Version
from tests.support.laws import SHARE

_TOKEN = re.compile(r"tok\d+x")
_RULES = parse_rules("")
_COMMITS = 200 if SHARE >= 1 else 90


def _side(version: Version) -> ArtifactSide:
    return ArtifactSide(version.name, version.data)


def _fields(part: Part, node: Node) -> Iterator[tuple[str, int]]:
    for name, value in part.fields.items():
        yield str(value), node.field(name)
    for place, child in enumerate(part.children()):
        yield from _fields(child, node.child(place))


def _told(version: Version, root: Node, kind: str) -> Iterator[tuple[str, int]]:
    """Every value a version holds, and the commit that is said to have set it."""
    if kind == "spreadsheet":
        for sheet_place, sheet in enumerate(read_workbook(open_archive(version.data), "xlsx").sheets):
            for number, row in sheet.rows.items():
                for column, cell in row.items():
                    node = trees.at(root, [sheet_place, row_place(number), column])
                    yield str(cell.value), node.field("value")
        return
    if kind == "archive":
        for place, member in enumerate(open_archive(version.data).values()):
            yield member.read().decode(), root.child(place).field("content")
        return
    outline = read_outline(version.name, version.data, recognise_file(version.name, version.data, _RULES), _RULES)
    yield from _fields(outline.root, root)


def _parts_of(history: History) -> dict[int, Node]:
    known: dict[int, Node] = {}
    for number, version in enumerate(history.versions):
        if not version.parents:
            known[number] = trees.first(number)
            continue
        carried = [
            trees.carried(step_between(_side(history.versions[p]), _side(version), _RULES), known[p], number)
            for p in version.parents
        ]
        known[number] = carried[0] if len(carried) == 1 else trees.combined(carried[0], carried[1], number)
    return known


def _lines_of(history: History) -> dict[int, lines.LineOrigins]:
    known: dict[int, Any] = {}
    texts = [version.data.decode().splitlines() for version in history.versions]
    for number, version in enumerate(history.versions):
        if not version.parents:
            known[number] = lines.first(number, len(texts[number]))
            continue
        carried = [lines.carried(line_step(texts[p], texts[number]), known[p], number) for p in version.parents]
        known[number] = carried[0] if len(carried) == 1 else lines.combined(carried[0], carried[1], number)
    return known


class OriginsAgainstTruth(unittest.TestCase):
    """Every value of every kind, at the end of the history and at every tenth version before it."""

    def check(self, kind: str) -> None:
        write, names = KINDS[kind]
        maker = Maker(write, names, seed=7, moves=kind != "spreadsheet")
        history = maker.made(_COMMITS, 14)
        wrong, looked = [], 0
        known: dict[int, Any] = _lines_of(history) if kind == "lines" else _parts_of(history)
        for number in [*range(0, len(history.versions), 10), len(history.versions) - 1]:
            version, seen = history.versions[number], set()
            if kind == "lines":
                told = zip(version.data.decode().splitlines(), known[number].own.tolist(), strict=True)
            else:
                told = _told(version, known[number], kind)
            for value, origin in told:
                tokens = _TOKEN.findall(value)
                if tokens:
                    seen.update(tokens)
                    looked += 1
                    truth = max(history.written[token] for token in tokens)
                    if origin != truth:
                        wrong.append((number, value[:60], f"told {origin}, is {truth}"))
            written = (
                set(_TOKEN.findall(version.data.decode("latin-1"))) if kind not in ("archive", "spreadsheet") else seen
            )
            self.assertLessEqual(written, seen, "values that no part shows")
        counts = ", ".join(f"{count} {what}s" for what, count in sorted(history.counts.items()))
        say(f"origins of {kind}: {looked} values in {len(history.versions)} commits ({counts}), {len(wrong)} wrong")
        self.assertFalse(wrong[:5], f"{len(wrong)} of {looked}")
        self.assertGreater(looked, 150)

    def test_pipelines(self) -> None:
        self.check("pipeline")

    def test_workflows(self) -> None:
        self.check("workflow")

    def test_notebooks(self) -> None:
        self.check("notebook")

    def test_tests(self) -> None:
        self.check("tests")

    def test_service_descriptions(self) -> None:
        self.check("api")

    def test_settings(self) -> None:
        self.check("settings")

    def test_apps(self) -> None:
        self.check("app")

    def test_archives(self) -> None:
        self.check("archive")

    def test_spreadsheets(self) -> None:
        self.check("spreadsheet")

    def test_models(self) -> None:
        self.check("model")

    def test_lines(self) -> None:
        self.check("lines")
