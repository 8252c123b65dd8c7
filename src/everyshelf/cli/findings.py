"""Findings as lines: mark and type, label, before → after."""

from __future__ import annotations

from typing import Any

import msgspec

from everyshelf.cli import terminal
from everyshelf.core.answers.comparisons import Compared
from everyshelf.core.answers.findings import FindingAnswer, Use
from everyshelf.core.answers.models import ModelAnswer
from everyshelf.core.answers.tables import TableAnswer
from everyshelf.core.outline.model import EFFECTS

_SHOWN = 40
_USERS = 5
_LINE_MARKS = {"old": ("−", "removed"), "new": ("+", "added"), "same": (" ", ""), "gap": (" ", "")}


def print_artifact(
    found: Compared, name: str, versions: str, *, shown: int = _SHOWN, whole: bool = False, headline: str = ""
) -> None:
    """Print one compared artifact: its strongest effect, kind and name, then its findings that are not cosmetic.

    ``whole``: with whole values, the changed lines of texts, and where each part lies; else one line a finding.
    """
    strongest = next((e for e in EFFECTS if found.effects.get(e)), "same")
    if strongest != "breaks" and not found.judged:
        strongest = "not judged"
    listing = terminal.Listing(
        (
            terminal.Column(2),
            terminal.Column(terminal.KIND),
            terminal.Column(terminal.NAME, path=True),
            terminal.Column(terminal.DETAIL, wrap=True),
        )
    )
    listing.row(terminal.effect(strongest), found.kind, (name, terminal.bold), (versions, terminal.dim))
    listing.show()
    if found.note and found.note not in headline:
        terminal.paragraph(terminal.dim(found.note), indent=4)
    findings = [f for f in found.findings if f.effect != "cosmetic"] or found.findings
    _print_findings(findings[: terminal.most(shown)], whole=whole)
    terminal.say_left(findings, shown)


def _print_findings(findings: list[FindingAnswer], *, whole: bool) -> None:
    """All findings in one listing, so that their columns agree; texts of several lines below their own."""
    listing = terminal.Listing(
        (
            terminal.Column(4),
            terminal.Column(18, path=True),
            terminal.Column(terminal.DETAIL),
            terminal.Column(terminal.DETAIL, wrap=whole, text=not whole),
        )
    )
    inside = ""
    for finding in findings:
        within = finding.within if whole else ""
        if within != inside:
            listing.show()
            listing = terminal.Listing(listing.columns)
            terminal.say(f"    {terminal.dim('in')} {terminal.bold(within)}" if within else "")
            inside = within
        cells, lines = _finding_cells(finding, whole=whole)
        listing.row(*cells)
        for line in (*lines, *use_lines(finding)):
            listing.under(line)
    listing.show()


def _finding_cells(finding: FindingAnswer, *, whole: bool) -> tuple[list[str], list[str]]:
    """``≠ step        Approve notice          assignee duty officer → harbour master``; and lines to show below."""
    mark = terminal.tone(finding.action, terminal.GLYPHS[finding.action])
    kind = f"{mark} {finding.type}"
    if finding.label == finding.type and finding.field:
        # A field of the artifact itself: its name says more than the kind once more.
        finding = msgspec.structs.replace(finding, label=finding.field, field=None)
    label = terminal.one_line(finding.label)
    styled = terminal.dim(kind) if finding.effect == "cosmetic" else kind
    lines = _changed_lines(finding) if whole else []
    detail = (finding.field or "") if lines else _detail(finding)
    breaks = terminal.stops("breaks") if finding.effect == "breaks" else ""
    return [styled, label, breaks, terminal.one_line(detail)], lines


def _changed_lines(finding: FindingAnswer) -> list[str]:
    """For texts of several lines, those that differ with two equal ones around them."""
    before, after = finding.before, finding.after
    texts = [text for text in (before, after) if text is not None]
    if not texts or not all(isinstance(t, str) for t in texts) or not any("\n" in t for t in texts):
        return []
    from everyshelf.core.report.lines import changed_lines

    told = []
    for line in changed_lines(before or "", after or ""):
        mark, tone = _LINE_MARKS[line.kind]
        text = f"{mark} {line.text}".rstrip()
        told.append("        " + (terminal.tone(tone, text) if tone else terminal.dim(text)))
    return told


