"""How the work grows with the size of a file, for every kind: the exponent e of work ~ size^e."""

from __future__ import annotations

import io
import json
import math
import random
import sqlite3
import struct
import tempfile
import time
import zipfile
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

from PIL import Image

from bench.measure import Figure
from everyshelf.core.compare.artifact import ArtifactSide, compare_artifacts

LIMIT = 1.2
Make = Callable[..., bytes]


def _notebook(count: int, *, after: bool) -> bytes:
    cells: list[dict[str, Any]] = [
        {
            "cell_type": "code",
            "metadata": {},
            "execution_count": None,
            "outputs": [],
            "source": f"depth_{n} = load({n})\nplot(depth_{n})",
        }
        for n in range(count)
    ]
    if after:
        random.Random(7).shuffle(cells)
    return json.dumps({"nbformat": 4, "nbformat_minor": 4, "metadata": {}, "cells": cells}).encode()


def _graph(count: int, *, after: bool) -> bytes:
    nodes = [
        {
            "id": f"n{n}",
            "type": "function",
            "name": f"step {n}",
            "func": f"return {n + after};",
            "wires": [[f"n{n + 1}"]],
        }
        for n in range(count)
    ]
    nodes[-1]["wires"] = [[]]
    return json.dumps(nodes[::-1] if after else nodes).encode()


def _pipeline(count: int, *, after: bool) -> bytes:
    steps = "".join(
        f"  step_{n}:\n    run: tool_{n + after}.cwl\n    in: {{tide: step_{n - 1}/out}}\n    out: [out]\n"
        for n in range(1, count + 1)
    )
    return f"cwlVersion: v1.2\nclass: Workflow\ninputs: {{}}\noutputs: {{}}\nsteps:\n{steps}".encode()


def _settings(count: int, *, after: bool) -> bytes:
    named = {f"berth_{n}": {"depth": n + after, "open": True, "ports": [n, n + 1]} for n in range(count)}
    return json.dumps(named, indent=1, sort_keys=after).encode()


def _yaml(count: int, *, after: bool) -> bytes:
    return "".join(f"berth_{n}:\n  depth: {n + after}\n  open: true\n" for n in range(count)).encode()


def _api(count: int, *, after: bool) -> bytes:
    answer = {"content": {"application/json": {"schema": {"type": "string" if after else "integer"}}}}
    paths = {f"/berths/{n}": {"get": {"operationId": f"berth{n}", "responses": {"200": answer}}} for n in range(count)}
    return json.dumps({"openapi": "3.0.3", "info": {"title": "Berths", "version": "1"}, "paths": paths}).encode()


def _app(count: int, *, after: bool) -> bytes:
    controls = [
        {
            "id": f"c{n}",
            "type": "button",
            "name": f"Button{n}",
            "properties": {"OnSelect": f"Navigate(Screen{n + after})"},
        }
        for n in range(count)
    ]
    return json.dumps({"screens": [{"name": "Main", "controls": controls}], "variables": []}).encode()


def _feature(count: int, *, after: bool) -> bytes:
    told = [
        f"  Scenario: Sailing {n}\n    Given {n} passengers\n    Then {n + after} are aboard\n" for n in range(count)
    ]
    return ("Feature: Boarding\n\n" + "\n".join(told[::-1] if after else told)).encode()


def _results(count: int, *, after: bool) -> bytes:
    failed = '<failure message="late"/>' if after else ""
    cases = "".join(f'<testcase classname="fares" name="case {n}" time="0.1">{failed}</testcase>' for n in range(count))
    return f'<testsuite name="fares" tests="{count}">{cases}</testsuite>'.encode()


def _script(count: int, *, after: bool) -> bytes:
    return "".join(f"INSERT INTO trip VALUES ({n}, 'port {n}', {n % 7 + after});\n" for n in range(count)).encode()


def _process(count: int, *, after: bool) -> bytes:
    tasks = [f'<task id="t{n}" name="Step {n + after}"/>' for n in range(count)]
    flows = [f'<sequenceFlow id="f{n}" sourceRef="t{n}" targetRef="t{n + 1}"/>' for n in range(count - 1)]
    body = "".join(tasks[::-1] if after else tasks) + "".join(flows)
    model = "http://www.omg.org/spec/BPMN/20100524/MODEL"
    return f'<definitions xmlns="{model}"><process id="p">{body}</process></definitions>'.encode()


def _report(count: int, *, after: bool) -> bytes:
    rows = "".join(f"<tr><td>Sailing {n}</td><td>{n + after}</td></tr>" for n in range(count))
    return f"<html><body><h1>Sailings</h1><table>{rows}</table></body></html>".encode()


def _paper(count: int, *, after: bool) -> bytes:
    return "".join(f"## Berth {n}\n\nThe berth at quay {n} is {n + after} m deep.\n\n" for n in range(count)).encode()


def _table(count: int, *, after: bool) -> bytes:
    return ("sailing,fare\n" + "".join(f"{n},{n % 90 + after}\n" for n in range(count))).encode()


def _unkeyed(count: int, *, after: bool) -> bytes:
    return ("route,fare\n" + "".join(f"R{n % 7},{n % 90 + after}\n" for n in range(count))).encode()


