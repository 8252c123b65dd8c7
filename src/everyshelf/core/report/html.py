"""Reports as one HTML page that needs nothing else: no script, no font, no picture from anywhere."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cache

from jinja2 import Environment, PackageLoader, StrictUndefined, Template

from everyshelf.core.answers.findings import FindingAnswer
from everyshelf.core.answers.states import ComparedArtifact
from everyshelf.core.compare.rows import rows_told, shifts_told
from everyshelf.core.compare.sentences import count_noun, group
from everyshelf.core.report.lines import Line, changed_lines, words_apart
from everyshelf.core.report.model import Report, by_effect
from everyshelf.core.report.words import measured, rows_of, sides, what

Pieces = list[tuple[str, bool]]
_MOST = 2000
_LONG = 400


@dataclass(frozen=True)
class _Row:
    """A finding as the page shows it: what changed, both sides in pieces of which some differ, or changed lines."""

    finding: FindingAnswer
    what: str
    old: Pieces | None
    new: Pieces | None
    lines: list[Line] | None


@dataclass(frozen=True)
class _Section:
    """An artifact with the rows of its findings, and how many are cosmetic or not shown."""

    artifact: ComparedArtifact
    rows: list[_Row]
    left_out: int
    cosmetic: int


def html(report: Report) -> str:
    """The report as a page; everything from the files is escaped."""
    return template("report.html").render(report=report, sections=[_section(artifact) for artifact in report.artifacts])


def _section(artifact: ComparedArtifact) -> _Section:
    shown, cosmetic = by_effect(artifact)
    return _Section(artifact, [_row(f) for f in shown[:_MOST]], max(0, len(shown) - _MOST), len(cosmetic))


def _row(finding: FindingAnswer) -> _Row:
    before, after = sides(finding)
    lines = changed_lines(before or "", after or "") if "\n" in f"{before or ''}{after or ''}" else None
    both = before is not None and after is not None and finding.field is not None
    marked = words_apart(before or "", after or "") if both and " " in f"{before}{after}" else ([], [])
    return _Row(finding, what(finding), _pieces(before, marked[0]), _pieces(after, marked[1]), lines)


def _pieces(text: str | None, marked: Pieces) -> Pieces | None:
    if text is None:
        return None
    return marked or [(text if len(text) <= _LONG else f"{text[: _LONG - 2]}…", False)]


@cache
def template(name: str) -> Template:
    """One of the templates of this folder; they share a page and their marks."""
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
    return environment.get_template(name)