def use_lines(finding: FindingAnswer) -> list[str]:
    """Whom a breaking finding breaks, one line an artifact: where, and whether that is exact or a guess."""
    from everyshelf.core.history.names import distinct_names

    places: dict[str, list[Use]] = {}
    for use in finding.used_by:
        places.setdefault(use.artifact, []).append(use)
    listing = terminal.Listing(
        (terminal.Column(6), terminal.Column(18, path=True), terminal.Column(terminal.DETAIL, wrap=True))
    )
    names = distinct_names(places)
    for artifact, uses in list(places.items())[:_USERS]:
        labels = ", ".join(dict.fromkeys(u.label for u in uses))
        guess = "" if any(u.exact for u in uses) else "a guess: "
        listing.row(("used by", terminal.dim), names[artifact], (f"{guess}{labels}", terminal.dim))
    lines = listing.lines(terminal.width())
    if len(places) > _USERS:
        lines.append(terminal.line((18, terminal.dim(f"and {len(places) - _USERS} more artifacts"))))
    return lines


def _detail(finding: FindingAnswer) -> str:
    before, after = finding.before, finding.after
    detail = finding.detail
    named = detail if detail in ("leads to", "comes from") else finding.field
    field = f"{named} " if named else ""
    if finding.action in ("added", "removed") and not named:
        return detail or _brief(after if after is not None else before)
    if finding.action in ("moved", "renamed") and before is not None:
        return f"from {_value(before)}"
    if before is None and after is None:
        return detail
    if detail and named != detail and "\n" in f"{before}{after}":
        return f"{field}{detail}"
    return f"{field}{_value(before)} → {_value(after)}"


def _brief(value: Any) -> str:
    if isinstance(value, dict):
        return ", ".join(f"{k} {_value(v)}" for k, v in value.items() if k not in ("id", "name"))
    return "" if value is None else _value(value)


def _value(value: Any) -> str:
    if value is None:
        return "none"
    if value is True or value is False:
        return str(value).lower()
    return " ".join(str(value).split())


def print_rows(table: TableAnswer, most: int) -> None:
    """The first rows that differ, with their cells."""
    from everyshelf.core.compare.rows import rows_told
    from everyshelf.core.report.words import cells_of

    listing = terminal.Listing((terminal.Column(4), terminal.Column(6, path=True), terminal.Column(32, wrap=True)))
    for row in rows_told(table, most):
        mark = terminal.tone(row.action, terminal.GLYPHS[row.action])
        listing.row(mark, terminal.one_line(row.name), terminal.one_line(cells_of(row)))
    listing.show()
    rows = table.rows
    left = rows.added + rows.removed + rows.changed - most
    if left > 0 and table.details:
        terminal.say(terminal.line((4, terminal.dim("…")), (6, terminal.dim(f"{left} more rows differ"))))


def print_table_line(table: TableAnswer, name: str = "") -> None:
    """Rows before and after, and how many changed, came and went; under ``name`` where there are several tables."""
    from everyshelf.core.compare.sentences import group

    if name:
        terminal.say(terminal.line((4, terminal.bold(name))))
    rows = table.rows
    counts = {"changed": rows.changed, "added": rows.added, "removed": rows.removed}
    marks = [
        terminal.tone(state, f"{terminal.GLYPHS[state]} {group(count)}") for state, count in counts.items() if count
    ]
    cells = ", ".join(f"{name}: {terminal.count(c.changed, 'cell')}" for name, c in table.cells.items() if c.changed)
    key = f"by {', '.join(table.key)}" if table.key else "without a key"
    terminal.say(
        terminal.line(
            (4, terminal.dim("rows")),
            (18, f"{group(rows.before)} → {group(rows.after)}"),
            (terminal.DETAIL, "   ".join([*marks, cells]).strip() or terminal.dim("same")),
        )
    )
    terminal.say(terminal.line((4, terminal.dim("matched")), (18, terminal.dim(key))))


def print_measured(model: ModelAnswer) -> None:
    """Metrics beside a model that moved, and whether that is better."""
    from everyshelf.core.report.words import measured

    listing = terminal.Listing((terminal.Column(4), terminal.Column(18, path=True), terminal.Column(terminal.DETAIL)))
    for name, before, after, said in measured(model):
        listing.row(("measured", terminal.dim), name, f"{before} → {after}   {terminal.dim(said)}")
    listing.show()
