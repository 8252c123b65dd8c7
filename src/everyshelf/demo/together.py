"""What people do together on the demo's shelf: an experiment with runs on three branches, proposals, an invitation."""

from __future__ import annotations

import json
import math
from collections.abc import Callable
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta

from everyshelf.client import ChangeRequest, CommitMessage, ShelfClient

_TIDES, _WIND, _MAIN = "ines/tide-height", "tobias/wind", "main"
_QUESTION = "Does tide height cut the error of the delay forecast on sailings over 10 minutes late?"
_ROUNDS = 300


@dataclass(frozen=True)
class _Trial:
    """One training: where, with what, and how far it comes."""

    branch: str
    who: str
    depth: int
    trees: int
    rate: float
    columns: int
    error: float
    late_found: float
    minutes: float
    hours_ago: float


_TRIALS = (
    _Trial(_MAIN, "ines", 6, 400, 0.1, 14, 4.12, 0.61, 3.1, 71),
    _Trial(_MAIN, "ines", 8, 400, 0.1, 14, 4.05, 0.62, 4.2, 70),
    _Trial(_TIDES, "ines", 6, 400, 0.1, 15, 3.71, 0.68, 3.2, 52),
    _Trial(_TIDES, "ines", 8, 400, 0.1, 15, 3.52, 0.71, 4.4, 51),
    _Trial(_TIDES, "ines", 8, 600, 0.05, 15, 3.41, 0.73, 7.3, 27),
    _Trial(_TIDES, "ines", 10, 600, 0.05, 15, 3.47, 0.72, 9.1, 26),
    _Trial(_WIND, "tobias", 6, 400, 0.1, 17, 4.09, 0.60, 4.0, 30),
    _Trial(_WIND, "tobias", 8, 400, 0.1, 17, 4.01, 0.63, 5.2, 29),
    _Trial(_WIND, "tobias", 10, 400, 0.1, 17, 4.08, 0.62, 6.4, 8),
)


def work_together(as_person: Callable[[str], ShelfClient]) -> None:
    """Everything, by the person who does it."""
    _experiments(as_person)
    _proposals(as_person)
    as_person("maren").invite("author", "Oskar, for the summer timetable", 14)


def _experiments(as_person: Callable[[str], ShelfClient]) -> None:
    ines, tobias = as_person("ines"), as_person("tobias")
    ines.begin_experiment(_QUESTION, key="tide-height", branch=_TIDES, primary="mean error")
    tobias.make_branch(_WIND, "main", "Wind columns for the delay forecast")
    for trial in _TRIALS:
        _run(as_person(trial.who), trial)
    question = "Is a forecast by the hour better than one for each sailing?"
    tobias.begin_experiment(question, key="hourly-forecast", branch="tobias/hourly", primary="mean error")
    tobias.abandon_experiment("hourly-forecast", "Harbours need it for each sailing; the hour is already a column.")


def _run(shelf: ShelfClient, trial: _Trial) -> None:
    head = shelf.branch(trial.branch).head
    measured = {"mean error": trial.error, "P90": round(trial.error * 2.86, 1), "late found": trial.late_found}
    commit = head
    if trial.branch != _MAIN:
        written = json.dumps(measured, indent=2) + "\n"
        content = shelf.upload(written.encode()).id
        change = [ChangeRequest("results/delay-forecast.json", content)]
        message = CommitMessage(
            f"Run of tide-height: depth {trial.depth}, trees {trial.trees}", labels={"experiment": "tide-height"}
        )
        commit = shelf.commit(trial.branch, head, change, message).commit
    tides = ["data/tides.csv"] if trial.branch == _TIDES else []
    shelf.record_run(
        "tide-height",
        trial.branch,
        str(commit),
        base=str(head),
        reads=["data/sailings.csv", *tides, "scripts/train_delays.py"],
        parameters={"columns": trial.columns, "trees": trial.trees, "depth": trial.depth, "rate": trial.rate},
        metrics=measured,
        series={"mean error": _course(trial)},
        command=f"python scripts/train_delays.py --depth {trial.depth} --trees {trial.trees}",
        began=datetime.now(UTC) - timedelta(hours=trial.hours_ago),
        took_seconds=trial.minutes * 60,
    )


def _course(trial: _Trial) -> list[tuple[float, float]]:
    """The error falls towards what it ends at, the slower the lower the rate, with a little unrest."""
    points = []
    for step in range(_ROUNDS + 1):
        round_number = step * trial.trees / _ROUNDS
        left = math.exp(-round_number * trial.rate / 9)
        unrest = 0.03 * math.sin(step * 0.7 + trial.depth) * (1 - step / _ROUNDS)
        points.append((round(round_number, 1), round(trial.error + 3.4 * left + unrest, 4)))
    return points


def _proposals(as_person: Callable[[str], ShelfClient]) -> None:
    tobias, ines = as_person("tobias"), as_person("ines")
    made = tobias.open_proposal(
        "Quiet hours: the night officer approves, refunds over 80 go to the purser",
        "tobias/quiet-hours",
        description="From 22 to 6 nobody wakes the harbour master. Agreed with the pursers in February.",
        tasks=["SK-236"],
        reviewers=["ines", "maren"],
        delete_source=True,
    )
    number = made["number"]
    path = "workflows/disruption-notice.bpmn"
    part = "/process:disruption_notice/step:approve/assignment:approve_owner"
    ines.remark(number, "Who is the night officer on Sundays?", path=path, part=part, label="night officer")
    tobias.remark(number, "The mate on watch; it is in the crew roster.", answer_to=_first(ines, number))
    ines.give_verdict(number, "agree")
    ines.remark(number, "The limit of 45 minutes is agreed with the harbours.", condition=True)
    tobias.record_check("fare rules", True, "tobias/quiet-hours", comment="31 of 31")
    tobias.record_check("gangway smoke", False, "tobias/quiet-hours", comment="1 of 10: the night gate stays shut")


def _first(shelf: ShelfClient, number: int) -> str:
    remark: str = shelf.proposal(number)["remarks"][0]["id"]
    return remark
