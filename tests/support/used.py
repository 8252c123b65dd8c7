"""A shelf on which artifacts use each other in every way that is followed: by name, by wiring, by SQL, by code."""

from __future__ import annotations

import json

TIDES = b"harbour,moment,tide_window,height_m\n" + b"".join(
    b"Aldwick,2026-01-%02dT03:35,%d,3.%d\n" % (day, day % 5, day) for day in range(1, 30)
)
SAILINGS = b"sailing_id,harbour,vessel,delay_minutes\n" + b"".join(
    b"%d,Aldwick,Kittiwake,%d\n" % (10_000 + n, n % 40) for n in range(30)
)
BERTHS = b"berth,harbour\nA1,Aldwick\n"
# A view with an alias, a join, a subquery; one statement reads what another made.
RISK_SQL = b"""create table risk as
select s.vessel, w.tw as window_at_risk, s.delay_minutes
from sailings s
join (select harbour, tide_window as tw from tides) w on w.harbour = s.harbour;
create table worst as select vessel, max(window_at_risk) as worst_window from risk group by vessel;
"""
NOTICE_SQL = b"select vessel from risk where window_at_risk > 3;\n"
QUIET_SQL = b"select vessel, delay_minutes from risk;\n"
HEIGHTS_SQL = b"select harbour, max(height_m) as highest from tides group by harbour;\n"
TRAIN = b'''"""Trains the delay forecast."""
import joblib
import pandas as pd

tides = pd.read_csv("data/tides.csv", usecols=["harbour", "tide_window"])
sailings = pd.read_csv("data/sailings.csv")
both = sailings.merge(tides, on="harbour").rename(columns={"tide_window": "window"})
both["late"] = both.delay_minutes > 15
both[["window", "late"]].to_csv("data/training.csv")
joblib.dump(both, "models/forecast.pkl")
'''
CHECK = b"""import pandas as pd

training = pd.read_csv("data/training.csv")
print(training["window"].mean())
"""
OTHER_CHECK = b"""import pandas as pd

training = pd.read_csv("data/training.csv")
print(training["late"].mean())
"""
RULES = b"""Feature: tide rules
  Scenario: low water
    Given the table data/tides.csv
    When tide_window is 0
    Then the notice is sent
"""
NIGHTLY = json.dumps(
    {
        "name": "nightly load",
        "steps": [
            {"id": "join", "path": "data/tides.csv", "columns": ["harbour", "tide_window"]},
            {"id": "write", "after": ["join"], "command": "append"},
        ],
    }
).encode()
HEIGHTS = json.dumps({"steps": [{"id": "top", "path": "data/tides.csv", "columns": ["height_m"]}]}).encode()
CALLS_NIGHTLY = json.dumps({"name": "weekly", "steps": [{"id": "first", "pipeline": "nightly load"}]}).encode()


def notebook(*cells: str) -> bytes:
    """A notebook of code cells."""
    made = [
        {"cell_type": "code", "id": f"c{n}", "metadata": {}, "source": c, "outputs": []} for n, c in enumerate(cells)
    ]
    return json.dumps({"cells": made, "metadata": {}, "nbformat": 4, "nbformat_minor": 5}).encode()


RESIDUALS = notebook(
    "import pandas as pd\nt = pd.read_csv('../data/tides.csv')",
    "%matplotlib inline\nt['gap'] = t.tide_window - 2\nt.gap.plot()",
)

API = b"""openapi: 3.0.3
info: {title: Notices, version: '1'}
servers: [{url: https://notices.example/v1}]
paths:
  /notices/{id}:
    get: {operationId: readNotice, responses: {'200': {description: one}}}
  /harbours:
    get: {operationId: listHarbours, responses: {'200': {description: all}}}
"""
BOARD = json.dumps(
    {
        "app": "harbour board",
        "screens": [
            {
                "name": "Board",
                "controls": [{"name": "notice", "type": "label", "url": "https://notices.example/v1/notices/12"}],
            }
        ],
    }
).encode()

_HEAD = b'<?xml version="1.0"?><definitions xmlns="http://www.omg.org/spec/BPMN/20100524/MODEL" id="%s">'
SENDER = (
    _HEAD % b"sender" + b'<message id="M1" name="tide notice"/><process id="warn" name="Warn">'
    b'<startEvent id="s"/><sendTask id="t" name="Tell the board" messageRef="M1"/></process></definitions>'
)
WAITER = (
    _HEAD % b"waiter" + b'<message id="M7" name="tide notice"/><process id="show" name="Show">'
    b'<startEvent id="s" name="Notice came"><messageEventDefinition messageRef="M7"/></startEvent></process></definitions>'
)
CALLER = (
    _HEAD % b"caller" + b'<process id="day" name="Day"><callActivity id="c" name="Warn all" calledElement="warn"/>'
    b"</process></definitions>"
)

FILES: dict[str, bytes] = {
    "data/tides.csv": TIDES,
    "data/sailings.csv": SAILINGS,
    "data/berths.csv": BERTHS,
    "data/training.csv": b"window,late\n1,True\n",
    "models/forecast.pkl": b"\x80\x04]\x94.",
    "scripts/risk.sql": RISK_SQL,
    "scripts/notice.sql": NOTICE_SQL,
    "scripts/quiet.sql": QUIET_SQL,
    "scripts/heights.sql": HEIGHTS_SQL,
    "scripts/train.py": TRAIN,
    "scripts/check.py": CHECK,
    "scripts/other_check.py": OTHER_CHECK,
    "tests/tide-rules.feature": RULES,
    "pipelines/nightly.json": NIGHTLY,
    "pipelines/heights.json": HEIGHTS,
    "pipelines/weekly.json": CALLS_NIGHTLY,
    "notebooks/residuals.ipynb": RESIDUALS,
    "apis/notices.yaml": API,
    "apps/board.json": BOARD,
    "workflows/sender.bpmn": SENDER,
    "workflows/waiter.bpmn": WAITER,
    "workflows/caller.bpmn": CALLER,
}
