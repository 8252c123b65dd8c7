"""What an artifact shows before it is compared with anything: first rows, sheets, tensors."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

from everyshelf.core.answers.models import ModelPreview, NamedTensor
from everyshelf.core.answers.outlines import OutlineAnswer, PartAnswer
from everyshelf.core.answers.tables import ColumnType, FormulaPlace, TablePreview
from everyshelf.core.errors import UnreadableError
from everyshelf.core.formats.archives import open_archive
from everyshelf.core.formats.workbook_files import read_workbook
from everyshelf.core.formats.workbooks import Sheet, column_letters
from everyshelf.core.kinds.model_files import read_model
from everyshelf.core.kinds.models import told_shape
from everyshelf.core.kinds.reading import read_outline, table_in_force
from everyshelf.core.kinds.recognise import Recognition
from everyshelf.core.kinds.rules import Rules
from everyshelf.core.kinds.spreadsheet import header_row, workbook_outline
from everyshelf.core.outline.model import Part, plain
from everyshelf.core.tables.given import Given

if TYPE_CHECKING:
    from everyshelf.core.tables.databases import DatabaseTable

_PREVIEW_ROWS = 100
_PREVIEW_COLUMNS = 100
_MOST_PREVIEWS = 50
_MOST_TENSORS = 5_000


@dataclass(frozen=True)
class Preview:
    """The root part of an artifact, and what else is shown of its kind."""

    root: Part
    note: str = ""
    tables: dict[str, TablePreview] | None = None
    model: ModelPreview | None = None


def preview_of(name: str, data: bytes, found: Recognition, rules: Rules) -> Preview:
    """Raises ``UnreadableError``."""
    table = table_in_force(found, rules, name)
    if found.kind == "spreadsheet" and found.format in ("xlsx", "ods"):
        book = read_workbook(open_archive(data), found.format)
        sheets = {sheet.name: _sheet_preview(sheet) for sheet in book.sheets[:_MOST_PREVIEWS]}
        return Preview(workbook_outline(book, table), "; ".join(book.notes), tables=sheets)
    if found.kind == "model" and found.format in ("onnx", "safetensors", "pickle"):
        read = read_model(data, found.format, table)
        tensors = [
            NamedTensor(name=n, shape=told_shape(t.shape), type=t.told_type, values=t.size)
            for n, t in list(read.tensors.items())[:_MOST_TENSORS]
        ]
        values = sum(t.size for t in read.tensors.values())
        model = ModelPreview(tensors=tensors, values=values, truncated=len(read.tensors) > _MOST_TENSORS)
        return Preview(read.root, "; ".join(read.notes), model=model)
    return Preview(read_outline(name, data, found, rules).root)


def _sheet_preview(sheet: Sheet) -> TablePreview:
    header = header_row(sheet)
    width = min(sheet.width, _PREVIEW_COLUMNS)
    names = sheet.rows.get(header, {}) if header is not None else {}
    columns = []
    for number in range(1, width + 1):
        letters = column_letters(number)
        name = f"{letters} {names[number].value}" if number in names else letters
        columns.append(ColumnType(name=name, type=""))
    numbers = [n for n in sheet.rows if n != header]
    rows: list[list[str | None]] = []
    formulas: list[FormulaPlace] = []
    for place, number in enumerate(numbers[:_PREVIEW_ROWS]):
        cells = [sheet.rows[number].get(c) for c in range(1, width + 1)]
        rows.append([None if c is None or c.value is None else _shown(plain(c.value)) for c in cells])
        told = ((k, c.formula) for k, c in enumerate(cells) if c is not None and c.formula is not None)
        formulas += [FormulaPlace(row=place, column=k, formula=formula) for k, formula in told]
    return TablePreview(
        columns=columns,
        rows=rows,
        row_count=len(numbers),
        dialect={},
        profiles=[],
        formulas=formulas,
        numbers=numbers[:_PREVIEW_ROWS],
    )


def _shown(value: Any) -> str:
    return {True: "true", False: "false"}[value] if isinstance(value, bool) else str(value)


def table_outline(given: Given, found: Recognition) -> OutlineAnswer | None:
    """Columns, profiles and first rows; None for a text that is no table after all."""
    from everyshelf.core.tables.engine import borrowed_engine
    from everyshelf.core.tables.preview import preview
    from everyshelf.core.tables.sources import open_table

    outline = bare_outline(found, given.size)
    with borrowed_engine() as engine:
        try:
            outline.table = preview(engine, open_table(engine, given, found.format), _PREVIEW_ROWS)
        except UnreadableError as error:
            if found.format in ("csv", "json", "jsonl"):
                return None
            outline.read_as, outline.note = "bytes", str(error)
    return outline


def bare_outline(found: Recognition, size: int) -> OutlineAnswer:
    """What is known before a file of ``size`` bytes is read."""
    return OutlineAnswer(
        kind=found.kind,
        format=found.format,
        read_as=found.kind,
        note=found.note,
        size=size,
        parts=[],
        truncated=False,
    )


def database_outline(given: Given, found: Recognition) -> OutlineAnswer:
    """Tables with their columns and first rows, and every other object of the schema."""
    from everyshelf.core.tables.databases import opened, read_schema, table_source
    from everyshelf.core.tables.engine import borrowed_engine
    from everyshelf.core.tables.preview import preview

    outline, parts = bare_outline(found, given.size), []
    tables: dict[str, TablePreview] = {}
    with borrowed_engine() as engine:
        try:
            with opened(given, engine.folder) as connection:
                schema = read_schema(connection)
                for name, table in schema.tables.items():
                    parts.append(_schema_part(table))
                    if not table.problem and len(tables) < _MOST_PREVIEWS:
                        tables[name] = preview(engine, table_source(engine, connection, table), _PREVIEW_ROWS)
                for kind, objects in (("view", schema.views), ("index", schema.indexes), ("trigger", schema.triggers)):
                    for name, sql in objects.items():
                        fields = {"definition": sql}
                        parts.append(PartAnswer(path=f"/{kind}:{name}", type=kind, label=name, fields=fields, parts=[]))
        except UnreadableError as error:
            outline.read_as, outline.note, outline.tables = "bytes", str(error), {}
            return outline
    outline.parts, outline.tables = parts, tables
    return outline


def _schema_part(table: DatabaseTable) -> PartAnswer:
    path = f"/table:{table.name}"
    columns = [
        PartAnswer(
            path=f"{path}/column:{c.name}",
            type="column",
            label=c.name,
            fields={"type": c.type, "required": c.required, "default": c.default, "key": c.key or None},
            parts=[],
        )
        for c in table.columns
    ]
    fields = {"primary key": ", ".join(table.key), "options": table.options, "note": table.problem}
    fields |= {f"foreign key {here}": f"{other}({there})" for here, other, there, _ in table.references}
    kept = {k: v for k, v in fields.items() if v}
    return PartAnswer(path=path, type="table", label=table.name, fields=kept, parts=columns)
