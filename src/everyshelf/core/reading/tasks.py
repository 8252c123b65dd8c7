"""What a reading process does: one function for each request (see ``messages``)."""

from __future__ import annotations

import contextlib
from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING, Any

from everyshelf.core.answers.comparisons import ComparisonAnswer
from everyshelf.core.answers.drawings import Drawing
from everyshelf.core.answers.files import CellsAnswer, FoldedAnswer, FollowedPart, UnfoldedAnswer, UnfoldedFile
from everyshelf.core.answers.find import Places
from everyshelf.core.answers.merges import MergeAnswer
from everyshelf.core.answers.outlines import OutlineAnswer, PartAnswer
from everyshelf.core.answers.queries import QueryAnswer
from everyshelf.core.answers.tables import NO_FINGERPRINT, RowPage, TableFingerprint, TableRows
from everyshelf.core.answers.uses import FileReferences, UsePlace
from everyshelf.core.compare.artifact import ArtifactSide, compare_artifacts, compare_as_text
from everyshelf.core.compare.options import CompareOptions
from everyshelf.core.errors import UnreadableError
from everyshelf.core.formats.compressed import bare_name, decompressed, is_compressed
from everyshelf.core.kinds.peeking import is_table, recognise_given, table_of_folder
from everyshelf.core.kinds.reading import read_outline, recognise_file
from everyshelf.core.kinds.recognise import Recognition, recognise
from everyshelf.core.kinds.registry import BYTES_FORMATS
from everyshelf.core.kinds.rules import Rules, parse_rules
from everyshelf.core.merge.model import SideNames
from everyshelf.core.origins.steps import LineStep, Step
from everyshelf.core.origins.tables import TablesStep
from everyshelf.core.outline.model import Part, child_path, plain
from everyshelf.core.promotion.bound import Bound
from everyshelf.core.reading import messages
from everyshelf.core.runs.counted import Results
from everyshelf.core.runs.metrics import Measured
from everyshelf.core.tables.given import Given, given_at
from everyshelf.core.uses.places import uses_of

if TYPE_CHECKING:
    from everyshelf.core.tables.engine import Engine

_MOST_TEXT = 4 * 1024 * 1024
_PARSED_RULES: dict[str, Rules] = {}


def answer(request: messages.AnyRequest) -> Any:
    """The answer to one request. Raises the errors its task is documented with in ``worker``."""
    return _TASKS[type(request)](request, _rules(request.rules))


def _rules(text: str) -> Rules:
    if text not in _PARSED_RULES:
        _PARSED_RULES.clear()
        _PARSED_RULES[text] = parse_rules(text)
    return _PARSED_RULES[text]


# --- kinds and outlines ----------------------------------------------------------


def _recognise(request: messages.RecogniseFiles, rules: Rules) -> list[str]:
    return [recognise(file.name, file.head, file.size).kind for file in request.files]


def _recognise_folder(request: messages.RecogniseFolder, rules: Rules) -> str:
    files = tuple(Given(file.name, file.head) for file in request.files)
    recognition = table_of_folder(Given(request.name, files=files))
    return recognition.kind if recognition is not None else "opaque"


def _outline(request: messages.OutlineFile, rules: Rules) -> OutlineAnswer:
    given = _given(request.file)
    is_folder = Path(request.file.path).is_dir()
    return _outline_of_folder(given) if is_folder else outline_of(given, rules, request.kind, most=request.most)


def _outline_of_folder(given: Given) -> OutlineAnswer:
    """Of a folder kept whole: the table its files are parts of, or else the files."""
    from everyshelf.core.reading import previews

    found = table_of_folder(given)
    if found is not None and (table := previews.table_outline(given, found)) is not None:
        return table
    names = [file.name for file in given.files]
    outline = previews.bare_outline(Recognition("opaque", ""), given.size)
    outline.read_as, outline.note, outline.truncated = (
        "bytes",
        f"a folder of {len(names)} files",
        len(names) > messages.MOST_PARTS,
    )
    outline.parts = [
        PartAnswer(path=f"/file:{n.replace('/', '%2F')}", type="file", label=n, fields={}, parts=[])
        for n in names[: messages.MOST_PARTS]
    ]
    return outline


