"""Histories of which is known who set what: made by scripts that use nothing of ours.

A document is a list of units with values. Every value holds a token that is written once, so the commit that wrote the
token is the truth about whoever set the value. Commits change, add, remove and move units, write the same document in
another form, give new ids; branches are merged by this script, which knows what each side did.
"""

from __future__ import annotations

import copy
import io
import json
import random
import struct
import zipfile
from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any
from xml.sax.saxutils import escape

import openpyxl
import yaml

FIELDS = ("command", "limit", "owner")


@dataclass
class Unit:
    """A step, task, cell, scenario, row or tensor: its name, which it keeps, and its values."""

    name: str
    values: dict[str, str]


@dataclass
class Document:
    """What a file says, and how it is written at the moment."""

    units: list[Unit] = field(default_factory=list)
    style: int = 0
    ids: int = 0


@dataclass
class Version:
    """A commit: the file, and the numbers of the commits it was made of."""

    data: bytes
    parents: list[int]
    name: str
    tokens: set[str] = field(default_factory=set)


@dataclass
class History:
    """Commits by number, and which commit wrote each token."""

    versions: list[Version] = field(default_factory=list)
    written: dict[str, int] = field(default_factory=dict)
    counts: dict[str, int] = field(default_factory=dict)


Write = Callable[[Document, int], bytes]


