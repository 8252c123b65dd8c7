"""What one version of an artifact carried over from another: the step between them, from which origins follow.

Outlines are gone through by the comparison itself, which writes down which part became which. Kinds whose comparison
is their own (service descriptions, archives) are gone through as outlines here: who set a part does not depend on what
a change does to its users.
"""

from __future__ import annotations

from dataclasses import replace
from typing import Any

from everyshelf.core.compare.artifact import MOST_IN_MEMORY, ArtifactSide
from everyshelf.core.compare.grids import lay
from everyshelf.core.compare.notebooks import carry_notebooks
from everyshelf.core.compare.outlines import Run
from everyshelf.core.compare.realign import realigned
from everyshelf.core.compare.spreadsheets import matched_sheets
from everyshelf.core.compare.uncollected import without_collection
from everyshelf.core.compare.wording import names_in
from everyshelf.core.errors import UnreadableError
from everyshelf.core.formats.archives import Member, open_archive
from everyshelf.core.formats.compressed import bare_name, decompressed, is_compressed
from everyshelf.core.formats.workbook_files import read_workbook
from everyshelf.core.formats.workbooks import Cell, Sheet
from everyshelf.core.kinds.reading import parse_tree, recognise_file, shape_tree, table_in_force
from everyshelf.core.kinds.registry import kind_for
from everyshelf.core.kinds.rules import Rules
from everyshelf.core.kinds.spreadsheet import workbook_outline
from everyshelf.core.kinds.table import KindTable
from everyshelf.core.origins.sheets import row_place
from everyshelf.core.origins.steps import FieldStep, Kept, Step, clipped
from everyshelf.core.origins.trail import Trail
from everyshelf.core.outline.model import Part, plain

WHOLE = Step(whole=True)


def step_between(before: ArtifactSide, after: ArtifactSide, rules: Rules) -> Step:
    """The step from ``before`` to ``after``; of what cannot be read as its kind, that it changed as a whole."""
    if before.is_folder or after.is_folder or max(before.given.size, after.given.size) > MOST_IN_MEMORY:
        return WHOLE
    if before.data == after.data:
        return Step()
    try:
        with without_collection():
            return _step(_unpacked(before), _unpacked(after), rules)
    except (UnreadableError, RecursionError):
        return WHOLE
    except Exception:
        # Kinds come from other packages too; of what their reader cannot read nothing is carried over.
        return WHOLE


def _unpacked(side: ArtifactSide) -> ArtifactSide:
    return (
        ArtifactSide(bare_name(side.name), decompressed(side.data), beside=side.beside)
        if is_compressed(side.data)
        else side
    )


def _step(before: ArtifactSide, after: ArtifactSide, rules: Rules) -> Step:
    if before.data == after.data:
        return Step()
    old, new = (recognise_file(side.name, side.data, rules) for side in (before, after))
    if old.kind != new.kind and old.format == new.format and "settings" in (old.kind, new.kind):
        # One version lost what tells its kind (the last wire of a graph): it is still the same artifact.
        kind = new.kind if old.kind == "settings" else old.kind
        old, new = replace(old, kind=kind), replace(new, kind=kind)
    table = table_in_force(new, rules, after.name)
    if new.kind == old.kind == "picture":
        return WHOLE
    if new.kind == old.kind == "archive" and {old.format, new.format} <= {"zip", "tar"}:
        return _between(_members(before.data), _members(after.data), table)
    if new.kind == old.kind == "spreadsheet" and {old.format, new.format} <= {"xlsx", "ods"}:
        return _workbooks(before.data, after.data, old.format, new.format, table)
    trees = [parse_tree(side.data, found) for side, found in ((before, old), (after, new))]
    if kind_for(new.kind).realigns and old.kind == new.kind:
        trees[1], _ = realigned(*trees)
    one = shape_tree(trees[0], old, table_in_force(old, rules, before.name))
    other = shape_tree(trees[1], new, table)
    if new.kind == old.kind == "notebook":
        return carry_notebooks(one, other, table)
    return _between(one.root, other.root, table)


def _between(before: Part, after: Part, table: KindTable) -> Step:
    trail = Trail()
    run = Run(table, names_in(before, after), trail)
    run.parts(before, after, "", cosmetic=False)
    run.finished()
    return trail.finished()


# --- archives --------------------------------------------------------------------


