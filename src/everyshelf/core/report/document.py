"""What a report says, whatever it is written as."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from datetime import datetime
from pathlib import PurePath
from typing import Any, Literal

import orjson

from everyshelf.core.compare.sentences import effect_of, effects_phrase, headline, is_judged
from everyshelf.core.errors import InvalidError
from everyshelf.core.report.html import html
from everyshelf.core.report.markdown import markdown

Form = Literal["html", "md", "json"]
FORMS: tuple[Form, ...] = ("html", "md", "json")


def form_of(name: str) -> Form:
    """The form a file's name asks for; raises ``InvalidError`` for any other."""
    suffix = PurePath(name).suffix.lower().lstrip(".")
    found = {"htm": "html", "markdown": "md"}.get(suffix, suffix)
    if found not in FORMS:
        hint = "End the name in .html, .md or .json."
        raise InvalidError(f"a report cannot be written as {name!r}", code="report.form", hint=hint)
    return found


def report_of(
    found: Mapping[str, Any], *, title: str, made: datetime, conditions: Sequence[tuple[bool, str, str]] = ()
) -> dict[str, Any]:
    """The report of a comparison of two states, of one artifact, or of two files; or of a rehearsal.

    ``found`` is the JSON form of any of them. ``title`` names what was compared; ``made`` is told to the minute.
    ``conditions``: of a rehearsal, what must hold: whether it does, its name, and what is said of it.
    """
    artifacts = [dict(a) for a in found["artifacts"]] if "artifacts" in found else [_alone(found)]
    for artifact in artifacts:
        artifact |= {k: artifact.get(k) for k in ("before", "after", "note", "table", "tables", "model", "picture")}
        artifact.setdefault("name", artifact["path"].rpartition("/")[2])
        artifact["shown"] = [f for f in artifact["findings"] if f["effect"] != "cosmetic"]
        artifact["cosmetic"] = [f for f in artifact["findings"] if f["effect"] == "cosmetic"]
    return {
        "report": "rehearsal" if conditions else "comparison",
        "conditions": [list(condition) for condition in conditions],
        "title": title,
        "made": made.isoformat(timespec="minutes"),
        "from": found.get("from"),
        "to": found.get("to"),
        "sentence": found.get("sentence") or _sentence(artifacts[0]),
        "effects": found["effects"],
        "same": found.get("same"),
        "artifacts": artifacts,
    }


def _alone(found: Mapping[str, Any]) -> dict[str, Any]:
    """A comparison of one artifact or of two files, as an artifact among others."""
    state = "edited" if found["findings"] else "same"
    alone = {"state": state, "effect": effect_of(dict(found)), "headline": headline(dict(found)), **found}
    return {k: v for k, v in alone.items() if k not in ("from", "to")}


def _sentence(artifact: dict[str, Any]) -> str:
    words = artifact["headline"] or "nothing changed"
    phrase = effects_phrase(artifact["effects"], judged=is_judged(artifact))
    return f"{words[:1].upper()}{words[1:]}" + (f"; {phrase}." if phrase else ".")


def written(report: dict[str, Any], form: Form) -> str:
    """The report as a text of that form."""
    if form == "json":
        plain = {**report, "artifacts": [_without_views(a) for a in report["artifacts"]]}
        return orjson.dumps(plain, option=orjson.OPT_INDENT_2).decode() + "\n"
    if form == "md":
        return markdown(report)
    return html(report)


def _without_views(artifact: dict[str, Any]) -> dict[str, Any]:
    return {k: v for k, v in artifact.items() if k not in ("shown", "cosmetic") and v is not None}
