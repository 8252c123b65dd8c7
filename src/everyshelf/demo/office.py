"""The ticket office's shelf: one artifact in every other format that is read, each in two versions.

An edit is (old, new) in the text; together with noise that means nothing (order, layout, line ends) where files of that
format usually carry some.
"""

from __future__ import annotations

import json
from typing import Any

from everyshelf.demo.documents import document_pairs
from everyshelf.demo.ledgers import database_pair, table_pairs
from everyshelf.demo.models import model_pairs
from everyshelf.demo.pair import Pair
from everyshelf.demo.workbooks import workbook_pairs


def pairs() -> list[Pair]:
    """All of them, by path."""
    found = [
        *table_pairs(),
        database_pair(),
        *workbook_pairs(),
        *document_pairs(),
        *model_pairs(),
        *_workflows(),
        *_pipelines(),
        *_apps(),
        *_tests(),
        *_descriptions(),
        *_scripts(),
        *_settings(),
        *_papers(),
    ]
    return sorted(found, key=lambda pair: pair.path)


def _edited(path: str, kind: str, text: str, edits: list[tuple[str, str]], says: str) -> Pair:
    after = text
    for old, new in edits:
        assert old in after, f"{path}: {old}"
        after = after.replace(old, new)
    return Pair(path, kind, text.encode(), after.encode(), says)


def _data(path: str, kind: str, before: Any, after: Any, says: str) -> Pair:
    return Pair(path, kind, json.dumps(before, indent=2).encode(), json.dumps(after, indent=4).encode(), says)


# --- workflows -------------------------------------------------------------------

_DMN = """<?xml version="1.0" encoding="UTF-8"?>
<definitions xmlns="https://www.omg.org/spec/DMN/20191111/MODEL/" id="refunds" name="Refunds" namespace="urn:skerry-line">
  <inputData id="sailing" name="Sailing"/>
  <decision id="share" name="Share refunded">
    <informationRequirement id="needs_sailing"><requiredInput href="#sailing"/></informationRequirement>
    <decisionTable id="table" hitPolicy="FIRST">
      <input id="i1" label="delay"><inputExpression id="e1" typeRef="number"><text>sailing.delay</text></inputExpression></input>
      <input id="i2" label="class"><inputExpression id="e2" typeRef="string"><text>ticket.class</text></inputExpression></input>
      <output id="o1" label="share" name="share" typeRef="number"/>
      <rule id="r1"><inputEntry id="a1"><text>&gt; 120</text></inputEntry><inputEntry id="a2"><text>-</text></inputEntry>
        <outputEntry id="a3"><text>1.0</text></outputEntry></rule>
      <rule id="r2"><inputEntry id="b1"><text>&gt; 45</text></inputEntry><inputEntry id="b2"><text>"islander"</text></inputEntry>
        <outputEntry id="b3"><text>0.5</text></outputEntry></rule>
      <rule id="r3"><inputEntry id="c1"><text>-</text></inputEntry><inputEntry id="c2"><text>-</text></inputEntry>
        <outputEntry id="c3"><text>0.0</text></outputEntry></rule>
    </decisionTable>
  </decision>
</definitions>
"""