def outline_of(
    given: Given, rules: Rules, kind: str | None = None, *, most: int = messages.MOST_PARTS
) -> OutlineAnswer:
    """Kind, format, note and parts; tables give columns, profiles and first rows in their place."""
    from everyshelf.core.reading import previews

    found = recognise_given(given, rules, kind)
    if is_table(found) and (table := previews.table_outline(given, found)) is not None:
        return table
    if found.format == "sqlite":
        return previews.database_outline(given, found)
    name, data = given.name, given.content
    if is_compressed(data):
        with contextlib.suppress(UnreadableError):
            name, data = bare_name(name), decompressed(data)
    found = recognise_file(name, data, rules, kind)
    outline = previews.bare_outline(found, len(data))
    try:
        preview = previews.preview_of(name, data, found, rules)
    except (UnreadableError, RecursionError) as error:
        outline.read_as = "bytes" if found.format in BYTES_FORMATS else "text"
        outline.note = str(error) or "no reader knows it"
        return outline
    except Exception as error:
        # Kinds come from other packages too; a mistake in a reader must not cost the answer.
        outline.read_as, outline.note = "text", f"its reader failed ({type(error).__name__})"
        return outline
    budget = [most]
    outline.parts, outline.truncated = _parts(preview.root, "", budget), budget[0] <= 0
    outline.fields = _plain_fields(preview.root)
    outline.note = "; ".join(n for n in (found.note, preview.note) if n)
    outline.tables, outline.model = preview.tables, preview.model
    return outline


def _parts(part: Part, path: str, budget: list[int]) -> list[PartAnswer]:
    result: list[PartAnswer] = []
    for place, child in enumerate(part.children(), 1):
        if budget[0] <= 0:
            return result
        budget[0] -= 1
        key = child.key or str(child.fields.get("id") or child.fields.get("name") or f"#{place}")
        here = child_path(path, child, key)
        below = _parts(child, path if child.through else here, budget)
        fields = _plain_fields(child)
        result.append(PartAnswer(path=here, type=child.type, label=str(child.label), fields=fields, parts=below))
    return result


def _plain_fields(part: Part) -> dict[str, Any]:
    return {str(k): plain(v) for k, v in part.fields.items()}


def _uses(request: messages.FindUses, rules: Rules) -> list[list[UsePlace]]:
    root = _root(request.file, rules)
    return [[] for _ in request.wanted] if root is None else uses_of(root, request.wanted)


def _names(request: messages.FindNames, rules: Rules) -> FileReferences:
    from everyshelf.core.reading.named import names_of

    return names_of(_given(request.file), rules)


def _places(request: messages.FindPlaces, rules: Rules) -> Places:
    from everyshelf.core.finding.places import places_of

    return Places(places=places_of(_given(request.file), rules))


def _root(file: messages.FileAt, rules: Rules) -> Part | None:
    """The outline of a file; None if it cannot be read."""
    data = Path(file.path).read_bytes()
    try:
        return read_outline(file.name, data, recognise_file(file.name, data, rules), rules).root
    except (UnreadableError, RecursionError):
        return None


# --- tables ----------------------------------------------------------------------


def _fingerprint(request: messages.Fingerprint, rules: Rules) -> TableFingerprint:
    return fingerprint_at(_given(request.file), rules)


def fingerprint_at(given: Given, rules: Rules) -> TableFingerprint:
    """Fingerprint a table; empty for what is not a table, or holds records within records."""
    from everyshelf.core.tables.engine import borrowed_engine
    from everyshelf.core.tables.fingerprint import fingerprint_of
    from everyshelf.core.tables.sources import open_table

    found = table_of_folder(given) if given.files else recognise_given(given, rules)
    if found is None or not is_table(found):
        return NO_FINGERPRINT
    try:
        with borrowed_engine() as engine:
            source = open_table(engine, given, found.format)
            return NO_FINGERPRINT if source.holds_records else fingerprint_of(engine, source)
    except (UnreadableError, MemoryError):
        return NO_FINGERPRINT