def _members(data: bytes) -> Part:
    """Members in folders as ``read_archive`` lists them, each with what tells its bytes from others."""
    return _folder(open_archive(data), "")


def _folder(members: dict[str, Member], prefix: str) -> Part:
    below: dict[str, dict[str, Member]] = {}
    parts: list[Part] = []
    for name, member in members.items():
        folder, slash, _ = name[len(prefix) :].partition("/")
        if slash and folder and len(prefix) < 500:
            below.setdefault(folder, {})[name] = member
        else:
            label = name[len(prefix) :] or name
            fields: dict[str, Any] = {"bytes": member.size, "content": member.checksum}
            parts.append(Part("member", label, label, fields, fields))
    folders = []
    for name, held in below.items():
        part = _folder(held, f"{prefix}{name}/")
        folders.append(replace(part, type="folder", label=name, key=name))
    children = [*folders, *parts]
    return Part("archive", "archive", "", [(c.type, c.key, c.value) for c in children], {}, lambda: children)


# --- workbooks -------------------------------------------------------------------


def _workbooks(before: bytes, after: bytes, old: str, new: str, table: KindTable) -> Step:
    """Sheets, names and modules as an outline; the cells of each sheet laid on each other."""
    one, other = (read_workbook(open_archive(d), form) for d, form in ((before, old), (after, new)))
    matched = matched_sheets(one, other)
    called = {a.name: b.name for a, b in matched if a.name != b.name}
    step = _between(workbook_outline(one, table, called), workbook_outline(other, table), table)
    places = [{sheet.name: place for place, sheet in enumerate(book.sheets)} for book in (one, other)]
    for a, b in matched:
        if a.rows == b.rows and a.name == b.name:
            continue
        place, held = places[1][b.name], places[0][a.name]
        kept = step.kept.get(place) or Kept(held, Step())
        _sheet(a, b, kept.step)
        if a.name != b.name:
            kept.step.fields[""] = FieldStep("set", a.name, b.name)
        if not kept.step.is_empty:
            step.kept[place] = kept
    return step


def _sheet(before: Sheet, after: Sheet, step: Step) -> None:
    """Add to the step of a sheet what became of its rows and cells."""
    laid = lay(before, after)
    columns = {b: a for a, b in laid.columns}
    shifted = [(a, b, 1) for a, b in sorted(laid.columns, key=lambda pair: pair[1])] if _moved(laid.columns) else []
    if _moved(laid.rows) or laid.rows_gone or laid.rows_come:
        step.runs = [*(step.runs or [(0, 0, row_place(0))]), *_row_runs(laid.rows)]
    for a, b in laid.rows:
        row = _row(before.rows[a], after.rows[b], columns, shifted)
        if not row.is_empty:
            step.kept[row_place(b)] = Kept(row_place(a), row)
    step.added += [row_place(row) for row in laid.rows_come]


def _moved(pairs: list[tuple[int, int]]) -> bool:
    return any(a != b for a, b in pairs)


def _row_runs(pairs: list[tuple[int, int]]) -> list[tuple[int, int, int]]:
    runs: list[tuple[int, int, int]] = []
    for a, b in sorted(pairs, key=lambda pair: pair[1]):
        if runs and runs[-1][0] + runs[-1][2] == row_place(a) and runs[-1][1] + runs[-1][2] == row_place(b):
            runs[-1] = (runs[-1][0], runs[-1][1], runs[-1][2] + 1)
        else:
            runs.append((row_place(a), row_place(b), 1))
    return runs


def _row(old: dict[int, Cell], new: dict[int, Cell], columns: dict[int, int], shifted: list[Any]) -> Step:
    step = Step(runs=list(shifted))
    for column, cell in new.items():
        held = old.get(columns.get(column, -1))
        if held is None:
            step.added.append(column)
        elif held.formula != cell.formula and (held.content != cell.content):
            step.kept[column] = Kept(columns[column], Step({"formula": _set(held.formula, cell.formula)}))
        elif cell.formula is None and held.content != cell.content:
            step.kept[column] = Kept(columns[column], Step({"value": _set(held.value, cell.value)}))
        elif held.value != cell.value:
            looks = FieldStep("looks", clipped(plain(held.value)), clipped(plain(cell.value)))
            step.kept[column] = Kept(columns[column], Step({"value": looks}))
    return step


def _set(before: Any, after: Any) -> FieldStep:
    return FieldStep("set", clipped(plain(before)), clipped(plain(after)))