class Maker:
    """Makes one history."""

    def __init__(self, write: Write, names: tuple[str, ...], seed: int, *, moves: bool = True) -> None:
        self._write, self._names, self._moves = write, names, moves
        self._random = random.Random(seed)
        self._next = 0
        self.history = History()

    def _token(self, commit: int) -> str:
        self._next += 1
        token = f"tok{self._next}x"
        self.history.written[token] = commit
        return token

    def _value(self, commit: int) -> str:
        words = self._random.sample(["ferry", "quay", "tide", "berth", "crew", "sail", "pier", "buoy"], 2)
        return f"{words[0]} {self._token(commit)} {words[1]}"

    def _unit(self, commit: int) -> Unit:
        name = f"u{self._next}n"
        return Unit(name, {key: self._value(commit) for key in FIELDS})

    def made(self, commits: int, units: int) -> History:
        """A history of so many commits, about every eighth a merge."""
        first = Document([self._unit(0) for _ in range(units)])
        self._commit(first, [])
        here, number = first, 0
        while number < commits - 1:
            if self._random.random() < 0.06 and number < commits - 8:
                here, number = self._merged(here, number)
                continue
            here = copy.deepcopy(here)
            self._act(here, len(self.history.versions), set())
            number = self._commit(here, [number])
        return self.history

    def _count(self, what: str) -> None:
        self.history.counts[what] = self.history.counts.get(what, 0) + 1

    def _commit(self, document: Document, parents: list[int]) -> int:
        number = len(self.history.versions)
        data = self._write(document, number)
        name = self._names[document.style % len(self._names)]
        tokens = {
            part for unit in document.units for v in unit.values.values() for part in v.split() if part[:3] == "tok"
        }
        self.history.versions.append(Version(data, parents, name, tokens))
        return number

    def _merged(self, base: Document, number: int) -> tuple[Document, int]:
        """Two lines that touch other units, and the merge of both."""
        names = [unit.name for unit in base.units]
        self._random.shuffle(names)
        halves = [set(names[: len(names) // 2]), set(names[len(names) // 2 :])]
        sides, heads = [copy.deepcopy(base), copy.deepcopy(base)], [number, number]
        for place in (0, 1):
            for _ in range(self._random.randint(1, 3)):
                sides[place] = copy.deepcopy(sides[place])
                self._act(sides[place], len(self.history.versions), halves[1 - place], plain=True)
                heads[place] = self._commit(sides[place], [heads[place]])
        other = {unit.name: unit for unit in sides[1].units}
        known = {unit.name for unit in base.units}
        mine = {unit.name for unit in sides[0].units}
        merged = copy.deepcopy(sides[0])
        merged.units = [
            copy.deepcopy(other.get(unit.name, unit)) if unit.name in halves[1] else unit
            for unit in merged.units
            if unit.name in other or unit.name not in known
        ]
        merged.units += [copy.deepcopy(u) for u in sides[1].units if u.name not in known and u.name not in mine]
        self._count("merge")
        return merged, self._commit(merged, heads)

    def _act(self, document: Document, commit: int, kept: set[str], *, plain: bool = False) -> None:
        """One to three edits of one commit, never of the units that are ``kept``."""
        for _ in range(self._random.randint(1, 3)):
            free = [unit for unit in document.units if unit.name not in kept]
            sort = self._random.random()
            if sort < 0.55 and free:
                unit = self._random.choice(free)
                unit.values[self._random.choice(FIELDS)] = self._value(commit)
                self._count("change")
            elif sort < 0.7:
                place = self._random.randint(0, len(document.units)) if not plain else len(document.units)
                document.units.insert(place, self._unit(commit))
                self._count("addition")
            elif sort < 0.78 and len(free) > 6:
                document.units.remove(self._random.choice(free))
                self._count("removal")
            elif sort < 0.86 and self._moves and not plain and len(document.units) > 3:
                unit = document.units.pop(self._random.randrange(len(document.units)))
                document.units.insert(self._random.randint(0, len(document.units)), unit)
                self._count("move")
            elif sort < 0.93 and not plain:
                document.style += 1
                self._count("reformatting")
            elif not plain:
                document.ids += 1
                self._count("new set of id")


# --- how each kind is written ----------------------------------------------------


def _tree(document: Document) -> dict[str, Any]:
    steps = [{"id": unit.name, **unit.values, "after": [document.units[0].name]} for unit in document.units]
    return {"pipeline": "nightly", "steps": steps}


def pipeline(document: Document, commit: int) -> bytes:
    """Steps, as JSON of two layouts or as YAML."""
    style = document.style % 3
    if style == 2:
        return yaml.safe_dump(_tree(document), sort_keys=False).encode()
    return json.dumps(_tree(document), indent=None if style else 2).encode()


def workflow(document: Document, commit: int) -> bytes:
    """BPMN: tasks from one gateway, all with new ids whenever ids are given anew."""
    salt = f"{document.ids:x}"

    def made(name: str) -> str:
        rng = random.Random(f"{name}/{salt}")
        return f"Activity_{rng.randrange(16**7):07x}"

    space = "\n    " if document.style % 2 else "\n"
    tasks = "".join(
        f'{space}<serviceTask id="{made(u.name)}" name="{u.name}" implementation="{escape(u.values["command"])}">'
        f"<documentation>made</documentation></serviceTask>"
        f'{space}<sequenceFlow id="{made("f" + u.name)}" sourceRef="{made("start")}" targetRef="{made(u.name)}">'
        f"<conditionExpression>{escape(u.values['limit'])}</conditionExpression></sequenceFlow>"
        for u in document.units
    )
    return (
        '<?xml version="1.0"?><definitions xmlns="http://www.omg.org/spec/BPMN/20100524/MODEL">'
        f'<process id="p" isExecutable="true">{space}<startEvent id="{made("start")}" name="begin"/>{tasks}'
        "</process></definitions>"
    ).encode()


def notebook(document: Document, commit: int) -> bytes:
    """Cells without ids; outputs and counts change whenever the form does."""
    cells = [
        {
            "cell_type": "code",
            "metadata": {},
            "execution_count": document.style,
            "outputs": [{"output_type": "stream", "name": "stdout", "text": [f"run {document.style}\n"]}],
            "source": [
                f"# {u.name}\n",
                *(f"{u.name}_{key} = '{u.values[key]}'\n" for key in FIELDS),
                f"show({u.name}_command)",
            ],
        }
        for u in document.units
    ]
    kernel = {"kernelspec": {"name": "python3", "language": "python", "display_name": "Python"}}
    form = {"cells": cells, "metadata": kernel, "nbformat": 4, "nbformat_minor": 4}
    return json.dumps(form, indent=1 if document.style % 2 else None).encode()


def scenarios(document: Document, commit: int) -> bytes:
    """A feature with one scenario for each unit, one step for each value."""
    indent = "    " if document.style % 2 else "  "
    words = ("Given", "When", "Then")
    told = "".join(
        f"\n{indent}Scenario: {u.name}\n"
        + "".join(f"{indent * 2}{word} {u.values[key]}\n" for word, key in zip(words, FIELDS, strict=True))
        for u in document.units
    )
    return f"Feature: Berths\n{told}".encode()


def description(document: Document, commit: int) -> bytes:
    """An OpenAPI document with one path for each unit, as JSON or YAML."""
    paths = {
        f"/{u.name}": {"get": {"x-owner": u.values["owner"], "responses": {"200": {"x-limit": u.values["limit"]}}}}
        for u in document.units
    }
    form = {"openapi": "3.0.3", "info": {"title": "Berths", "version": "1"}, "paths": paths}
    return yaml.safe_dump(form, sort_keys=False).encode() if document.style % 2 else json.dumps(form).encode()


def settings(document: Document, commit: int) -> bytes:
    """TOML with a table for each unit."""
    gap = "  " if document.style % 2 else ""
    return "\n".join(
        f"[{u.name}]\n" + "".join(f'{gap}{key} = "{value}"\n' for key, value in u.values.items())
        for u in document.units
    ).encode()


def app(document: Document, commit: int) -> bytes:
    """Screens with controls."""
    screens = [
        {
            "name": u.name,
            "type": "screen",
            "controls": [
                {"name": f"{u.name}_{key}", "type": "label", "properties": {"Text": f'="{u.values[key]}"'}}
                for key in FIELDS
            ],
        }
        for u in document.units
    ]
    form = {"app": "Gangway", "version": commit, "screens": screens, "dataSources": []}
    return json.dumps(form, indent=2 if document.style % 2 else None).encode()


def script(document: Document, commit: int) -> bytes:
    """Python functions, told by lines."""
    gap = " " * (8 if document.style % 2 else 4)
    return "\n\n".join(
        f"def {u.name}():\n" + "".join(f"{gap}{u.name}_{key} = '{value}'\n" for key, value in u.values.items())
        for u in document.units
    ).encode()


def archive(document: Document, commit: int) -> bytes:
    """A zip with a member for each unit; compressed or not."""
    file = io.BytesIO()
    with zipfile.ZipFile(file, "w", zipfile.ZIP_DEFLATED if document.style % 2 else zipfile.ZIP_STORED) as made:
        for u in document.units:
            made.writestr(f"{u.name}.txt", u.values["command"])
    return file.getvalue()


def workbook(document: Document, commit: int) -> bytes:
    """A sheet with a row for each unit below a row of heads."""
    book = openpyxl.Workbook()
    sheet = book.active
    assert sheet is not None
    sheet.title = "Berths"
    sheet.append(["name", *FIELDS])
    for u in document.units:
        sheet.append([u.name, *(u.values[key] for key in FIELDS)])
    if document.style % 2:
        sheet.column_dimensions["A"].width = 30
    file = io.BytesIO()
    book.save(file)
    return file.getvalue()


def tensors(document: Document, commit: int) -> bytes:
    """Safetensors: a tensor for each unit; its metadata holds the values."""
    head: dict[str, Any] = {"__metadata__": {f"{u.name}.{k}": v for u in document.units for k, v in u.values.items()}}
    body = b""
    for u in document.units:
        data = struct.pack("<4f", *(float(sum(map(ord, u.name)) % 7 + k) for k in range(4)))
        head[u.name] = {"dtype": "F32", "shape": [4], "data_offsets": [len(body), len(body) + 16]}
        body += data
    told = json.dumps(head).encode()
    return struct.pack("<Q", len(told)) + told + body


def table(document: Document, commit: int) -> bytes:
    """A delimited table keyed by name."""
    mark = ";" if document.style % 2 else ","
    lines = [mark.join(["name", *FIELDS])]
    lines += [mark.join([u.name, *(u.values[key] for key in FIELDS)]) for u in document.units]
    return ("\n".join(lines) + "\n").encode()


KINDS: dict[str, tuple[Write, tuple[str, ...]]] = {
    "pipeline": (pipeline, ("p.json", "p.json", "p.yaml")),
    "workflow": (workflow, ("w.bpmn",)),
    "notebook": (notebook, ("n.ipynb",)),
    "tests": (scenarios, ("t.feature",)),
    "api": (description, ("a.json", "a.yaml")),
    "settings": (settings, ("s.toml",)),
    "app": (app, ("app.json",)),
    "archive": (archive, ("z.zip",)),
    "spreadsheet": (workbook, ("b.xlsx",)),
    "model": (tensors, ("m.safetensors",)),
    "lines": (script, ("s.py",)),
}
