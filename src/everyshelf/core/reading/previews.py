"""What an artifact shows before it is compared with anything: first rows, sheets, tensors."""

from __future__ import annotations

from typing import Any

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

_PREVIEW_ROWS = 100
_PREVIEW_COLUMNS = 100
_MOST_PREVIEWS = 50
_MOST_TENSORS = 5_000


def outlined(name: str, data: bytes, found: Recognition, rules: Rules) -> tuple[Part, dict[str, Any]]:
    """The root part, and what else is shown of this kind. Raises ``UnreadableError``."""
    table = table_in_force(found, rules, name)
    if found.kind == "spreadsheet" and found.format in ("xlsx", "ods"):
        book = read_workbook(open_archive(data), found.format)
        sheets = {sheet.name: _sheet_json(sheet) for sheet in book.sheets[:_MOST_PREVIEWS]}
        return workbook_outline(book, table), {"tables": sheets, "note": "; ".join(book.notes)}
    if found.kind == "model" and found.format in ("onnx", "safetensors", "pickle"):
        read = read_model(data, found.format, table)
        tensors = [
            {"name": n, "shape": told_shape(t.shape), "type": t.told_type, "values": t.size}
            for n, t in list(read.tensors.items())[:_MOST_TENSORS]
        ]
        values = sum(t.size for t in read.tensors.values())
        model = {"tensors": tensors, "values": values, "truncated": len(read.tensors) > _MOST_TENSORS}
        return read.root, {"model": model, "note": "; ".join(read.notes)}
    return read_outline(name, data, found, rules).root, {}


def _sheet_json(sheet: Sheet) -> dict[str, Any]:
    """In the form of a table; ``formulas`` tells which cells are worked out, by row and column from 0."""
    header = header_row(sheet)
    width = min(sheet.width, _PREVIEW_COLUMNS)
    names = sheet.rows.get(header, {}) if header is not None else {}
    columns = []
    for number in range(1, width + 1):
        letters = column_letters(number)
        name = f"{letters} {names[number].value}" if number in names else letters
        columns.append({"name": name, "type": ""})
    numbers = [n for n in sheet.rows if n != header]
    rows: list[list[str | None]] = []
    formulas: list[dict[str, Any]] = []
    for place, number in enumerate(numbers[:_PREVIEW_ROWS]):
        cells = [sheet.rows[number].get(c) for c in range(1, width + 1)]
        rows.append([None if c is None or c.value is None else _shown(plain(c.value)) for c in cells])
        told = ((k, c.formula) for k, c in enumerate(cells) if c is not None and c.formula is not None)
        formulas += [{"row": place, "column": k, "formula": formula} for k, formula in told]
    return {
        "columns": columns,
        "rows": rows,
        "row_count": len(numbers),
        "dialect": {},
        "profiles": [],
        "formulas": formulas,
        "numbers": numbers[:_PREVIEW_ROWS],
    }


def _shown(value: Any) -> str:
    return {True: "true", False: "false"}[value] if isinstance(value, bool) else str(value)


def table_json(given: Given, found: Recognition) -> dict[str, Any] | None:
    """Columns, profiles and first rows; None for a text that is no table after all."""
    from everyshelf.core.tables.engine import borrowed_engine
    from everyshelf.core.tables.preview import preview
    from everyshelf.core.tables.sources import open_table

    result: dict[str, Any] = {
        "kind": found.kind,
        "format": found.format,
        "read_as": found.kind,
        "note": found.note,
        "size": given.size,
        "parts": [],
        "truncated": False,
    }
    with borrowed_engine() as engine:
        try:
            source = open_table(engine, given, found.format)
            return {**result, "table": preview(engine, source, _PREVIEW_ROWS)}
        except UnreadableError as error:
            if found.format in ("csv", "json", "jsonl"):
                return None
            return {**result, "read_as": "bytes", "note": str(error)}


def database_json(given: Given, found: Recognition) -> dict[str, Any]:
    """Tables with their columns and first rows, and every other object of the schema."""
    from everyshelf.core.tables.databases import opened, read_schema, table_source
    from everyshelf.core.tables.engine import borrowed_engine
    from everyshelf.core.tables.preview import preview

    result: dict[str, Any] = {
        "kind": "database",
        "format": "sqlite",
        "read_as": "database",
        "note": found.note,
        "size": given.size,
        "parts": [],
        "tables": {},
        "truncated": False,
    }
    with borrowed_engine() as engine:
        try:
            with opened(given, engine.folder) as connection:
                schema = read_schema(connection)
                for name, table in schema.tables.items():
                    result["parts"].append(_schema_part(table))
                    if not table.problem and len(result["tables"]) < _MOST_PREVIEWS:
                        result["tables"][name] = preview(engine, table_source(engine, connection, table), _PREVIEW_ROWS)
                for kind, objects in (("view", schema.views), ("index", schema.indexes), ("trigger", schema.triggers)):
                    for name, sql in objects.items():
                        path = f"/{kind}:{name}"
                        fields = {"definition": sql}
                        result["parts"].append(
                            {"path": path, "type": kind, "label": name, "fields": fields, "parts": []}
                        )
        except UnreadableError as error:
            return {**result, "read_as": "bytes", "note": str(error), "parts": [], "tables": {}}
    return result


def _schema_part(table: Any) -> dict[str, Any]:
    path = f"/table:{table.name}"
    columns = [
        {
            "path": f"{path}/column:{c.name}",
            "type": "column",
            "label": c.name,
            "fields": {"type": c.type, "required": c.required, "default": c.default, "key": c.key or None},
            "parts": [],
        }
        for c in table.columns
    ]
    fields = {"primary key": ", ".join(table.key), "options": table.options, "note": table.problem}
    fields |= {f"foreign key {here}": f"{other}({there})" for here, other, there, _ in table.references}
    kept = {k: v for k, v in fields.items() if v}
    return {"path": path, "type": "table", "label": table.name, "fields": kept, "parts": columns}
