"""A history to keep and to send: the commits of a line, day by day, with what each did, who made it, and why."""

from __future__ import annotations

from datetime import datetime
from itertools import groupby
from typing import Any, Literal

import msgspec

from everyshelf.core.answers.base import as_json
from everyshelf.core.compare.sentences import count_noun
from everyshelf.core.outline.model import EFFECTS
from everyshelf.core.report.document import Form
from everyshelf.core.report.html import template
from everyshelf.core.report.markdown import code, escaped
from everyshelf.decoding import converted


class ReportedVersion(msgspec.Struct, kw_only=True):
    """What a commit did to one artifact; ``version`` is null where it removed it."""

    path: str
    version: int | None
    kind: str
    effect: str
    headline: str
    removed: bool


class ReportedCommit(msgspec.Struct, kw_only=True):
    """One commit; ``artifacts`` names the first of ``artifact_count``. ``effect``: the worst on any of them."""

    commit: str
    recorded: datetime
    author: str
    summary: str
    description: str
    labels: dict[str, str]
    tasks: list[str]
    tags: list[str]
    merge: bool
    effect: str
    artifact_count: int
    artifacts: list[ReportedVersion]


class HistoryReport(msgspec.Struct, kw_only=True):
    """Commits of a line. ``sought``: by what they were chosen, in words; ``total``: how many there are, also of those
    beyond the last that is listed; ``effects``: of the listed ones, by their worst."""

    report: Literal["history"] = "history"
    title: str
    made: str
    sentence: str
    sought: list[str]
    total: int
    effects: dict[str, int]
    commits: list[ReportedCommit]


def report_of_history(
    commits: list[dict[str, Any]], *, title: str, made: datetime, sought: list[str], total: int
) -> HistoryReport:
    """The report of commits in the form in which a history lists them."""
    listed = converted(commits, list[ReportedCommit])
    effects = {effect: sum(one.effect == effect for one in listed) for effect in EFFECTS}
    people = sorted({one.author for one in listed})
    touched = {version.path for one in listed for version in one.artifacts}
    by = f" by {_listed(people)}" if people else ""
    sentence = f"{count_noun(total, 'commit')}{by}, {count_noun(len(touched), 'artifact')} touched."
    if total > len(listed):
        sentence = f"{sentence} The first {len(listed):,} are listed."
    return HistoryReport(
        title=title,
        made=made.isoformat(timespec="minutes"),
        sentence=sentence,
        sought=sought,
        total=total,
        effects={name: number for name, number in effects.items() if number},
        commits=listed,
    )


def written_history(report: HistoryReport, form: Form) -> str:
    """The report as a text of that form."""
    if form == "json":
        return msgspec.json.format(as_json(report), indent=2).decode() + "\n"
    days = [(day, list(own)) for day, own in groupby(report.commits, key=lambda one: one.recorded.date())]
    if form == "html":
        return template("history.html").render(report=report, days=days)
    out = [f"# {escaped(report.title)}", "", f"**{escaped(report.sentence)}**"]
    if report.sought:
        out += ["", "; ".join(map(escaped, report.sought))]
    for day, own in days:
        out += ["", f"## {day:%A, %d %B %Y}"]
        for one in own:
            out += _commit(one)
    return "\n".join([*out, "", f"Made {report.made} by Every Shelf.", ""])


def _commit(one: ReportedCommit) -> list[str]:
    worst = f"**{one.effect}**" if one.effect == "breaks" else one.effect
    out = ["", f"### {escaped(one.summary)}", ""]
    out.append(
        ", ".join(part for part in (escaped(one.author), f"{one.recorded:%H:%M}", code(one.commit[:8]), worst) if part)
    )
    facts = [
        *(f"tag:{tag}" for tag in one.tags),
        *one.tasks,
        *(f"{name}={value}" for name, value in one.labels.items()),
    ]
    if facts:
        out += ["", ", ".join(map(escaped, facts))]
    if one.description:
        out += ["", escaped(one.description)]
    out.append("")
    for version in one.artifacts:
        number = "removed" if version.removed else f"version {version.version}"
        said = f": {escaped(version.headline)}" if version.headline else ""
        out.append(f"- {version.effect or 'not compared'} {code(version.path)}, {number}{said}")
    if one.artifact_count > len(one.artifacts):
        out.append(f"- and {one.artifact_count - len(one.artifacts)} more")
    return out


def _listed(people: list[str]) -> str:
    if len(people) > 6:
        return f"{len(people)} people"
    return " and ".join(part for part in (", ".join(people[:-1]), people[-1]) if part)