def _workflows() -> list[Pair]:
    level: list[dict[str, Any]] = [
        {
            "id": "pier1",
            "type": "gauge",
            "reads": "water at pier 1",
            "every": 60,
            "at": {"x": 120, "y": 80},
            "to": ["mean"],
        },
        {"id": "mean", "type": "average", "keeps": 10, "at": {"x": 300, "y": 80}, "to": ["high"]},
        {"id": "high", "type": "threshold", "above": 310, "at": {"x": 480, "y": 80}, "to": ["warn", "log"]},
        {"id": "warn", "type": "notice", "tells": "harbour master", "at": {"x": 660, "y": 40}, "to": []},
        {"id": "log", "type": "record", "file": "water.log", "at": {"x": 660, "y": 120}, "to": []},
    ]
    higher = [{**n, "at": {**n["at"], "x": n["at"]["x"] + 40}} for n in level]
    higher[2] = {**higher[2], "above": 290}
    higher[3]["to"] = ["log"]
    steps = {
        "nodes": [
            {"id": "asked", "name": "Group asks", "position": [40, 60]},
            {"id": "quote", "name": "Make an offer", "position": [240, 60], "form": "offer-1"},
            {"id": "sign", "name": "Group signs", "position": [440, 60]},
        ],
        "edges": [{"source": "asked", "target": "quote"}, {"source": "quote", "target": "sign"}],
    }
    longer = json.loads(json.dumps(steps))
    longer["nodes"].insert(2, {"id": "check", "name": "Purser checks", "position": [440, 160]})
    longer["edges"] = [
        {"source": "asked", "target": "quote"},
        {"source": "quote", "target": "check"},
        {"source": "check", "target": "sign"},
    ]
    return [
        _edited(
            "workflows/refund-shares.dmn",
            "workflow",
            _DMN,
            [("&gt; 45", "&gt; 30"), ("0.5", "0.4")],
            "1 rule changed",
        ),
        _data("workflows/water-level.json", "workflow", level, higher, "1 step changed, 1 connection added"),
        _data(
            "workflows/group-offer.json",
            "workflow",
            steps,
            longer,
            "1 step added, 1 connection removed, 2 connections added",
        ),
    ]


def _pipelines() -> list[Pair]:
    cwl = {
        "cwlVersion": "v1.2",
        "class": "CommandLineTool",
        "baseCommand": ["count-tickets"],
        "inputs": [{"id": "day", "type": "string"}, {"id": "office", "type": ["null", "string"]}],
        "outputs": [{"id": "counts", "type": "File", "outputBinding": {"glob": "counts.csv"}}],
    }
    mapped = {
        "class": "CommandLineTool",
        "cwlVersion": "v1.2",
        "baseCommand": "count-tickets",
        "inputs": {"office": "string?", "day": "string", "class": {"type": "string"}},
        "outputs": {"counts": {"type": "File", "outputBinding": {"glob": "counts.csv"}}},
    }
    xml = (
        "<pipeline name='monthly close'>\n  <steps>\n    <step id='sum' run='sum_tickets'/>\n"
        "    <step id='book' run='book_totals' after='sum'/>\n  </steps>\n</pipeline>\n"
    )
    return [
        _data("pipelines/count-tickets.cwl", "pipeline", cwl, mapped, "input class added"),
        _edited(
            "pipelines/monthly-close.xml",
            "pipeline",
            xml,
            [("book_totals", "book_by_office")],
            "step book: run book_totals → book_by_office",
        ),
    ]


def _apps() -> list[Pair]:
    yaml = """app: ticket desk
screens:
  - name: Sell
    parts:
      - {name: total, type: label, at: {x: 10, y: 20}, says: "sum of fares in cart"}
      - name: pay
        type: button
        when pressed: |
          paid := yes
          print ticket
  - name: Refund
    parts:
      - {name: share, type: label, says: "share for delay"}
feeds:
  - {name: cart, kind: table}
"""
    xml = """<?xml version="1.0"?>
<app name="kiosk" editorVersion="3.1">
  <screen name="Start"><control name="language" type="list" left="10" top="10"/></screen>
  <screen name="Tickets">
    <control name="adult" type="counter" max="9"/>
    <script name="price"><![CDATA[total = adult * 12.50
total = total - discount]]></script>
  </screen>
</app>
"""
    return [
        _edited(
            "apps/ticket-desk.yaml",
            "app",
            yaml,
            [("print ticket", "print ticket twice"), ("x: 10", "x: 14")],
            "control pay: when pressed changed, 1 of 2 lines new, 1 of 2 gone",
        ),
        _edited(
            "apps/kiosk.xml",
            "app",
            xml,
            [("12.50", "13.00"), ("3.1", "3.2")],
            "script price: text changed, 1 of 2 lines new, 1 of 2 gone",
        ),
    ]


