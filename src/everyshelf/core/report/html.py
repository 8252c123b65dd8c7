"""Reports as one HTML page that needs nothing else: no script, no font, no picture from anywhere."""

from __future__ import annotations

from functools import cache
from typing import Any

from jinja2 import Environment, PackageLoader, StrictUndefined, Template

from everyshelf.core.compare.rows import rows_told, shifts_told
from everyshelf.core.compare.sentences import count_noun, group
from everyshelf.core.report.lines import changed_lines, words_apart
from everyshelf.core.report.words import measured, rows_of, sides, what

_MOST = 2000
_LONG = 400


def html(report: dict[str, Any]) -> str:
    """The report as a page; everything from the files is escaped."""
    artifacts = [{**a, "rows": [_row(f) for f in a["shown"][:_MOST]]} for a in report["artifacts"]]
    return _template().render(report={**report, "artifacts": artifacts}, most=_MOST)


def _row(finding: dict[str, Any]) -> dict[str, Any]:
    before, after = sides(finding)
    lines = changed_lines(before or "", after or "") if "\n" in f"{before or ''}{after or ''}" else None
    both = before is not None and after is not None and finding.get("field") is not None
    marked = words_apart(before or "", after or "") if both and " " in f"{before}{after}" else ([], [])
    return {
        **finding,
        "what": what(finding),
        "old": _pieces(before, marked[0]),
        "new": _pieces(after, marked[1]),
        "lines": lines,
    }


def _pieces(text: str | None, marked: list[tuple[str, bool]]) -> list[tuple[str, bool]] | None:
    if text is None:
        return None
    return marked or [(text if len(text) <= _LONG else f"{text[: _LONG - 2]}…", False)]


@cache
def _template() -> Template:
    loader = PackageLoader("everyshelf.core.report", "templates")
    environment = Environment(
        loader=loader, autoescape=True, undefined=StrictUndefined, trim_blocks=True, lstrip_blocks=True
    )
    environment.filters |= {
        "group": group,
        "count": count_noun,
        "rows_of": rows_of,
        "rows_told": rows_told,
        "shifts_told": shifts_told,
        "measured": measured,
    }
    return environment.get_template("report.html")
