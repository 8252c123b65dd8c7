"""Findings as lines: mark and type, label, before → after."""

from __future__ import annotations

from typing import Any

from everyshelf.cli import terminal

_SHOWN = 40
_USERS = 5


def print_artifact(found: dict[str, Any], name: str, versions: str, *, shown: int = _SHOWN) -> None:
    """One compared artifact: its strongest effect, kind and name, then its findings that are not cosmetic."""
    effects = found["effects"]
    strongest = next((e for e in ("breaks", "alters", "cosmetic") if effects.get(e)), "same")
    said = terminal.effect(strongest)
    label = terminal.bold(terminal.cut(name, 21))
    terminal.say(
        terminal.line(
            (2, said), (terminal.KIND, found["kind"]), (terminal.NAME, label), (terminal.DETAIL, terminal.dim(versions))
        )
    )
    if found.get("note"):
        terminal.say(terminal.line((4, terminal.dim(found["note"]))))
    findings = [f for f in found["findings"] if f["effect"] != "cosmetic"] or found["findings"]
    for finding in findings[:shown]:
        terminal.say(finding_line(finding))
        for line in use_lines(finding):
            terminal.say(line)
    if len(findings) > shown:
        terminal.say(terminal.dim(f"    … {len(findings) - shown} more; see --json"))


def finding_line(finding: dict[str, Any]) -> str:
    """``≠ step        Approve notice          assignee duty officer → harbour master``"""
    mark = terminal.tone(finding["action"], terminal.GLYPHS[finding["action"]])
    kind = f"{mark} {terminal.cut(finding['type'], 11)}"
    if finding["label"] == finding["type"] and finding.get("field"):
        # A field of the artifact itself: its name says more than the kind once more.
        finding = {**finding, "label": finding["field"], "field": None}
    label = terminal.cut(finding["label"], 26)
    styled = terminal.dim(kind) if finding["effect"] == "cosmetic" else kind
    tail = terminal.stops("breaks") + " " if finding["effect"] == "breaks" else ""
    room = 98 - terminal.DETAIL - terminal.width_of(tail)
    return terminal.line((4, styled), (18, label), (terminal.DETAIL, tail + terminal.cut(_detail(finding), room)))


def use_lines(finding: dict[str, Any]) -> list[str]:
    """Whom a breaking finding breaks, one line an artifact: where, and whether that is exact or a guess."""
    places: dict[str, list[dict[str, Any]]] = {}
    for use in finding.get("used_by", []):
        places.setdefault(use["artifact"], []).append(use)
    lines = []
    for artifact, uses in list(places.items())[:_USERS]:
        labels = ", ".join(dict.fromkeys(u["label"] for u in uses))
        guess = "" if any(u["exact"] for u in uses) else "a guess: "
        where = terminal.cut(f"{guess}{labels}", 98 - terminal.DETAIL)
        name = terminal.cut(artifact.rpartition("/")[2], 26)
        lines.append(terminal.line((6, terminal.dim("used by")), (18, name), (terminal.DETAIL, terminal.dim(where))))
    if len(places) > _USERS:
        lines.append(terminal.line((18, terminal.dim(f"… and {len(places) - _USERS} more artifacts"))))
    return lines


def _detail(finding: dict[str, Any]) -> str:
    before, after = finding.get("before"), finding.get("after")
    named = finding.get("detail") if finding.get("detail") in ("leads to", "comes from") else finding.get("field")
    field = f"{named} " if named else ""
    if finding["action"] in ("added", "removed") and not named:
        return _brief(after if after is not None else before) if not finding.get("detail") else str(finding["detail"])
    if finding["action"] in ("moved", "renamed") and before is not None:
        return f"from {_value(before)}"
    if before is None and after is None:
        return str(finding.get("detail", ""))
    if finding.get("detail") and named != finding.get("detail") and "\n" in f"{before}{after}":
        return f"{field}{finding['detail']}"
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


def print_rows(table: dict[str, Any], most: int) -> None:
    """The first rows that differ, with their cells."""
    from everyshelf.core.compare.rows import rows_told
    from everyshelf.core.report.words import cells_of

    for row in rows_told(table, most):
        mark = terminal.tone(row.action, terminal.GLYPHS[row.action])
        terminal.say(terminal.line((4, mark), (6, terminal.cut(row.name, 24)), (32, terminal.cut(cells_of(row), 88))))
    rows = table["rows"]
    left = rows["added"] + rows["removed"] + rows["changed"] - most
    if left > 0 and table["details"]:
        terminal.say(terminal.line((4, terminal.dim("…")), (6, terminal.dim(f"{left} more rows differ"))))


def print_table_line(table: dict[str, Any], name: str = "") -> None:
    """Rows before and after, and how many changed, came and went; under ``name`` where there are several tables."""
    if name:
        terminal.say(terminal.line((4, terminal.bold(name))))
    rows = table["rows"]
    marks = [
        terminal.tone(state, f"{terminal.GLYPHS[state]} {rows[state]}")
        for state in ("changed", "added", "removed")
        if rows[state]
    ]
    cells = ", ".join(
        f"{name}: {terminal.count(c['changed'], 'cell')}" for name, c in table["cells"].items() if c["changed"]
    )
    key = f"by {', '.join(table['key'])}" if table["key"] else "without a key"
    terminal.say(
        terminal.line(
            (4, terminal.dim("rows")),
            (18, f"{rows['before']} → {rows['after']}"),
            (terminal.DETAIL, "   ".join([*marks, cells]).strip() or terminal.dim("same")),
        )
    )
    terminal.say(terminal.line((4, terminal.dim("matched")), (18, terminal.dim(key))))


def print_measured(model: dict[str, Any]) -> None:
    """Metrics beside a model that moved, and whether that is better."""
    from everyshelf.core.report.words import measured

    for name, before, after, said in measured(model):
        told = f"{before} → {after}   {terminal.dim(said)}"
        terminal.say(
            terminal.line((4, terminal.dim("measured")), (18, terminal.cut(name, 26)), (terminal.DETAIL, told))
        )