def _tests() -> list[Pair]:
    project = {
        "testProject": "ticket desk",
        "suites": [
            {
                "name": "Selling",
                "cases": [
                    {
                        "name": "one adult",
                        "steps": [{"action": "add", "what": "adult"}, {"action": "expect", "total": 12.5}],
                    },
                    {
                        "name": "a family",
                        "steps": [{"action": "add", "what": "family"}, {"action": "expect", "total": 30}],
                    },
                ],
            }
        ],
    }
    changed = json.loads(json.dumps(project))
    changed["suites"][0]["cases"][1]["steps"][1]["total"] = 32
    changed["suites"][0]["cases"].append({"name": "a dog", "steps": [{"action": "add", "what": "dog"}]})
    german = """# language: de
Funktionalität: Ermäßigung
  Szenario: Insulaner zahlen die Hälfte
    Angenommen ein Insulaner mit Ausweis
    Wenn er eine Fahrkarte kauft
    Dann zahlt er 6,25
"""
    return [
        _data("tests/ticket-desk.json", "tests", project, changed, "1 step changed, 1 case added"),
        _edited(
            "tests/ermaessigung.feature",
            "tests",
            german,
            [("6,25", "6,50")],
            "step: zahlt er 6,25 → zahlt er 6,50",
        ),
    ]


def _descriptions() -> list[Pair]:
    new = """openapi: 3.0.3
info: {title: Sailings, version: "1"}
paths:
  /sailings/{harbour}:
    get:
      operationId: listSailings
      parameters:
        - {name: harbour, in: path, required: true, schema: {type: string}}
        - {name: day, in: query, schema: {type: string, format: date}}
      responses:
        "200":
          description: what leaves that day
          content:
            application/json:
              schema: {$ref: "#/components/schemas/Sailing"}
components:
  schemas:
    Sailing:
      type: object
      required: [vessel, departs]
      properties:
        vessel: {type: string}
        departs: {type: string}
        cancelled: {type: boolean}
"""
    old = {
        "swagger": "2.0",
        "info": {"title": "Tickets", "version": "1"},
        "paths": {
            "/tickets": {
                "post": {
                    "operationId": "sell",
                    "parameters": [
                        {
                            "name": "body",
                            "in": "body",
                            "schema": {"type": "object", "properties": {"fare": {"type": "number"}}},
                        }
                    ],
                    "responses": {"201": {"description": "sold"}},
                }
            }
        },
    }
    stricter = json.loads(json.dumps(old))
    stricter["paths"]["/tickets"]["post"]["parameters"][0]["schema"]["required"] = ["fare"]
    schema = {
        "$schema": "https://json-schema.org/draft/2020-12/schema",
        "title": "Ticket",
        "type": "object",
        "properties": {"code": {"type": "string", "maxLength": 12}, "class": {"enum": ["adult", "child"]}},
    }
    wider = json.loads(json.dumps(schema))
    wider["properties"]["class"]["enum"] += ["islander"]
    return [
        _edited(
            "apis/sailings.yaml",
            "api",
            new,
            [("{name: day, in: query, schema", "{name: day, in: query, required: true, schema")],
            "parameter day: required false → true",
        ),
        _data("apis/tickets.json", "api", old, stricter, "property body.fare: required false → true"),
        _data(
            "apis/ticket.schema.json", "api", schema, wider, "property class: enum adult child → adult child islander"
        ),
    ]


