"""The forms one part or one line went through: every commit that touched it, newest first."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field
from typing import Any, Literal

from everyshelf.core.answers.origins import FieldForm, FormsAnswer, PartForm
from everyshelf.core.errors import InvalidError, MissingError, UnreadableError
from everyshelf.core.formats.text import decode
from everyshelf.core.origins.lines import line_before
from everyshelf.core.origins.steps import LineStep, Places, Step, clipped
from everyshelf.core.origins.trees import Traced, traced
from everyshelf.service.base.context import get_store
from everyshelf.service.origins.actions.keeping import MOST_LINES_BYTES, has_lines
from everyshelf.service.origins.actions.line import Line
from everyshelf.service.origins.actions.naming import Meant, part_meant
from everyshelf.service.origins.actions.telling import outline_at
from everyshelf.service.shelves.models import ArtifactVersion, Shelf

Action = Literal["added", "changed", "moved", "looks"]


@dataclass
class _Form:
    """A form before its commit is told; ``key``: the version that made it."""

    key: int
    action: Action
    fields: list[FieldForm] = field(default_factory=list)
    within: int = 0
    before: str | None = None
    after: str | None = None


def forms_of_part(person: Any, shelf: Shelf, version: ArtifactVersion, part: str, limit: int) -> FormsAnswer:
    """What each commit did to a part, or to one of its fields, newest first."""
    outline = outline_at(version)
    meant = part_meant(version.path, outline, part)
    line = Line(person, shelf, version, "parts")
    forms = list(_of_part(line, meant))[:limit]
    path = meant.path if meant.field is None else f"{meant.path.rstrip('/')}/{meant.field}"
    return FormsAnswer(path=version.path, part=path, type=meant.type, label=str(meant.label), forms=_told(line, forms))


def _of_part(line: Line, meant: Meant) -> Iterator[_Form]:
    key, places = line.version.pk, meant.places
    while True:
        before = [(parent, traced(step, places)) for parent, step in line.steps.of(key) if parent is not None]
        same = [(parent, found) for parent, found in before if _is_same(found, meant.field)]
        if same:
            key, places = same[0][0], _places(same[0][1])
            continue
        there = [(parent, found) for parent, found in before if found.places is not None]
        if not there or _is_new(there[0][1], meant.field):
            yield _Form(key, "added")
            return
        yield _form(key, there[0][1], meant.field)
        key, places = there[0][0], _places(there[0][1])


def _places(found: Traced) -> Places:
    assert found.places is not None
    return found.places


def _is_same(found: Traced, name: str | None) -> bool:
    """True where the step did nothing to the part, or to the field that is meant."""
    if found.places is None:
        return False
    step = found.step
    if name is not None:
        return step is None or not (step.whole or name in step.fields)
    return (step is None or step.is_empty) and not found.moved


def _is_new(found: Traced, name: str | None) -> bool:
    """True for a field that the older version did not have."""
    change = found.step.fields.get(name) if found.step is not None and name is not None else None
    return change is not None and change.touch == "set" and change.before is None


def _form(key: int, found: Traced, name: str | None) -> _Form:
    step = found.step or Step()
    changes = {n: c for n, c in step.fields.items() if name is None or n == name}
    fields = [FieldForm(name=n, touch=c.touch, before=c.before, after=c.after) for n, c in changes.items()]
    within = sum(1 for _ in _touched(step)) if name is None else 0
    in_earnest = step.whole or any(change.touch != "looks" for change in changes.values()) or within
    action: Action = "changed" if in_earnest else "moved" if found.moved and not step.looks and not fields else "looks"
    return _Form(key, action, fields, within)


def _touched(step: Step) -> Iterator[int]:
    """Parts below that a step changed, added or removed."""
    yield from step.added
    yield from (gone.place for gone in step.gone)
    below = [(place, kept.step) for place, kept in step.kept.items()]
    for place, child in [*below, *((place, came.step) for place, came in step.came.items())]:
        if child.fields or child.whole:
            yield place
        yield from _touched(child)


# --- lines -----------------------------------------------------------------------


def forms_of_line(person: Any, shelf: Shelf, version: ArtifactVersion, number: int, limit: int) -> FormsAnswer:
    """What each commit did to a line, counted from 1, newest first."""
    texts = _Texts()
    lines = texts.of(version)
    if not lines:
        raise InvalidError(
            f"{version.path} cannot be read by lines",
            code="input.invalid",
            hint=f"Lines are those of texts of up to {MOST_LINES_BYTES >> 20} MB; ask for a part instead: part=PATH",
        )
    if not 1 <= number <= len(lines):
        raise MissingError(
            f"{version.path} has no line {number}; it has {len(lines)}", code="part.missing", hint="Count from 1."
        )
    line = Line(person, shelf, version, "lines")
    forms = list(_of_line(line, number - 1, texts))[:limit]
    text = clipped(lines[number - 1])
    return FormsAnswer(
        path=version.path, part=f"/line:{number}", type="line", label=str(text), forms=_told(line, forms)
    )


class _Texts:
    """Lines of versions, decoded when they are first asked for."""

    def __init__(self) -> None:
        self._lines: dict[str, list[str]] = {}

    def of(self, version: ArtifactVersion) -> list[str]:
        """The lines of a version; an empty list where it cannot be read as a text."""
        if version.content not in self._lines:
            try:
                data = get_store().read(version.content) if has_lines(version) else b""
                self._lines = {version.content: decode(data).lines()}
            except UnreadableError:
                self._lines = {version.content: []}
        return self._lines[version.content]

    def line(self, version: ArtifactVersion, number: int) -> str | None:
        """A line, counted from 0, cut where it is long."""
        lines = self.of(version)
        return str(clipped(lines[number])) if number < len(lines) else None


def _of_line(line: Line, number: int, texts: _Texts) -> Iterator[_Form]:
    key = line.version.pk
    while True:
        steps: list[tuple[int | None, LineStep]] = line.steps.of(key)
        before = [(parent, step, line_before(step, number)) for parent, step in steps if parent is not None]
        there = [found for found in before if found[2] is not None]
        same = [(p, n) for p, step, n in there if not _line_touched(step, number)]
        if same:
            key, number = same[0][0], same[0][1] or 0
            continue
        now = texts.line(line.versions[key], number)
        if not there:
            yield _Form(key, "added", after=now)
            return
        parent, step, old = there[0]
        assert old is not None
        action: Action = "changed" if number in step.changed else "looks" if number in step.looks else "moved"
        yield _Form(key, action, before=texts.line(line.versions[parent], old), after=now)
        key, number = parent, old


def _line_touched(step: LineStep, number: int) -> bool:
    return number in step.changed or number in step.looks or number in step.moved


def _told(line: Line, forms: list[_Form]) -> list[PartForm]:
    commits = line.commits(form.key for form in forms)
    return [
        PartForm(
            action=form.action,
            commit=commits[line.uid(form.key)],
            fields=form.fields,
            within=form.within,
            before=form.before,
            after=form.after,
        )
        for form in forms
    ]