def _page(request: messages.ReadRows, rules: Rules) -> RowPage:
    from everyshelf.core.compare.databases import rows_file
    from everyshelf.core.tables.engine import borrowed_engine
    from everyshelf.core.tables.kept import page

    path = Path(request.file.path)
    path = rows_file(path, request.table) if request.table else path
    if not path.is_file():
        return RowPage(rows=[], total=0, start=request.start)
    with borrowed_engine() as engine:
        return page(engine, path, request.start, request.count, action=request.action, column=request.column)


def _keep_table(request: messages.KeepTable, rules: Rules) -> int:
    """How many rows the table has. The types a query gives its columns are found here, too: of a large table that takes
    longer than a query may."""
    from everyshelf.core.querying.typed import found_types_of
    from everyshelf.core.reading.sheets import sheet_as_table
    from everyshelf.core.tables.delimited import from_parsed
    from everyshelf.core.tables.engine import borrowed_engine
    from everyshelf.core.tables.paging import keep_table
    from everyshelf.core.tables.sources import open_table

    given, output = _given(request.file), Path(request.output)
    found = table_of_folder(given) if given.files else recognise_given(given, rules)
    with borrowed_engine() as engine:
        if found is not None and found.format == "sqlite":
            count = _keep_table_of_database(engine, given, request.table, output)
        elif found is not None and found.kind == "spreadsheet":
            count = keep_table(engine, from_parsed(engine, sheet_as_table(given, found.format, request.table)), output)
        elif found is None or not is_table(found):
            raise UnreadableError(f"{given.name} is not a table", code="rows.no_table")
        else:
            count = keep_table(engine, open_table(engine, given, found.format), output)
        found_types_of(engine, output)
    return count


def _keep_table_of_database(engine: Engine, given: Given, name: str, output: Path) -> int:
    from everyshelf.core.tables.databases import opened, read_schema, table_source
    from everyshelf.core.tables.paging import keep_table

    with opened(given, engine.folder) as connection:
        tables = read_schema(connection).tables
        if name not in tables:
            said = ", ".join(list(tables)[:20]) or "none"
            raise UnreadableError(f"{given.name} has no table {name!r}; its tables: {said}", code="rows.no_table")
        return keep_table(engine, table_source(engine, connection, tables[name]), output)


def _read_table(request: messages.ReadTable, rules: Rules) -> TableRows:
    from everyshelf.core.tables.engine import borrowed_engine
    from everyshelf.core.tables.paging import rows_of

    with borrowed_engine() as engine:
        path = Path(request.file.path)
        return rows_of(engine, path, request.start, request.count, sort=request.sort, where=request.where)


def _query(request: messages.RunQuery, rules: Rules) -> QueryAnswer:
    """The first rows; none where they were written."""
    from everyshelf.core.querying.running import Sources, run_query, write_query

    tables = {view: Path(path) for view, path in request.tables.items()}
    lists = {view: (name, Path(path)) for view, (name, path) in request.lists.items()}
    sources = Sources(tables, lists, {view: Path(path) for view, path in request.answers.items()})
    if not request.output:
        return run_query(request.sql, sources, request.most)
    written = write_query(request.sql, sources, Path(request.output), request.form, request.most)
    return QueryAnswer(columns=[], rows=[], more=written >= request.most)


def _cells(request: messages.ReadCells, rules: Rules) -> CellsAnswer:
    from everyshelf.core.editing.cells import cells_of

    return cells_of(Path(request.file.path).read_bytes())


# --- comparing, merging, following -----------------------------------------------


