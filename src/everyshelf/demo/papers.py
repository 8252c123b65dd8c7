"""Notebook, tests, model, scripts, report, settings and picture."""

from __future__ import annotations

import json
import struct
import zlib
from typing import Any


def notebook(*, winter: bool = False, ran: int = 1) -> bytes:
    """Berth use, as nbformat 4 with stable cell ids; ``ran`` changes counts and outputs only."""
    cells: list[tuple[str, str, str, int | None]] = [
        ("title", "markdown", "# Berth use\nHow long each berth is taken, by month.", None),
        ("load", "code", "import csv\nrows = list(csv.DictReader(open('../data/sailings.csv')))", ran),
        (
            "count",
            "code",
            "by_harbour = {}\nfor row in rows:\n    by_harbour.setdefault(row['to_harbour'], []).append(row)",
            ran + 1,
        ),
        ("show", "code", "for name, taken in sorted(by_harbour.items()):\n    print(name, len(taken))", ran + 2),
    ]
    if winter:
        cells.insert(
            3, ("winter", "code", "winter = [r for r in rows if r['date'] < '2026-03-01']\nlen(winter)", ran + 4)
        )
    built = []
    for key, kind, source, count in cells:
        cell: dict[str, Any] = {
            "cell_type": kind,
            "id": key,
            "metadata": {},
            "source": source.splitlines(keepends=True),
        }
        if kind == "code":
            cell |= {
                "execution_count": count,
                "outputs": [{"output_type": "stream", "name": "stdout", "text": [f"run {count}\n"]}],
            }
        built.append(cell)
    book = {"cells": built, "metadata": {"kernelspec": {"name": "python3"}}, "nbformat": 4, "nbformat_minor": 5}
    return json.dumps(book, indent=1).encode()


def fare_rules(*, child: bool = False, islander: bool = False) -> bytes:
    """Fare rules in Gherkin."""
    text = """Feature: Fare rules
  Background:
    Given the fares of March 2026

  Scenario: An adult crosses two zones
    When an adult books from Aldwick to Corran
    Then the fare is 5.50

  Scenario: A bicycle travels with its rider
    When an adult with a bicycle books from Brae to Corran
    Then the fare is 7.65
"""
    if child:
        text += """
  @child
  Scenario: A child on the last sailing
    When a child books the last sailing from Aldwick
    Then the fare is halved
"""
    if islander:
        text += """
  Scenario Outline: Islanders pay less
    When an islander books <zones> zones
    Then the fare is <fare>

    Examples:
      | zones | fare |
      | 1     | 1.50 |
      | 4     | 2.70 |
"""
    return text.encode()


def results(passed: int, failed: int, seconds: float) -> bytes:
    """JUnit results of those rules."""
    cases = [
        f'    <testcase classname="fares" name="rule {n + 1}" time="{seconds / (n + 3):.3f}"/>' for n in range(passed)
    ]
    cases += [
        f'    <testcase classname="fares" name="rule {passed + n + 1}" time="0.2"><failure message="fare differs"/></testcase>'
        for n in range(failed)
    ]
    head = f'<testsuites><testsuite name="fare rules" tests="{passed + failed}" failures="{failed}" time="{seconds}">'
    return "\n".join(['<?xml version="1.0"?>', head, *cases, "</testsuite></testsuites>"]).encode()


def model(inputs: list[str], coefficients: list[float], stamp: str) -> bytes:
    """The delay forecast, a regression in PMML 4.4."""
    fields = "\n".join(f'    <DataField name="{n}" optype="continuous" dataType="double"/>' for n in inputs)
    mining = "\n".join(f'      <MiningField name="{n}"/>' for n in inputs)
    terms = "\n".join(
        f'        <NumericPredictor name="{n}" coefficient="{c:.4f}"/>'
        for n, c in zip(inputs, coefficients, strict=True)
    )
    return f"""<?xml version="1.0"?>
<PMML xmlns="http://www.dmg.org/PMML-4_4" version="4.4">
  <Header><Application name="Skerry trainer"/><Timestamp>{stamp}</Timestamp></Header>
  <DataDictionary>
{fields}
    <DataField name="delay_minutes" optype="continuous" dataType="double"/>
  </DataDictionary>
  <RegressionModel modelName="delay forecast" functionName="regression">
    <MiningSchema>
{mining}
      <MiningField name="delay_minutes" usageType="target"/>
    </MiningSchema>
    <RegressionTable intercept="2.31">
{terms}
    </RegressionTable>
  </RegressionModel>
</PMML>
""".encode()


