"""Reports in Markdown (CommonMark with tables), readable as plain text too."""

from __future__ import annotations

import html
import re

from everyshelf.core.answers.findings import FindingAnswer
from everyshelf.core.answers.models import ModelAnswer
from everyshelf.core.answers.states import CommitLine, ComparedArtifact
from everyshelf.core.answers.tables import TableAnswer
from everyshelf.core.compare.rows import rows_told, shifts_told
from everyshelf.core.compare.sentences import count_noun
from everyshelf.core.outline.model import EFFECTS
from everyshelf.core.report.lines import Line, changed_lines
from everyshelf.core.report.model import Report, by_effect
from everyshelf.core.report.words import GLYPHS, cells_of, measured, rows_of, sides, users, what

_MOST = 2000
_MOST_ROWS = 100
_MOST_SHIFTS = 12
_SPECIAL = re.compile(r"([\\`*_\[\]|#])")


def markdown(report: Report) -> str:
    """The report as Markdown."""
    out = [f"# {escaped(report.title)}", "", f"**{escaped(report.sentence)}**", ""]
    out += ["| effect | findings |", "| --- | ---: |"]
    out += [f"| {effect} | {report.effects.get(effect, 0)} |" for effect in EFFECTS]
    if report.conditions:
        out += ["", "|  | condition | what is said of it |", "| --- | --- | --- |"]
        out += [f"| {'met' if m else '**holds**'} | {escaped(n)} | {escaped(s)} |" for m, n, s in report.conditions]
    for artifact in report.artifacts:
        out += _artifact(artifact)
        out += _made(report.commits.get(artifact.path, []))
    return "\n".join([*out, "", f"Made {report.made} by Every Shelf.", ""])


def _artifact(artifact: ComparedArtifact) -> list[str]:
    place = f"{escaped(artifact.kind)}, {code(artifact.path)}, {_said(artifact)}"
    out = ["", f"## {escaped(artifact.name)}", "", place]
    if artifact.note:
        out += ["", escaped(artifact.note)]
    if artifact.table is not None:
        out += ["", escaped(rows_of(artifact.table)), *_rows(artifact.table)]
    for name, table in (artifact.tables or {}).items():
        out += ["", f"### {escaped(name)}", "", escaped(rows_of(table)), *_rows(table)]
    if artifact.model is not None:
        out += _measured(artifact.model)
    shown, cosmetic = by_effect(artifact)
    out += _findings(shown)
    if cosmetic:
        out += ["", f"And {count_noun(len(cosmetic), 'cosmetic finding')} (layout, order, formatting)."]
    if artifact.truncated:
        out += ["", "There are more findings than this report lists."]
    return out


def _made(commits: list[CommitLine]) -> list[str]:
    """Who made what differs, and why."""
    told = []
    for one in commits:
        version = f", version {one.version}" if one.version else ""
        who = f"{escaped(one.author)}, {one.recorded:%Y-%m-%d %H:%M}"
        told.append(f"- {who}: {escaped(one.summary)} (`{one.commit[:8]}`{version})")
    return ["", *told] if told else []


def _rows(table: TableAnswer) -> list[str]:
    """The first rows that differ, and how far columns shift; where the comparison of one artifact brought them."""
    out: list[str] = []
    if shifts := [s for s in shifts_told(table) if s.shift.value > 0]:
        out += ["", "| column | shift | limit | measure |", "| --- | ---: | ---: | --- |"]
        for told in shifts[:_MOST_SHIFTS]:
            shift = told.shift
            over = " (over)" if shift.beyond else ""
            out.append(f"| {escaped(told.column)} | {shift.value:.3f}{over} | {shift.limit:g} | {shift.measure} |")
    if rows := rows_told(table, _MOST_ROWS):
        out += ["", "|  | row | cells |", "| --- | --- | --- |"]
        out += [f"| {GLYPHS[r.action]} | {escaped(r.name)} | {escaped(cells_of(r))} |" for r in rows]
    return out


def _measured(model: ModelAnswer) -> list[str]:
    told = measured(model)
    if not told:
        return []
    head = ["", "| measured | before | after | that is |", "| --- | ---: | ---: | --- |"]
    return [*head, *(f"| {' | '.join(escaped(cell) for cell in row)} |" for row in told)]


def _said(artifact: ComparedArtifact) -> str:
    before, after = artifact.versions
    versions = f", version {before} to {after}" if before and after else ""
    return f"{artifact.state}{versions}: {escaped(artifact.headline)}"


def _findings(findings: list[FindingAnswer]) -> list[str]:
    if not findings:
        return []
    out = ["", "|  | part | what | before | after | effect |", "| --- | --- | --- | --- | --- | --- |"]
    below: list[str] = []
    for finding in findings[:_MOST]:
        before, after = sides(finding)
        if "\n" in f"{before or ''}{after or ''}":
            below += [
                "",
                f"{escaped(finding.label)}, {escaped(what(finding))}:",
                "",
                *_lines(before or "", after or ""),
            ]
            before = after = "see below"
        cells = (escaped(finding.label), escaped(what(finding)), _cell(before), _cell(after), _effect(finding))
        out.append(f"| {GLYPHS[finding.action]} {escaped(finding.type)} | {' | '.join(cells)} |")
    if len(findings) > _MOST:
        out += ["", f"… and {len(findings) - _MOST} more."]
    return [*out, *below]


def _effect(finding: FindingAnswer) -> str:
    used = users(finding)
    return f"**breaks** {escaped('; '.join(used))}".strip() if finding.effect == "breaks" else finding.effect or ""


def _lines(before: str, after: str) -> list[str]:
    def line(one: Line) -> str:
        return {"same": "  ", "old": "- ", "new": "+ ", "gap": "@ "}[one.kind] + one.text

    lines = [line(one) for one in changed_lines(before, after)]
    fence = "~" * max(3, max((len(m) for line in lines for m in re.findall(r"~+", line)), default=0) + 1)
    return [f"{fence}diff", *lines, fence]


def _cell(text: str | None) -> str:
    return "" if text is None else escaped(text if len(text) < 400 else f"{text[:398]}…")


def escaped(text: str) -> str:
    """A text on one line in which nothing is taken for Markdown."""
    # Angle brackets as entities: not every renderer of Markdown takes a backslash before them for an escape.
    return html.escape(_SPECIAL.sub(r"\\\1", " ".join(text.split())), quote=False)


def code(text: str) -> str:
    """A text on one line as code."""
    return f"`{' '.join(text.replace('`', ' ').split())}`"