def _compare(request: messages.CompareFiles, rules: Rules) -> ComparisonAnswer:
    before, after = _side(request.before), _side(request.after)
    if request.as_text:
        return compare_as_text(before, after, request.as_text).answer(request.limit)
    rows = Path(request.rows) if request.rows else None
    options = CompareOptions(rules, request.kind, request.key, request.limit, rows)
    return compare_artifacts(before, after, options).answer(request.limit)


def _merge(request: messages.MergeFiles, rules: Rules) -> MergeAnswer:
    from everyshelf.core.merge.artifact import Versions, merge_artifacts

    base, target, source = (Path(path).read_bytes() for path in request.files)
    merged = merge_artifacts(
        Versions(request.name, base, target, source),
        rules=rules,
        kind=request.kind,
        prefer=request.prefer,
        decisions=request.decisions,
        names=SideNames(*request.names),
    )
    if merged.content is not None:
        Path(request.output).write_bytes(merged.content)
    return merged.answer()


def _follow(request: messages.FollowParts, rules: Rules) -> dict[str, FollowedPart]:
    from everyshelf.core.compare.following import follow

    return follow(_side(request.before), _side(request.after), request.parts, rules)


def _step(request: messages.StepBetween, rules: Rules) -> Step:
    from everyshelf.core.compare.carried import step_between

    return step_between(_side(request.before), _side(request.after), rules)


def _row_blocks(request: messages.RowsBetween, rules: Rules) -> TablesStep:
    """The empty name stands for a file that is one table."""
    from everyshelf.core.compare.databases import rows_file
    from everyshelf.core.compare.row_blocks import table_step, write_blocks
    from everyshelf.core.tables.engine import borrowed_engine

    kept, output = Path(request.file.path), Path(request.output)
    found = TablesStep()
    with borrowed_engine() as engine:
        for name, answer in request.tables.items():
            step = found.tables[name] = table_step(answer)
            rows = rows_file(kept, name) if name else kept
            if sum(step.rows) and step.key and not step.whole and rows.is_file():
                write_blocks(engine, name, step, [column.name for column in answer.schema.before], rows, output)
    return found


def _find_row(request: messages.FindRow, rules: Rules) -> messages.FoundRow:
    from everyshelf.core.tables.engine import borrowed_engine
    from everyshelf.core.tables.finding import find_row
    from everyshelf.core.tables.sources import open_table

    given = _given(request.file)
    found = table_of_folder(given) if given.files else recognise_given(given, rules)
    if found is None or not is_table(found):
        return messages.FoundRow()
    with borrowed_engine() as engine:
        cells = find_row(engine, open_table(engine, given, found.format), request.columns, request.cells)
    return messages.FoundRow(cells)


def _lines(request: messages.LinesBetween, rules: Rules) -> LineStep:
    from everyshelf.core.compare.carried_lines import lines_between

    before = Path(request.before.path).read_bytes() if request.before is not None else None
    return lines_between(before, Path(request.after.path).read_bytes())


def _draw(request: messages.DrawFiles, rules: Rules) -> Drawing:
    from everyshelf.core.drawing.files import draw_file, draw_files

    after = ArtifactSide(request.after.name, Path(request.after.path).read_bytes())
    if request.before is None:
        return draw_file(after, rules, request.kind)
    before = ArtifactSide(request.before.name, Path(request.before.path).read_bytes())
    return draw_files(before, after, rules, request.kind)


# --- editing, unfolding, parcels, bindings ---------------------------------------


def _edit(request: messages.EditFile, rules: Rules) -> int:
    """How many bytes the edited file has."""
    from everyshelf.core.editing.cells import set_cells
    from everyshelf.core.editing.fields import set_fields
    from everyshelf.core.editing.texts import set_text

    data = Path(request.file.path).read_bytes()
    if request.text is not None:
        data = set_text(data, request.text)
    data = set_fields(request.file.name, data, request.fields, rules)
    if request.cells:
        data = set_cells(data, request.cells)
    return Path(request.output).write_bytes(data)