def metrics(error: float, rows: int) -> bytes:
    """What the training measured."""
    return json.dumps({"mean_absolute_error_minutes": error, "rows": rows, "folds": 5}, indent=2).encode()


def price_script(*, by_island: bool = False, log: bool = False) -> bytes:
    """The script that sets zones."""
    body = [
        '"""Prices a sailing by zone."""',
        "",
        "ZONES = {'Aldwick': 1, 'Brae': 2, 'Corran': 3, 'Dunmore': 4}",
        "",
        "",
    ]
    if by_island:
        body[2] = "ZONES = {'north': 1, 'middle': 2, 'south': 3}"
        body += [
            "def island_of(harbour):",
            "    return {'Aldwick': 'north', 'Brae': 'north', 'Corran': 'middle'}.get(harbour, 'south')",
            "",
            "",
        ]
    body += ["def price(start, end, fares):"]
    if log:
        body.append("    print('pricing', start, end)")
    zone = "abs(ZONES[island_of(start)] - ZONES[island_of(end)])" if by_island else "abs(ZONES[start] - ZONES[end])"
    return "\n".join([*body, f"    zones = {zone}", "    return fares[f'Z{max(1, zones):02d}']", ""]).encode()


LATE_SQL = b"""-- Sailings over 15 minutes late, by vessel.
SELECT vessel, count(*) AS late
FROM sailings
WHERE delay_minutes > 15
GROUP BY vessel
ORDER BY late DESC;
"""


def report(month: str, punctual: float, note: str = "") -> bytes:
    """The monthly report in Markdown."""
    return f"""# Punctuality, {month}

Of all sailings **{punctual:.1f} %** left within five minutes.

| vessel | punctual |
| --- | --- |
| Kittiwake | {punctual + 1.2:.1f} % |
| Fulmar | {punctual - 0.4:.1f} % |
| Guillemot | {punctual - 0.9:.1f} % |

{note}
""".encode()


def notices(*, quiet: str = "", languages: str = '["en", "no"]') -> bytes:
    """Settings of the notices."""
    text = f'# Who is told, and when.\n[notice]\nlanguages = {languages}\nlate_minutes = 20\nsender = "Skerry Line"\n'
    text += 'key = "${NOTICE_KEY}"  # of the service that sends them\n'
    if quiet:
        text += f'\n[quiet]\nfrom = "{quiet}"\nuntil = "06:00"\n'
    return text.encode()


def picture(*, route: bool = False) -> bytes:
    """A small harbour map as PNG (ISO/IEC 15948), 96 × 64 pixels, 8-bit RGB."""
    width, height = 96, 64
    rows = bytearray()
    for y in range(height):
        rows.append(0)
        for x in range(width):
            island = (x - 30) ** 2 + (y - 30) ** 2 < 300 or (x - 72) ** 2 + (y - 40) ** 2 < 160
            on_route = route and abs((y - 30) - (x - 30) * 10 / 42) < 1 and 30 < x < 72
            rows += b"\x5c\x1f\x4f" if on_route else b"\xc9\xc3\xa8" if island else b"\x9f\xc4\xcf"

    def chunk(kind: bytes, data: bytes) -> bytes:
        return struct.pack(">I", len(data)) + kind + data + struct.pack(">I", zlib.crc32(kind + data))

    head = struct.pack(">IIBBBBB", width, height, 8, 2, 0, 0, 0)
    return (
        b"\x89PNG\r\n\x1a\n"
        + chunk(b"IHDR", head)
        + chunk(b"IDAT", zlib.compress(bytes(rows), 9))
        + chunk(b"IEND", b"")
    )


RULES = b"""# What this shelf says about its own files.
[ignore]
patterns = ["*.log", "*.tmp", "out/"]

[keys]
"data/fares.csv" = ["zone", "class"]
"data/sailings.csv" = ["sailing_id"]

[experiments]
metrics = ["results/*.json"]

[metrics]
"mean error" = {better = "lower", unit = "min"}
"P90" = {better = "lower", unit = "min"}
"late found" = {better = "higher"}

[bindings]
NOTICE_SENDER = {in = "settings/notices.toml", part = "/group:notice", field = "sender"}
NOTICE_KEY = {in = "settings/notices.toml", secret = true}
"""
