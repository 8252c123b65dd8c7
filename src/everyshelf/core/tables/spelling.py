"""How texts write their values: which numbers and dates a column of texts holds, and SQL that brings two ways of
writing to one.

A spelling is "" (as numbers and dates are mostly written), "comma" (1.234,5 or 1234,5), "grouped" (1,234.5), "spaced"
(1 234,5) or a date format as of strptime.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator
from dataclasses import dataclass

from everyshelf.core.tables.columns import AT_ONCE
from everyshelf.core.tables.engine import Engine, literal

_TYPE_ROWS = 200_000
_LOOK_AT = 400
_TELLING_VALUES = 3  # fewer say nothing of what a column is for
_BLANK = ("", "NA", "N/A", "null", "NULL", "NaN", "nan", "None")
BLANKS = ", ".join(literal(b) for b in _BLANK)

_TIME = r"([T ]\d\d:\d\d(:\d\d([.,]\d+)?)?(Z| ?[-+]\d\d:?\d\d)?)"


@dataclass(frozen=True)
class _Form:
    """One way to write values of one family; ``sure``: a value of this form that can be nothing simpler."""

    family: str
    spelling: str
    pattern: str
    sure: str = ""


_FORMS = (
    _Form("integer", "", r"[-+]?(0|[1-9]\d*)"),
    _Form("decimal", "", r"[-+]?((0|[1-9]\d*)(\.\d*)?|\.\d+)([eE][-+]?\d+)?"),
    _Form("decimal", "grouped", r"[-+]?\d{1,3}(,\d{3})*(\.\d+)?", r"[-+]?\d{1,3}(,\d{3})+(\.\d+)?"),
    _Form("decimal", "comma", r"[-+]?(\d+|\d{1,3}(\.\d{3})+)(,\d+)?", r".*,\d+"),
    _Form("decimal", "spaced", "[-+]?\\d{1,3}([ \u00a0\u202f]\\d{3})*([.,]\\d+)?", "[-+]?\\d+[ \u00a0\u202f]\\d.*"),
    _Form("date", "", r"\d{4}-\d\d-\d\d"),
    _Form("timestamp", "", r"\d{4}-\d\d-\d\d" + _TIME + "?", r".*:.*"),
    _Form("time", "", r"\d\d?:\d\d(:\d\d(\.\d+)?)?"),
    _Form("date", "%d.%m.%Y", r"\d\d?\.\d\d?\.\d{4}"),
    _Form("date", "%Y/%m/%d", r"\d{4}/\d\d?/\d\d?"),
    _Form("date", "%Y.%m.%d", r"\d{4}\.\d\d?\.\d\d?"),
    _Form("date", "%d/%m/%Y", r"(0?[1-9]|[12]\d|3[01])/(0?[1-9]|1[0-2])/\d{4}", r"(1[3-9]|2\d|3[01])/.*"),
    _Form("date", "%m/%d/%Y", r"(0?[1-9]|1[0-2])/(0?[1-9]|[12]\d|3[01])/\d{4}", r"\d\d?/(1[3-9]|2\d|3[01])/.*"),
    _Form("date", "%d-%m-%Y", r"\d\d?-(0?[1-9]|1[0-2])-\d{4}", r"(1[3-9]|2\d|3[01])-.*"),
    _Form("date", "%d %b %Y", r"\d\d? [A-Z][a-z]{2} \d{4}"),
    _Form("date", "%d %B %Y", r"\d\d? [A-Z][a-z]{3,8} \d{4}"),
    _Form("boolean", "", r"[Tt][Rr][Uu][Ee]|[Ff][Aa][Ll][Ss][Ee]"),
)


def found_types(engine: Engine, relation: str, places: list[int], row_count: int) -> dict[int, tuple[str, str]]:
    """Family and spelling of each text column ``c<place>``; from all rows, or from an even share of a long table."""
    if not places or not row_count:
        return dict.fromkeys(places, ("empty", ""))
    step = -(-row_count // _TYPE_ROWS)
    where = f"WHERE r % {step} = 0" if step > 1 else ""
    result: dict[int, tuple[str, str]] = {}
    for start in range(0, len(places), AT_ONCE):
        result |= _types_of(engine, relation, places[start : start + AT_ONCE], where)
    return result


def _types_of(engine: Engine, relation: str, places: list[int], where: str) -> dict[int, tuple[str, str]]:
    # A first look at some values says which forms are worth counting; of a small table it is all there is to see.
    looks = ", ".join(f"trim(c{p})" for p in places)
    rows = engine.rows(f"SELECT {looks} FROM {relation} {where} LIMIT {_LOOK_AT}")
    seen = [{v for v in column if v is not None and v not in _BLANK} for column in zip(*rows, strict=True)]
    asked = {place: _candidates(values) for place, values in zip(places, seen, strict=True)}
    if len(rows) < _LOOK_AT:
        return {place: _sure_of(asked[place], values) for place, values in zip(places, seen, strict=True)}
    result: dict[int, tuple[str, str]] = {}
    while open_places := [p for p in places if p not in result]:
        for place, outcome in _counted(engine, relation, where, {p: asked[p][:1] for p in open_places}).items():
            if outcome is None:
                asked[place].pop(0)
            else:
                result[place] = outcome
    return result


def _sure_of(forms: list[_Form], values: set[str]) -> tuple[str, str]:
    if not values:
        return "empty", ""
    return next(((f.family, f.spelling) for f in _sure(forms, values)), ("text", ""))


def _sure(forms: Iterable[_Form], values: set[str]) -> Iterator[_Form]:
    return (f for f in forms if not f.sure or any(re.fullmatch(f.sure, v) for v in values))


def form_of(values: Iterable[str]) -> str:
    """A regular expression for what a column of these texts takes, read alike by Python and JavaScript; empty where it
    takes anything: it holds texts, or too few values to tell."""
    filled = [value.strip() for value in values if not is_blank(value)]
    if len(filled) < _TELLING_VALUES:
        return ""
    different = set(filled)
    return "|".join(f"(?:{form.pattern})" for form in _sure(_candidates(different), different))


def is_blank(value: str) -> bool:
    """Whether a text stands for no value."""
    return value.strip() in _BLANK


def _counted(
    engine: Engine, relation: str, where: str, asked: dict[int, list[_Form]]
) -> dict[int, tuple[str, str] | None]:
    """Per column: text if no form is left, empty, the form asked about if all values have it, None if not."""
    wanted = []
    for place, forms in asked.items():
        filled = f"count(*) FILTER (trim(c{place}) NOT IN ({BLANKS}))"
        for form in forms:
            sure = f"bool_or(regexp_full_match(trim(c{place}), {literal(form.sure)}))" if form.sure else "true"
            matching = f"count(*) FILTER (regexp_full_match(trim(c{place}), {literal(form.pattern)}))"
            wanted.append(f"[{filled}, {matching}, ({sure})::INT]")
        if not forms:
            wanted.append(f"[{filled}]")
    told = engine.row(f"SELECT {', '.join(wanted)} FROM {relation} {where}")
    result: dict[int, tuple[str, str] | None] = {}
    for (place, forms), counts in zip(asked.items(), told, strict=True):
        if not counts[0]:
            result[place] = ("empty", "")
        elif not forms:
            result[place] = ("text", "")
        else:
            fits = counts[0] == counts[1] and counts[2]
            result[place] = (forms[0].family, forms[0].spelling) if fits else None
    return result


def _candidates(values: set[str]) -> list[_Form]:
    return [form for form in _FORMS if all(re.fullmatch(form.pattern, value) for value in values)]


def plain(text: str, family: str, spelling: str) -> str:
    """SQL for a text brought to the plain spelling of its family; what does not fit stays as it is."""
    if spelling == "grouped":
        return f"replace({text}, ',', '')"
    if spelling == "comma":
        return f"replace(replace({text}, '.', ''), ',', '.')"
    if spelling == "spaced":
        return f"replace(regexp_replace({text}, '[ \u00a0\u202f]', '', 'g'), ',', '.')"
    if spelling.startswith("%"):
        return f"coalesce(strftime(try_strptime({text}, {literal(spelling)}), '%Y-%m-%d'), {text})"
    return f"es_when({text})" if family in ("date", "timestamp") else text


def name_of(spelling: str, family: str) -> str:
    """A spelling in words."""
    words = {
        "": "year-month-day" if family == "date" else "plain",
        "comma": "decimal comma",
        "grouped": "thousands by comma",
        "spaced": "thousands by blank",
    }
    if spelling in words:
        return words[spelling]
    for code, shown in (
        ("%d", "day"), ("%m", "month"), ("%Y", "year"), ("%b", "month name"), ("%B", "month name")
    ):  # fmt: skip
        spelling = spelling.replace(code, shown)
    return spelling
