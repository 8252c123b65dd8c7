"""Who last set each part or line of an artifact, as interfaces get it."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

import numpy as np

from everyshelf.core.answers.origins import (
    FieldOrigin,
    LinesOrigin,
    OriginsAnswer,
    PartOrigin,
    RemovedPart,
)
from everyshelf.core.answers.outlines import OutlineAnswer, PartAnswer
from everyshelf.core.errors import InvalidError, MissingError
from everyshelf.core.origins.sheets import cell_name, is_row, row_number
from everyshelf.core.origins.steps import STEP_VERSION, Step, clipped
from everyshelf.core.origins.trees import NEVER, REMOVED, Node, latest
from everyshelf.core.reading.messages import FileAt
from everyshelf.service.base.context import reader
from everyshelf.service.origins.actions.folding import lines_of, parts_of
from everyshelf.service.origins.actions.line import Line
from everyshelf.service.origins.actions.rows import columns_known, tables_told
from everyshelf.service.shelves.actions.contents import as_given
from everyshelf.service.shelves.actions.listing import entry_of
from everyshelf.service.shelves.actions.recording import rules_at
from everyshelf.service.shelves.actions.remembered import remembered
from everyshelf.service.shelves.models import ArtifactVersion, Shelf

MOST_PARTS = 200_000
MAX_PAGE = 5000
_MOST_REMOVED = 500


def outline_at(version: ArtifactVersion) -> OutlineAnswer:
    """All parts of a version, read once and kept."""
    entry, rules = entry_of(version), rules_at(version.commit.root)

    def work() -> OutlineAnswer:
        with as_given(entry) as file, reader() as worker:
            return worker.outline(FileAt(version.path, str(file)), rules=rules.source, most=MOST_PARTS)

    return remembered(("all parts", version.path, entry.id, rules.source), OutlineAnswer, work)


def origins_of(
    person: Any, shelf: Shelf, version: ArtifactVersion, *, form: str, start: int, limit: int
) -> OriginsAnswer:
    """Who last set each part of a version, or each of its lines; a page from ``start``. Versions never change, so what
    was told is kept."""
    if form not in ("", "parts", "lines"):
        raise InvalidError(f"{form!r} cannot be a form of origins", code="input.invalid", hint="Use parts or lines.")
    limit = min(limit, MAX_PAGE)
    asked = version.artifact.uid, version.commit.uid, form, str(start), str(limit), str(STEP_VERSION)
    return remembered(("origins", *asked), OriginsAnswer, lambda: _told(person, shelf, version, form, start, limit))


def _told(person: Any, shelf: Shelf, version: ArtifactVersion, form: str, start: int, limit: int) -> OriginsAnswer:
    if form == "" and version.kind in ("dataset", "database"):
        tables = Line(person, shelf, version, "rows")
        if columns := columns_known(tables) or _columns_read(version):
            return tables_told(tables, version.kind, columns, "")
    outline = outline_at(version) if form != "lines" else None
    if outline is not None and (form == "parts" or outline.parts or outline.fields):
        return _parts(Line(person, shelf, version, "parts"), outline, start, limit)
    line = Line(person, shelf, version, "lines")
    found = lines_of(version.pk, line.steps)
    if not len(found.own):
        if form == "lines" and version.size:
            raise InvalidError(
                f"{version.path} is not a text", code="input.invalid", hint="Ask for its parts: leave the lines out."
            )
        note = (outline.note if outline is not None else "") or "it has no parts that can be told apart"
        whole = Line(person, shelf, version, "parts")
        own = parts_of(version.pk, whole.steps).own
        return whole.told(version.kind, note, 0, 1, [own, version.pk], form="whole")
    return _lines(line, found, start, limit)


def _columns_read(version: ArtifactVersion) -> dict[str, list[str]]:
    """The columns of each table, by name, read from the version; empty where it turns out not to hold tables."""
    read = outline_at(version)
    tables = {"": read.table} if read.table is not None else read.tables or {}
    return {name: [column.name for column in table.columns] for name, table in tables.items()}


# --- parts -----------------------------------------------------------------------


def _parts(line: Line, outline: OutlineAnswer, start: int, limit: int) -> OriginsAnswer:
    root = parts_of(line.version.pk, line.steps)
    told: list[tuple[PartAnswer, Node, int]] = []
    if outline.fields:
        about = PartAnswer(path="/", type=outline.kind, label="", fields=outline.fields, parts=[])
        told.append((about, Node(root.own, root.fields, {}, root.looks, root.looked), 0))
    told += _walked(outline.parts, root, 0)
    page = told[start - 1 : start - 1 + limit]
    keys = {number for _, node, _ in page for number in _numbers(node)}
    gone = _removed(line)
    keys |= {key for _, key in gone} | {line.version.pk}
    return line.told(
        outline.kind,
        outline.note,
        len(told),
        start,
        keys,
        form="parts",
        parts=[_part(line, part, node, depth) for part, node, depth in page],
        removed=[part for part, _ in gone],
    )


def _walked(parts: list[PartAnswer], node: Node, depth: int) -> Iterator[tuple[PartAnswer, Node, int]]:
    for place, part in enumerate(parts):
        below = node.child(place)
        yield part, below, depth
        yield from _walked(part.parts, below, depth + 1)
        yield from _rows(part, below, depth + 1)


def _rows(part: PartAnswer, node: Node, depth: int) -> Iterator[tuple[PartAnswer, Node, int]]:
    """Rows and cells of a sheet that were not set together with it."""
    for place in sorted(place for place in node.below if is_row(place)):
        row, number = node.below[place], row_number(place)
        if row.own != node.own:
            name = f"row {number}"
            yield PartAnswer(path=f"{part.path}/row:{number}", type="row", label=name, fields={}, parts=[]), row, depth
        for column in sorted(row.below):
            name = cell_name(number, column)
            fields = dict.fromkeys(name for name in row.below[column].fields if name != REMOVED)
            cell = PartAnswer(path=f"{part.path}/cell:{name}", type="cell", label=name, fields=fields, parts=[])
            yield cell, row.below[column], depth


def _numbers(node: Node) -> Iterator[int]:
    yield from (node.own, latest(node), *node.fields.values(), *node.looked.values(), node.looks)


def _part(line: Line, part: PartAnswer, node: Node, depth: int) -> PartOrigin:
    def looks(key: int) -> str | None:
        return line.uid(key) if key != NEVER else None

    fields = [
        FieldOrigin(
            name=name,
            value=clipped(value),
            set=line.uid(node.field(name)),
            looks=looks(node.looked.get(name, NEVER)),
        )
        for name, value in part.fields.items()
    ]
    return PartOrigin(
        path=part.path,
        type=part.type,
        label=part.label,
        depth=depth,
        set=line.uid(latest(node)),
        own=line.uid(node.own),
        fields=fields,
        looks=looks(node.looks),
    )


def _removed(line: Line) -> list[tuple[RemovedPart, int]]:
    """Parts that are not there any more, the last removed first; what a merge lacks because a side removed it is told
    of that side."""
    found: list[tuple[RemovedPart, int]] = []
    for key in line.line:
        lists = [list(_gone(step)) for parent, step in line.steps.of(key) if parent is not None]
        if not lists:
            continue
        everywhere = set.intersection(*({(g.type, g.path) for g in gone} for gone in lists))
        for gone in lists[0]:
            if (gone.type, gone.path) in everywhere:
                told = RemovedPart(path=gone.path, type=gone.type, label=gone.label, removed=line.uid(key))
                found.append((told, key))
        if len(found) >= _MOST_REMOVED:
            return found[:_MOST_REMOVED]
    return found


def _gone(step: Step) -> Iterator[Any]:
    yield from step.gone
    for kept in step.kept.values():
        yield from _gone(kept.step)
    for came in step.came.values():
        yield from _gone(came.step)


# --- lines -----------------------------------------------------------------------


def _lines(line: Line, found: Any, start: int, limit: int) -> OriginsAnswer:
    own, looks = found.own, found.looks
    breaks = np.flatnonzero((np.diff(own) != 0) | (np.diff(looks) != 0)) + 1
    begins = [0, *breaks.tolist()]
    ends = [*breaks.tolist(), len(own)]
    runs = [
        LinesOrigin(
            first=a + 1,
            count=b - a,
            set=line.uid(int(own[a])),
            looks=line.uid(int(looks[a])) if looks[a] != NEVER else None,
        )
        for a, b in list(zip(begins, ends, strict=True))[start - 1 : start - 1 + limit]
    ]
    keys = {*np.unique(own).tolist(), *np.unique(looks).tolist(), line.version.pk}
    return line.told(line.version.kind, "", len(begins), start, keys, form="lines", lines=runs)


def missing_part(path: str, part: str) -> MissingError:
    """The problem where an artifact has no such part."""
    return MissingError(
        f"{path} has no part {part}", code="part.missing", hint=f'List its parts: everyshelf origins "{path}"'
    )