def _workbook(count: int, *, after: bool) -> bytes:
    rows = "".join(
        f'<row r="{n}"><c r="A{n}" t="inlineStr"><is><t>Sailing {n}</t></is></c><c r="B{n}"><v>{n + after}</v></c></row>'
        for n in range(1, count + 1)
    )
    main = "http://schemas.openxmlformats.org/spreadsheetml/2006/main"
    relations = "http://schemas.openxmlformats.org/officeDocument/2006/relationships"
    members = {
        "[Content_Types].xml": '<Types xmlns="http://schemas.openxmlformats.org/package/2006/content-types"/>',
        "xl/workbook.xml": f'<workbook xmlns="{main}" xmlns:r="{relations}"><sheets>'
        '<sheet name="Sailings" sheetId="1" r:id="rId1"/></sheets></workbook>',
        "xl/_rels/workbook.xml.rels": '<Relationships xmlns="http://schemas.openxmlformats.org/package/2006/relationships">'
        f'<Relationship Id="rId1" Type="{relations}/worksheet" Target="worksheets/sheet1.xml"/></Relationships>',
        "xl/worksheets/sheet1.xml": f'<worksheet xmlns="{main}"><sheetData>{rows}</sheetData></worksheet>',
    }
    return _zipped({name: text.encode() for name, text in members.items()})


def _archive(count: int, *, after: bool) -> bytes:
    return _zipped({f"berths/{n}.json": b'{"depth": %d}' % (n + after) for n in range(count)})


def _zipped(members: dict[str, bytes]) -> bytes:
    packed = io.BytesIO()
    with zipfile.ZipFile(packed, "w", zipfile.ZIP_DEFLATED) as archive:
        for name, data in members.items():
            archive.writestr(name, data)
    return packed.getvalue()


def _database(count: int, *, after: bool) -> bytes:
    with tempfile.TemporaryDirectory() as folder:
        file = Path(folder, "d.sqlite")
        connection = sqlite3.connect(file)
        connection.execute("CREATE TABLE sailing (id INTEGER PRIMARY KEY, port TEXT, fare INT)")
        connection.executemany(
            "INSERT INTO sailing VALUES (?, ?, ?)", ((n, f"port {n % 9}", n % 90 + after) for n in range(count))
        )
        connection.commit()
        connection.close()
        return file.read_bytes()


def _model(count: int, *, after: bool) -> bytes:
    """Weights in the safetensors form: a header of JSON behind its length, then the bytes of all tensors."""
    size = 256
    header = {
        f"layer.{n}.weight": {"dtype": "F32", "shape": [8, 8], "data_offsets": [n * size, (n + 1) * size]}
        for n in range(count)
    }
    packed = json.dumps(header).encode()
    weights = b"".join(struct.pack("<64f", *(n + k + after for k in range(64))) for n in range(count))
    return struct.pack("<Q", len(packed)) + packed + weights


def _picture(count: int, *, after: bool) -> bytes:
    """``count`` rows of 1,000 pixels."""
    packed = io.BytesIO()
    Image.new("RGB", (1_000, count), (90 + after, 120, 160)).save(packed, "PNG")
    return packed.getvalue()


_KINDS: tuple[tuple[str, str, Make, int], ...] = (
    ("pipeline, all steps changed", "p.cwl", _pipeline, 200),
    ("workflow, all tasks renamed and moved", "w.bpmn", _process, 1_000),
    ("graph, all steps changed and their order", "flows.json", _graph, 1_000),
    ("notebook, all cells moved", "n.ipynb", _notebook, 300),
    ("app, all controls changed", "a.json", _app, 300),
    ("API description, all operations changed", "api.json", _api, 200),
    ("settings in JSON, all changed", "s.json", _settings, 500),
    ("settings in YAML, all changed", "s.yaml", _yaml, 500),
    ("features, all scenarios changed and moved", "t.feature", _feature, 200),
    ("test results, all failed", "r.xml", _results, 500),
    ("SQL, all statements changed", "s.sql", _script, 300),
    ("report, all rows changed", "r.html", _report, 1_000),
    ("paper, all sections changed", "p.md", _paper, 300),
    ("table by key, all cells changed", "t.csv", _table, 100_000),
    ("table without a key, all rows changed", "u.csv", _unkeyed, 100_000),
    ("workbook, all rows changed", "b.xlsx", _workbook, 1_000),
    ("database, all rows changed", "d.sqlite", _database, 50_000),
    ("archive, all members changed", "a.zip", _archive, 200),
    ("model, all weights moved", "m.safetensors", _model, 500),
    ("picture, all pixels changed", "p.png", _picture, 400),
)


def growth() -> Iterator[Figure]:
    """Between a size as published files have it and ten times that, all parts changed."""
    for what, name, made, size in _KINDS:
        spent = []
        for count in (size, size, 10 * size):  # the first loads what has to be loaded
            old, new = (ArtifactSide(name, made(count, after=after)) for after in (False, True))
            before = time.process_time()
            found = compare_artifacts(old, new)
            spent.append(time.process_time() - before)
            assert found.findings and found.read_as != "bytes", (what, found.note)
        exponent = math.log(max(spent[2], 0.01) / max(spent[1], 0.01), 10)
        detail = f"{spent[1]:.2f} and {spent[2]:.2f} s for {size:,} and {10 * size:,} parts"
        yield Figure("grow", f"{what}: exponent of the work", exponent, f"≤ {LIMIT}", exponent <= LIMIT, detail)
