"""Who last set a row of a table, or a cell: only rows that changed are looked up, by their keys."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field
from typing import Any

from everyshelf.core.answers.origins import (
    FieldForm,
    FormsAnswer,
    OriginsAnswer,
    PartForm,
    PartOrigin,
    RowsOrigin,
)
from everyshelf.core.errors import InvalidError, MissingError
from everyshelf.core.origins.steps import STEP_VERSION
from everyshelf.core.origins.tables import (
    RowChange,
    TablesStep,
    TableStep,
    beginning,
    key_cells,
    key_text,
    row_in,
)
from everyshelf.core.reading.messages import FileAt
from everyshelf.service.base.context import reader
from everyshelf.service.origins.actions.line import Line
from everyshelf.service.origins.models import RowBlock
from everyshelf.service.shelves.actions.contents import as_given
from everyshelf.service.shelves.actions.listing import entry_of
from everyshelf.service.shelves.actions.recording import rules_at
from everyshelf.service.shelves.models import ArtifactVersion, Shelf

_MOST_LOOKED_UP = 64 * 1024 * 1024  # in a larger table it is not looked up whether a row is there
_AT_ONCE = 500


# --- a table as a whole ----------------------------------------------------------


def tables_told(line: Line, kind: str, columns: dict[str, list[str]], note: str) -> OriginsAnswer:
    """The columns of each table with the commits that last changed a cell in them, and what each commit did to rows.

    ``columns``: by table, as they are now; the empty name stands for a file that is one table.
    """
    parts, keys = [], {line.version.pk}
    for table, names in columns.items():
        for name in names:
            own, changed = _column(line, table, name)
            keys |= {own, changed}
            base = f"/table:{_escaped(table)}" if table else ""
            parts.append(
                PartOrigin(
                    path=f"{base}/column:{_escaped(name)}",
                    type="column",
                    label=name,
                    depth=1 if table else 0,
                    set=line.uid(changed),
                    own=line.uid(own),
                    fields=[],
                )
            )
    rows = list(_rows_told(line))
    keys |= {key for key, _ in rows}
    return line.told(kind, note, len(parts), 1, keys, form="rows", parts=parts, rows=[told for _, told in rows])


def columns_known(line: Line) -> dict[str, list[str]]:
    """The columns of a table as its newest comparison has them; none where it was not compared, or holds several."""
    for parent, step in line.steps.of(line.version.pk):
        if parent is not None and list(step.tables) == [""] and step.tables[""].columns:
            return {"": step.tables[""].columns}
    return {}


def _rows_told(line: Line) -> Iterator[tuple[int, RowsOrigin]]:
    for key in line.line:
        for place, (parent, step) in enumerate(line.steps.of(key)):
            if place or parent is None:
                continue
            for table, one in step.tables.items():
                added, removed, changed = one.rows
                if added or removed or changed or one.whole:
                    yield (
                        key,
                        RowsOrigin(
                            table=table,
                            set=line.uid(key),
                            added=added,
                            removed=removed,
                            changed=changed,
                            whole=one.whole,
                        ),
                    )
            if step.whole:
                yield key, RowsOrigin(table="", set=line.uid(key), added=0, removed=0, changed=0, whole=True)


def _column(line: Line, table: str, name: str) -> tuple[int, int]:
    """The versions that brought a column, and that last changed a cell in it."""
    key, changed = line.version.pk, None
    while True:
        steps = [(parent, _of(step, table)) for parent, step in line.steps.of(key) if parent is not None]
        if not steps or all(step is None or step.whole or name in step.added for _, step in steps):
            return key, changed or key
        # The side that did nothing to it brought it.
        same = [(p, s) for p, s in steps if s is not None and not _touches(s, name)]
        parent, step = same[0] if same else next((p, s) for p, s in steps if s is not None)
        if not same and changed is None:
            changed = key
        key, name = parent, step.renamed.get(name, name)


def _touches(step: TableStep, name: str) -> bool:
    return step.whole or name in step.added or name in step.cells or name in step.renamed


def _of(step: TablesStep, table: str) -> TableStep | None:
    """What a step says of a table: nothing of one that did not change, None where it was not there before."""
    if step.whole or table in step.added:
        return None
    return step.tables.get(table) or TableStep([], [])


def _escaped(name: str) -> str:
    return name.replace("/", "%2F")


# --- one row ---------------------------------------------------------------------


@dataclass
class _Touched:
    """What one version did to the row; ``fields``: of the columns that are asked for."""

    key: int
    action: str
    fields: list[FieldForm] = field(default_factory=list)


class _Row:
    """One row, followed back through the versions by its key."""

    def __init__(self, line: Line, table: str, key: str, key_columns: list[str]) -> None:
        self._line, self._table, self._key_columns = line, table, key_columns
        self._changes = _changes(line, table, key)

    @property
    def is_known(self) -> bool:
        """True for a row of which a step says something; any other may not be there at all."""
        return bool(self._changes)

    def forms(self, start: int, names: dict[str, str]) -> Iterator[_Touched]:
        """What each version did to the row, newest first; ``names``: by column as it is called now, as it was then."""
        key, told_apart_by = start, self._key_columns
        while True:
            steps = [
                (place, parent, _of(step, self._table))
                for place, (parent, step) in enumerate(self._line.steps.of(key))
                if parent is not None
            ]
            touched = [
                (parent, step, self._touch(key, place, step, names, told_apart_by)) for place, parent, step in steps
            ]
            same = [(parent, step) for parent, step, found in touched if found is None]
            if same:
                parent, step = same[0]
            else:
                found = next((found for *_, found in touched if found is not None), None)
                yield found or _Touched(key, "added")
                going = [(p, s) for p, s, f in touched if f is not None and f.action != "added"]
                if not going:
                    return
                parent, step = going[0]
            if step is not None:
                names = {now: step.renamed.get(then, then) for now, then in names.items()}
                told_apart_by = [step.renamed.get(name, name) for name in told_apart_by]
            key = parent

    def _touch(
        self, key: int, place: int, step: TableStep | None, names: dict[str, str], told_apart_by: list[str]
    ) -> _Touched | None:
        """What a step did to the row; None where it did nothing. Where rows were told apart by another key, the row
        cannot be followed, and counts as set by that version."""
        change = self._changes.get((key, place))
        other_key = step is not None and any(step.rows) and step.key != told_apart_by
        if step is None or step.whole or other_key or (change is not None and change.action == "added"):
            return _Touched(key, "added")
        if change is not None and change.action == "removed":
            return _Touched(key, "removed")
        fields = [
            FieldForm(name=now, touch="set", before=None, after=None)
            for now, then in names.items()
            if then in step.added
        ]
        if change is not None:
            cells = dict(zip(change.columns, zip(change.before, change.after, strict=True), strict=True))
            fields += [
                FieldForm(name=now, touch="set", before=cells[then][0], after=cells[then][1])
                for now, then in names.items()
                if then in cells
            ]
        return _Touched(key, "changed", fields) if fields else None


def _changes(line: Line, table: str, key: str) -> dict[tuple[int, int], RowChange]:
    """What steps say of the row, by version and position; one block of each step is read at most."""
    found: dict[tuple[int, int], RowChange] = {}
    begins = beginning(key)
    for start in range(0, len(line.line), _AT_ONCE):
        blocks = RowBlock.objects.filter(
            step__version__in=line.line[start : start + _AT_ONCE],
            step__form="rows",
            step__reader=STEP_VERSION,
            table=table[:200],
            first__lte=begins,
            last__gte=begins,
        )
        for version, position, rows in blocks.values_list("step__version", "step__position", "rows"):
            change = row_in(bytes(rows), key)
            if change is not None:
                found[version, position] = change
    return found


def forms_of_row(
    person: Any, shelf: Shelf, version: ArtifactVersion, row: str, *, column: str, table: str, limit: int
) -> FormsAnswer:
    """What each commit did to a row, or to one of its cells, newest first. ``row``: the cells of its key, with commas
    between them."""
    line = Line(person, shelf, version, "rows")
    key, columns = _key_and_columns(line, table)
    cells = key_cells(row)
    if key and len(cells) != len(key):
        raise InvalidError(
            f"the key of {version.path} is {', '.join(key)}, and {row!r} has {len(cells)} of {len(key)} cells",
            code="row.key",
            hint="Give one cell for each, with commas between them.",
        )
    if column and columns and column not in columns:
        raise MissingError(
            f"{version.path} has no column {column!r}", code="part.missing", hint=f"It has: {', '.join(columns[:20])}"
        )
    wanted = [column] if column else columns
    of_row = _Row(line, table, key_text(cells), key)
    found = list(of_row.forms(version.pk, {name: name for name in wanted}))
    if not of_row.is_known:
        _check_it_is_there(version, key, cells, row)
    forms, commits = found[:limit], line.commits(one.key for one in found[:limit])
    return FormsAnswer(
        path=version.path,
        part=f"/row:{row}" + (f"/{column}" if column else ""),
        type="row",
        label=", ".join(f"{k} {c}" for k, c in zip(key, cells, strict=False)) or row,
        forms=[
            PartForm(action=one.action, commit=commits[line.uid(one.key)], fields=one.fields)  # type: ignore[arg-type]
            for one in forms
        ],
    )


def _key_and_columns(line: Line, table: str) -> tuple[list[str], list[str]]:
    """What tells the rows of a table apart, and its columns, as the newest comparison of it says."""
    compared = False
    for key in line.line:
        for parent, step in line.steps.of(key):
            one = step.tables.get(table) if parent is not None else None
            if one is not None and one.key:
                return one.key, one.columns
            compared = compared or (one is not None and bool(sum(one.rows)))
    if compared:
        raise InvalidError(
            f"the rows of {line.version.path} have no key that tells them apart",
            code="row.no_key",
            hint='Name one in shelf.toml: key = ["COLUMN"].',
        )
    return [], []


def _check_it_is_there(version: ArtifactVersion, key: list[str], cells: list[str], row: str) -> None:
    """Raise ``MissingError`` for a row that no version changed and that is not in the table."""
    if not key or version.size > _MOST_LOOKED_UP or version.kind != "dataset":
        return
    rules = rules_at(version.commit.root)
    with as_given(entry_of(version)) as file, reader() as worker:
        found = worker.find_row(FileAt(version.path, str(file)), key, cells, rules=rules.source)
    if found is None:
        raise MissingError(
            f"{version.path} has no row {row!r}", code="part.missing", hint=f"Its key is {', '.join(key)}."
        )
