"""Four weeks of work: who committed what, when, and what was tagged and promoted meanwhile."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field

from everyshelf.demo import flows, papers, scripts, tables

_TRAINED = ["hour", "wind", "swell", "passengers"]


@dataclass(frozen=True)
class Act:
    """One thing somebody did, ``days_ago`` at ``clock``. ``files`` maps a path to bytes (None: removed)."""

    days_ago: int
    clock: str
    who: str
    summary: str
    files: dict[str, bytes | None] = field(default_factory=dict)
    branch: str = "main"
    labels: dict[str, str] = field(default_factory=dict)
    tasks: list[str] = field(default_factory=list)
    do: str = "commit"
    """commit, branch, merge, tag, promote or rollback; ``branch`` and ``target`` say of what."""
    target: str = ""
    moved: dict[str, str] = field(default_factory=dict)


def acts() -> Iterator[Act]:
    """Everything, in order."""
    yield from _first_week()
    yield from _second_week()
    yield from _third_week()
    yield from _fourth_week()


def _first_week() -> Iterator[Act]:
    yield Act(
        33,
        "09:10",
        "maren",
        "Bring in the timetable work of the winter",
        {
            "shelf.toml": papers.RULES,
            "pipelines/nightly-sailings.cwl": flows.nightly_cwl(),
            "pipelines/passenger-counts.json": flows.load_json(),
            "pipelines/tide-table-refresh.yaml": flows.tide_yaml(),
            "data/sailings.csv": tables.sailings(20),
            "data/fares.csv": tables.fares(),
            "data/tides.csv": tables.tides(60),
            "data/passengers.csv": tables.passengers(27),
            "logs/gate-aldwick.dat": tables.gate_log(90),
            "workflows/disruption-notice.bpmn": flows.disruption(),
            "workflows/refund-approval.bpmn": flows.refund(),
            "apps/gangway-check-in.json": flows.gangway_app(),
            "tests/fare-rules.feature": papers.fare_rules(),
            "scripts/price_zones.py": papers.price_script(),
            "reports/punctuality-monthly.md": papers.report("January 2026", 91.4),
        },
    )
    yield Act(
        33,
        "14:02",
        "ines",
        "Berth notebook and delay model",
        {
            "notebooks/berth-use.ipynb": papers.notebook(),
            "models/delay-forecast.pmml": papers.model(_TRAINED, [0.12, 0.44, 0.61, 0.008], "2026-01-30"),
            "models/delay-forecast.metrics.json": papers.metrics(3.41, 560),
            "scripts/late_sailings.sql": papers.LATE_SQL,
        },
    )
    yield Act(
        32,
        "10:20",
        "tobias",
        "Notices, map and test results",
        {
            "settings/notices.toml": papers.notices(),
            "pictures/harbour-map.png": papers.picture(),
            "tests/fare-rules-results.xml": papers.results(11, 1, 4.2),
        },
    )
    yield Act(
        31,
        "08:45",
        "maren",
        "Sailings of the week",
        {"data/sailings.csv": tables.sailings(27)},
        labels={"source": "nightly"},
    )
    yield Act(
        30,
        "16:30",
        "tobias",
        "Fix the rounding of the bicycle fare",
        {"tests/fare-rules-results.xml": papers.results(12, 0, 3.9)},
        tasks=["SK-201"],
    )
    yield Act(30, "17:00", "maren", "The winter timetable as it runs", do="tag", target="winter-4")
    yield Act(30, "17:20", "maren", "Winter timetable", do="promote", branch="development", target="winter-4")
    yield Act(29, "09:00", "ines", "Winter timetable", do="promote", branch="test", target="winter-4")
    yield Act(28, "06:00", "ines", "Winter timetable", do="promote", branch="production", target="winter-4")


def _second_week() -> Iterator[Act]:
    yield Act(
        26,
        "11:05",
        "tobias",
        "Larger scan button",
        {"apps/gangway-check-in.json": flows.gangway_app(button=64, stamp=3)},
        tasks=["SK-207"],
    )
    yield Act(
        25,
        "09:40",
        "ines",
        "Take tides from both harbours",
        {"pipelines/tide-table-refresh.yaml": flows.tide_yaml(both=True)},
    )
    yield Act(
        25,
        "15:12",
        "maren",
        "Retry the store twice more",
        {"pipelines/passenger-counts.json": flows.load_json(retries=4, indent=4)},
    )
    yield Act(
        24,
        "08:40",
        "maren",
        "Sailings of the week",
        {"data/sailings.csv": tables.sailings(34), "data/passengers.csv": tables.passengers(34)},
        labels={"source": "nightly"},
    )
    yield Act(
        23,
        "13:47",
        "tobias",
        "Winter against summer",
        {"notebooks/berth-use.ipynb": papers.notebook(winter=True, ran=7)},
    )
    yield Act(
        22,
        "10:15",
        "ines",
        "Spring fares for adults and cars",
        {
            "data/fares.csv": tables.fares(rise={"adult": 1.05, "car": 1.08}),
        },
        tasks=["SK-211"],
    )
    yield Act(
        21,
        "09:30",
        "tobias",
        "Child fare on the last sailing",
        {"tests/fare-rules.feature": papers.fare_rules(child=True)},
        tasks=["SK-211"],
    )
    yield Act(21, "16:00", "ines", "Spring fares, first part", do="tag", target="spring-1")
    yield Act(21, "16:10", "ines", "Spring fares", do="promote", branch="development", target="spring-1")
    yield Act(
        20,
        "09:12",
        "tobias",
        "Try the tide window before a notice",
        do="branch",
        branch="ines/tide-window",
        target="main",
    )


def _third_week() -> Iterator[Act]:
    yield Act(
        19,
        "11:20",
        "ines",
        "Check the tide window first",
        {
            "workflows/disruption-notice.bpmn": flows.disruption(tide_check=True),
            "scripts/add_tide.py": scripts.ADD_TIDE,
            "scripts/train_delays.py": scripts.TRAIN,
        },
        branch="ines/tide-window",
        tasks=["SK-231"],
    )
    yield Act(
        18,
        "10:02",
        "ines",
        "Train with tide height",
        {
            "models/delay-forecast.pmml": papers.model(
                [*_TRAINED, "tide_height"], [0.11, 0.41, 0.58, 0.008, -0.92], "2026-02-14"
            ),
            "models/delay-forecast.metrics.json": papers.metrics(2.96, 952),
            "data/sailings.csv": tables.sailings(41, tide=True),
        },
        branch="ines/tide-window",
        labels={
            "trainer": "0.9.2",
            "made-from": "data/sailings.csv, scripts/train_delays.py",
            "made-with": "python scripts/train_delays.py",
        },
    )
    yield Act(
        17,
        "09:58",
        "maren",
        "Skip cancelled sailings before the join",
        {
            "pipelines/nightly-sailings.cwl": flows.nightly_cwl(look_back=3, skip_cancelled=True),
        },
        tasks=["SK-218"],
    )
    yield Act(16, "12:00", "maren", "Spring fares", do="promote", branch="test", target="spring-1")
    yield Act(15, "08:05", "maren", "Fares of zone 3 were wrong in test", do="rollback", branch="test")
    yield Act(
        14,
        "15:30",
        "tobias",
        "Fares saved from the purser's sheet",
        {
            "data/fares.csv": tables.fares(rise={"adult": 1.05, "car": 1.08}, style="sheet"),
        },
    )
    yield Act(13, "10:41", "maren", "Tide window and tide height", do="merge", branch="ines/tide-window", target="main")
    yield Act(12, "09:05", "maren", "Spring fares, again", do="promote", branch="test", target="spring-1")


def _fourth_week() -> Iterator[Act]:
    yield Act(
        10,
        "14:20",
        "tobias",
        "Zones by island instead of by pier",
        {
            "scripts/zones/price_zones.py": papers.price_script(by_island=True),
            "scripts/price_zones.py": None,
            "pipelines/nightly-sailings.cwl": flows.nightly_cwl(
                look_back=3, skip_cancelled=True, zones=False, tide=True
            ),
        },
        moved={"scripts/zones/price_zones.py": "scripts/price_zones.py"},
        tasks=["SK-240"],
    )
    yield Act(
        9,
        "08:44",
        "maren",
        "Late sailings set right",
        {"data/sailings.csv": tables.mend_sailings(tables.sailings(41, tide=True), 3)},
    )
    yield Act(
        8,
        "16:20",
        "ines",
        "Islander fares",
        {
            "data/fares.csv": tables.fares(rise={"adult": 1.05, "car": 1.08}, extra=True),
            "tests/fare-rules.feature": papers.fare_rules(child=True, islander=True),
            "tests/fare-rules-results.xml": papers.results(14, 0, 4.0),
        },
        tasks=["SK-244"],
    )
    yield Act(
        7,
        "11:11",
        "tobias",
        "Tickets are checked later when out of reach",
        {
            "apps/gangway-check-in.json": flows.gangway_app(button=64, offline=True, stamp=20),
        },
    )
    yield Act(
        6, "09:30", "tobias", "Keep the island quiet at night", do="branch", branch="tobias/quiet-hours", target="main"
    )
    yield Act(
        6,
        "10:12",
        "tobias",
        "Quiet hours in the notices",
        {"settings/notices.toml": papers.notices(quiet="22:00")},
        branch="tobias/quiet-hours",
    )
    yield Act(
        5,
        "09:20",
        "maren",
        "February report",
        {
            "reports/punctuality-monthly.md": papers.report(
                "February 2026", 93.2, "The tide window removed the worst delays."
            ),
            "scripts/sailings_at_risk.sql": scripts.RISK_SQL,
            "pictures/harbour-map.png": papers.picture(route=True),
        },
    )
    yield Act(
        4,
        "16:24",
        "ines",
        "Harbour master approves, island shops are told",
        {
            "workflows/disruption-notice.bpmn": flows.disruption(
                tide_check=True, shops=True, approver="harbour master", limit=20, shift=15
            ),
            "settings/notices.toml": papers.notices(languages='["en", "no", "nl"]'),
        },
        tasks=["SK-231"],
    )
    yield Act(3, "17:05", "ines", "Spring timetable", do="tag", target="spring-2")
    yield Act(3, "17:20", "ines", "Spring timetable", do="promote", branch="development", target="spring-2")
    yield Act(
        2,
        "11:40",
        "tobias",
        "Refunds over 80 go to the purser",
        {
            "workflows/refund-approval.bpmn": flows.refund(limit=80, purser=True),
        },
        branch="tobias/quiet-hours",
    )
    yield Act(
        2,
        "13:05",
        "tobias",
        "At night the night officer approves, later",
        {
            "workflows/disruption-notice.bpmn": flows.disruption(tide_check=True, approver="night officer", limit=45),
        },
        branch="tobias/quiet-hours",
        tasks=["SK-236"],
    )
    yield Act(
        1,
        "03:12",
        "maren",
        "Sailings of the week",
        {
            "data/sailings.csv": tables.sailings(48, tide=True),
            "data/tides.csv": tables.tides(120),
            "data/passengers.csv": tables.passengers(48),
        },
        labels={
            "source": "nightly",
            "made-from": "data/tides.csv, logs/gate-aldwick.dat, pipelines/nightly-sailings.cwl, scripts/add_tide.py",
            "made-with": "python scripts/add_tide.py",
            "made-by": "nightly 118",
        },
    )
    yield Act(
        0,
        "00:05",
        "maren",
        "Tell the purser when counts are stored",
        {
            "pipelines/passenger-counts.json": flows.load_json(retries=4, notify=True, schedule="03:00", indent=4),
        },
    )
