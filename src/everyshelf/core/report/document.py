"""Reports of comparisons, rehearsals and promotions: made from what was found, and written in one of three forms."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime
from pathlib import PurePath
from typing import Literal

import msgspec

from everyshelf.core.answers.base import as_json
from everyshelf.core.answers.comparisons import Compared
from everyshelf.core.answers.states import CommitLine, ComparedArtifact, StateComparison
from everyshelf.core.compare.sentences import effect_of, effects_phrase, headline
from everyshelf.core.errors import InvalidError
from everyshelf.core.report.html import html
from everyshelf.core.report.markdown import markdown
from everyshelf.core.report.model import Report

Form = Literal["html", "md", "json"]
FORMS: tuple[Form, ...] = ("html", "md", "json")
Conditions = Sequence[tuple[bool, str, str]]


def form_of(name: str) -> Form:
    """The form a file's name asks for; raises ``InvalidError`` for any other."""
    suffix = PurePath(name).suffix.lower().lstrip(".")
    suffix = {"htm": "html", "markdown": "md"}.get(suffix, suffix)
    for form in FORMS:
        if suffix == form:
            return form
    hint = "End the name in .html, .md or .json."
    raise InvalidError(f"a report cannot be written as {name!r}", code="report.form", hint=hint)


def report_of_states(
    compared: StateComparison, *, title: str, made: datetime, commits: dict[str, list[CommitLine]] | None = None
) -> Report:
    """The report of a comparison of two states; ``commits``: by path, who made what differs, and why."""
    return Report(
        report="comparison",
        conditions=[],
        title=title,
        made=_minute(made),
        from_=compared.from_,
        to=compared.to,
        sentence=compared.sentence,
        effects=compared.effects,
        same=compared.same,
        artifacts=compared.artifacts,
        commits=commits or {},
    )


def report_of_artifact(artifact: ComparedArtifact, *, title: str, made: datetime) -> Report:
    """The report of two versions of one artifact, or of two files."""
    words = artifact.headline or "nothing changed"
    phrase = effects_phrase(artifact.effects, judged=artifact.judged)
    return Report(
        report="comparison",
        conditions=[],
        title=title,
        made=_minute(made),
        sentence=f"{words[:1].upper()}{words[1:]}" + (f"; {phrase}." if phrase else "."),
        effects=artifact.effects,
        artifacts=[artifact],
    )


def report_of_rehearsal(
    artifacts: list[ComparedArtifact], *, title: str, made: datetime, sentence: str, same: int, conditions: Conditions
) -> Report:
    """The report of a rehearsal. ``conditions``: whether each holds, its name, and what is said of it."""
    effects: dict[str, int] = {}
    for artifact in artifacts:
        if artifact.effect is not None:
            effects[artifact.effect] = effects.get(artifact.effect, 0) + 1
    return Report(
        report="rehearsal",
        conditions=list(conditions),
        title=title,
        made=_minute(made),
        sentence=sentence,
        effects=effects,
        same=same,
        artifacts=artifacts,
    )


def report_of_promotion(
    compared: StateComparison,
    *,
    title: str,
    made: datetime,
    sentence: str,
    conditions: Conditions,
    commits: dict[str, list[CommitLine]],
) -> Report:
    """The report of a promotion that was made: what it changed there, under which conditions, and who made that."""
    report = report_of_states(compared, title=title, made=made, commits=commits)
    report.report, report.sentence, report.conditions = "promotion", sentence, list(conditions)
    return report


def as_artifact(compared: Compared, path: str) -> ComparedArtifact:
    """Two versions of one artifact, or two files, as an artifact among others under its path."""
    held = {name: getattr(compared, name) for name in Compared.__struct_fields__}
    return ComparedArtifact(
        **held,
        path=path,
        old_path=path,
        name=path.rpartition("/")[2],
        state="edited" if compared.findings else "same",
        pending=False,
        effect=effect_of(compared),
        headline=headline(compared),
    )


def written(report: Report, form: Form) -> str:
    """The report as a text of that form."""
    if form == "json":
        return msgspec.json.format(as_json(report), indent=2).decode() + "\n"
    return markdown(report) if form == "md" else html(report)


def _minute(moment: datetime) -> str:
    return moment.isoformat(timespec="minutes")