def _unfold(request: messages.UnfoldFile, rules: Rules) -> UnfoldedAnswer:
    from everyshelf.core.unfolding import packed, unfold

    unfolded = unfold(request.file.name, Path(request.file.path).read_bytes(), rules=rules)
    Path(request.output).write_bytes(packed(unfolded))
    return UnfoldedAnswer(files=_unfolded_files(unfolded.files), notes=unfolded.notes)


def _fold(request: messages.FoldFile, rules: Rules) -> FoldedAnswer:
    from everyshelf.core.unfolding import fold, unpacked_files

    folded = fold(unpacked_files(Path(request.file.path).read_bytes()))
    Path(request.output).write_bytes(folded.data)
    return FoldedAnswer(name=folded.name, notes=list(folded.notes))


def _unfolded_files(files: dict[str, bytes]) -> list[UnfoldedFile]:
    """Path, size, and the text of those that are texts, up to a bound for each and for all."""
    left, result = _MOST_TEXT, []
    for path, data in sorted(files.items()):
        text: str | None = None
        if len(data) <= min(left, _MOST_TEXT // 8) and b"\0" not in data:
            with contextlib.suppress(UnicodeDecodeError):
                text = data.decode("utf-8")
                left -= len(data)
        result.append(UnfoldedFile(path=path, size=len(data), text=text))
    return result


def _unpack(request: messages.UnpackParcel, rules: Rules) -> messages.Unpacked:
    from everyshelf.core.parcel import Parcel

    parcel, present = Parcel(Path(request.file.path)), request.present
    try:
        parcel.unpack(Path(request.output), [p for p, d in parcel.digests.items() if present.get(p) != d])
        return messages.Unpacked(name=parcel.name, digests=parcel.digests)
    finally:
        parcel.close()


def _bind(request: messages.PutBindings, rules: Rules) -> Bound:
    from everyshelf.core.promotion.bindings import bind

    return bind(request.name, request.data, rules, request.values)


# --- runs ------------------------------------------------------------------------


def _measured(request: messages.ReadMetrics, rules: Rules) -> Measured:
    from everyshelf.core.runs.measured import read_measured

    return read_measured(request.file.name, Path(request.file.path).read_bytes())


def _results(request: messages.ReadResults, rules: Rules) -> Results:
    from everyshelf.core.runs.results import read_results

    return read_results(Path(request.file.path).read_bytes(), request.file.name)


def _given(file: messages.FileAt) -> Given:
    return given_at(file.name, Path(file.path))


def _side(file: messages.FileAt) -> ArtifactSide:
    beside = {name: Path(path) for name, path in file.beside.items()}
    return ArtifactSide(file.name, path=Path(file.path), beside=beside)


_TASKS: dict[type[messages.Request], Callable[[Any, Rules], Any]] = {
    messages.CompareFiles: _compare,
    messages.DrawFiles: _draw,
    messages.EditFile: _edit,
    messages.FindNames: _names,
    messages.FindPlaces: _places,
    messages.FindUses: _uses,
    messages.FindRow: _find_row,
    messages.Fingerprint: _fingerprint,
    messages.FoldFile: _fold,
    messages.FollowParts: _follow,
    messages.KeepTable: _keep_table,
    messages.LinesBetween: _lines,
    messages.MergeFiles: _merge,
    messages.OutlineFile: _outline,
    messages.PutBindings: _bind,
    messages.ReadCells: _cells,
    messages.ReadMetrics: _measured,
    messages.ReadResults: _results,
    messages.ReadRows: _page,
    messages.ReadTable: _read_table,
    messages.RecogniseFiles: _recognise,
    messages.RecogniseFolder: _recognise_folder,
    messages.RowsBetween: _row_blocks,
    messages.RunQuery: _query,
    messages.StepBetween: _step,
    messages.UnfoldFile: _unfold,
    messages.UnpackParcel: _unpack,
}
