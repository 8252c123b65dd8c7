"""Reports in Markdown (CommonMark with tables), readable as plain text too."""

from __future__ import annotations

import html
import re
from typing import Any

from everyshelf.core.compare.rows import rows_told, shifts_told
from everyshelf.core.report.lines import Line, changed_lines
from everyshelf.core.report.words import GLYPHS, cells_of, measured, rows_of, sides, users, what

_MOST = 2000
_MOST_ROWS = 100
_MOST_SHIFTS = 12
_SPECIAL = re.compile(r"([\\`*_\[\]|#])")


def markdown(report: dict[str, Any]) -> str:
    """The report as Markdown."""
    effects = report["effects"]
    out = [f"# {_text(report['title'])}", "", f"**{_text(report['sentence'])}**", ""]
    out += ["| effect | findings |", "| --- | ---: |"]
    out += [f"| {effect} | {effects.get(effect, 0)} |" for effect in ("breaks", "alters", "cosmetic")]
    if report["conditions"]:
        out += ["", "|  | condition | what is said of it |", "| --- | --- | --- |"]
        out += [f"| {'met' if m else '**holds**'} | {_text(n)} | {_text(s)} |" for m, n, s in report["conditions"]]
    for artifact in report["artifacts"]:
        out += [
            "",
            f"## {_text(artifact['name'])}",
            "",
            f"{_text(artifact['kind'])}, {_code(artifact['path'])}, {_said(artifact)}",
        ]
        if artifact.get("note"):
            out += ["", _text(artifact["note"])]
        if artifact.get("table"):
            out += ["", _text(rows_of(artifact["table"])), *_rows(artifact["table"])]
        for name, table in (artifact.get("tables") or {}).items():
            out += ["", f"### {_text(name)}", "", _text(rows_of(table)), *_rows(table)]
        if artifact.get("model"):
            out += _measured(artifact["model"])
        out += _findings(artifact["shown"])
        if artifact["cosmetic"]:
            count = len(artifact["cosmetic"])
            out += ["", f"And {count} cosmetic finding{'s' if count > 1 else ''} (layout, order, formatting)."]
        if artifact.get("truncated"):
            out += ["", "There are more findings than this report lists."]
    return "\n".join([*out, "", f"Made {report['made']} by Every Shelf.", ""])


def _rows(table: dict[str, Any]) -> list[str]:
    """The first rows that differ, and how far columns shift; where the comparison of one artifact brought them."""
    out: list[str] = []
    if shifts := [s for s in shifts_told(table) if s["value"] > 0]:
        out += ["", "| column | shift | limit | measure |", "| --- | ---: | ---: | --- |"]
        for s in shifts[:_MOST_SHIFTS]:
            over = " (over)" if s["beyond"] else ""
            out.append(f"| {_text(s['column'])} | {s['value']:.3f}{over} | {s['limit']:g} | {s['measure']} |")
    if rows := rows_told(table, _MOST_ROWS):
        out += ["", "|  | row | cells |", "| --- | --- | --- |"]
        out += [f"| {GLYPHS[r.action]} | {_text(r.name)} | {_text(cells_of(r))} |" for r in rows]
    return out


def _measured(model: dict[str, Any]) -> list[str]:
    told = measured(model)
    if not told:
        return []
    head = ["", "| measured | before | after | that is |", "| --- | ---: | ---: | --- |"]
    return [*head, *(f"| {' | '.join(_text(cell) for cell in row)} |" for row in told)]


def _said(artifact: dict[str, Any]) -> str:
    numbers = [(artifact.get(side) or {}).get("version") for side in ("before", "after")]
    versions = f", version {numbers[0]} to {numbers[1]}" if all(numbers) else ""
    return f"{artifact['state']}{versions}: {_text(artifact['headline'] or '')}"


def _findings(findings: list[dict[str, Any]]) -> list[str]:
    if not findings:
        return []
    out = ["", "|  | part | what | before | after | effect |", "| --- | --- | --- | --- | --- | --- |"]
    below: list[str] = []
    for finding in findings[:_MOST]:
        before, after = sides(finding)
        if "\n" in f"{before or ''}{after or ''}":
            below += ["", f"{_text(finding['label'])}, {_text(what(finding))}:", "", *_lines(before or "", after or "")]
            before = after = "see below"
        cells = (_text(finding["label"]), _text(what(finding)), _cell(before), _cell(after), _effect(finding))
        out.append(f"| {GLYPHS[finding['action']]} {_text(finding['type'])} | {' | '.join(cells)} |")
    if len(findings) > _MOST:
        out += ["", f"… and {len(findings) - _MOST} more."]
    return [*out, *below]


def _effect(finding: dict[str, Any]) -> str:
    used = users(finding)
    return f"**breaks** {_text('; '.join(used))}".strip() if finding["effect"] == "breaks" else finding["effect"]


def _lines(before: str, after: str) -> list[str]:
    def line(one: Line) -> str:
        return {"same": "  ", "old": "- ", "new": "+ ", "gap": "@ "}[one.kind] + one.text

    lines = [line(one) for one in changed_lines(before, after)]
    fence = "~" * max(3, max((len(m) for text in lines for m in re.findall(r"~+", text)), default=0) + 1)
    return [f"{fence}diff", *lines, fence]


def _cell(text: str | None) -> str:
    return "" if text is None else _text(text if len(text) < 400 else f"{text[:398]}…")


def _text(text: str) -> str:
    # Angle brackets as entities: not every renderer of Markdown takes a backslash before them for an escape.
    return html.escape(_SPECIAL.sub(r"\\\1", " ".join(text.split())), quote=False)


def _code(text: str) -> str:
    return f"`{' '.join(text.replace('`', ' ').split())}`"