def _scripts() -> list[Pair]:
    sql = """-- late sailings of a month
CREATE VIEW late_sailings AS
SELECT s.vessel, s.departs, t.delay
FROM sailings s JOIN delays t ON t.sailing = s.id
WHERE t.delay > 15;

CREATE TABLE late_counts (vessel TEXT, month TEXT, late INTEGER);
"""
    basic = """Attribute VB_Name = "Stamps"
Option Explicit

Public Function StampOf(ByVal pier As Integer) As String
    StampOf = "P" & pier
End Function

Sub StampAll()
    Dim n As Integer
    For n = 1 To 4
        Debug.Print StampOf(n)
    Next n
End Sub
"""
    script = """// next boat on the board
export function nextBoat(sailings, now) {
  const open = sailings.filter((s) => s.departs > now);
  return open[0];
}
"""
    shell = "#!/bin/sh\n# copies the day's tickets\nset -eu\ncp /tickets/today.csv /archive/\n"
    return [
        _edited(
            "scripts/late-sailings.sql",
            "script",
            sql,
            [
                ("> 15", "> 20"),
                ("SELECT s.vessel, s.departs, t.delay\nFROM", "SELECT s.vessel, s.departs, t.delay FROM"),
            ],
            "statement create view late_sailings: code changed, 1 of 10 lines new, 1 of 10 gone",
        ),
        _edited(
            "scripts/stamps.bas",
            "script",
            basic,
            [("1 To 4", "1 To 6"), ("Dim n", "dim n")],
            "procedure sub StampAll: code changed, 1 of 5 lines new, 1 of 5 gone",
        ),
        _edited("scripts/next-boat.js", "script", script, [("open[0]", "open.at(0)")], "1 line added, 1 line removed"),
        _edited(
            "scripts/archive.sh", "script", shell, [("cp /tickets", "cp -p /tickets")], "1 line added, 1 line removed"
        ),
    ]


def _settings() -> list[Pair]:
    ini = "; printers of the office\n[printer]\nport = 9100\npaper = A6\n\n[till]\ncurrency = NOK\n"
    env = '# where things are\nTILL_URL="http://till.local:8080"\nTILL_RETRIES=3\n'
    properties = "# board at the pier\nboard.lines=4\nboard.greeting=Welcome aboard\n"
    toml = '[office]\nopens = "07:30"\ncloses = "18:00"\n\n[[desk]]\nname = "front"\n\n[[desk]]\nname = "back"\n'
    xml = "<board><line height='12'>Next boat</line><line height='9'>Weather</line></board>\n"
    return [
        _edited(
            "settings/printers.ini",
            "settings",
            ini,
            [("A6", "A5"), ("port = 9100", "port=9100")],
            "group printer: paper A6 → A5",
        ),
        _edited("settings/till.env", "settings", env, [("RETRIES=3", "RETRIES=5")], "TILL_RETRIES 3 → 5"),
        _edited(
            "settings/board.properties",
            "settings",
            properties,
            [("lines=4", "lines: 6")],
            "board.lines 4 → 6",
        ),
        _edited("settings/office.toml", "settings", toml, [("18:00", "19:00")], "group office: closes 18:00 → 19:00"),
        _edited("settings/board.xml", "settings", xml, [("'12'", "'14'")], "height 12 → 14"),
    ]


def _papers() -> list[Pair]:
    html = (
        "<!doctype html><html><head><title>Notice</title></head><body><h1>Summer timetable</h1>"
        "<p>The first boat leaves at seven.</p><ul><li>Aldwick</li><li>Brae</li></ul></body></html>\n"
    )
    svg = (
        '<svg xmlns="http://www.w3.org/2000/svg" width="80" height="40"><rect id="hull" width="60" height="12" y="20"/>'
        '<text id="name" x="8" y="30">Corran</text></svg>\n'
    )
    old_cells = [
        {"cell_type": "code", "input": ["import csv\n"], "outputs": [], "language": "python", "prompt_number": 1},
        {"cell_type": "code", "input": ["rows = 3"], "outputs": [], "language": "python", "prompt_number": 2},
    ]
    notebook = {
        "nbformat": 3,
        "nbformat_minor": 0,
        "metadata": {},
        "worksheets": [{"cells": old_cells, "metadata": {}}],
    }
    edited = json.loads(json.dumps(notebook))
    edited["worksheets"][0]["cells"][1] |= {"input": ["rows = 4"], "prompt_number": 9}
    return [
        _edited(
            "reports/summer-notice.html",
            "report",
            html,
            [("at seven", "at half past six"), ("<p>", "\n<p>")],
            "paragraph: The first boat leaves at seven. → The first boat leaves at half past six.",
        ),
        _edited("reports/ferry-badge.svg", "report", svg, [("Corran", "Dunmore")], "text name: text Corran → Dunmore"),
        _data("notebooks/old-counts.ipynb", "notebook", notebook, edited, "cell: rows = 3 → rows = 4"),
    ]
