"""The places of an artifact in which words are looked for: labels, fields, lines, column names, short cells."""

from __future__ import annotations

import contextlib
from collections.abc import Iterator

from everyshelf.core.answers.find import PlaceText
from everyshelf.core.errors import UnreadableError
from everyshelf.core.formats.archives import open_archive
from everyshelf.core.formats.compressed import bare_name, decompressed, is_compressed
from everyshelf.core.formats.text import decode
from everyshelf.core.formats.workbook_files import read_workbook
from everyshelf.core.kinds.peeking import is_table, recognise_given, table_of_folder
from everyshelf.core.kinds.reading import read_outline, recognise_file
from everyshelf.core.kinds.rules import Rules
from everyshelf.core.origins.sheets import cell_name
from everyshelf.core.outline.model import Part, child_path
from everyshelf.core.tables.engine import borrowed_engine
from everyshelf.core.tables.finding import common_texts
from everyshelf.core.tables.given import Given
from everyshelf.core.tables.sources import open_table

_MOST_PLACES = 20_000
_MOST_CHARACTERS = 2_000_000
_LONGEST = 400
_BY_LINES = ("script", "report", "opaque")
_VALUES_OF_COLUMN = 200
_LONGEST_CELL = 80


def places_of(given: Given, rules: Rules) -> list[PlaceText]:
    """The places of an artifact with their texts; of large ones the first, of what cannot be read none."""
    places, characters = [], 0
    for place in _all_places(given, rules):
        characters += len(place.text)
        places.append(place)
        if len(places) >= _MOST_PLACES or characters >= _MOST_CHARACTERS:
            break
    return places


def _all_places(given: Given, rules: Rules) -> Iterator[PlaceText]:
    found = table_of_folder(given) if given.files else recognise_given(given, rules)
    if found is None:
        return
    if is_table(found):
        yield from _of_table(given, found.format)
        return
    if found.format == "sqlite" or given.files:
        return
    name, data = given.name, given.content
    if is_compressed(data):
        with contextlib.suppress(UnreadableError):
            name, data = bare_name(name), decompressed(data)
    found = recognise_file(name, data, rules)
    if found.kind in _BY_LINES:
        yield from _of_lines(data)
        return
    try:
        yield from _of_part(read_outline(name, data, found, rules).root, "")
        if found.kind == "spreadsheet" and found.format in ("xlsx", "ods"):
            yield from _of_sheets(data, found.format)
    except (UnreadableError, RecursionError):
        yield from _of_lines(data)
    except Exception:
        # Kinds come from other packages too; a mistake in a reader must not cost the other artifacts their places.
        yield from _of_lines(data)


def _of_part(part: Part, path: str) -> Iterator[PlaceText]:
    """Fields and children; the label of a part is a place of its own."""
    yield from _fields(part, path or "/", str(part.label) if path else "")
    for place, child in enumerate(part.children(), 1):
        key = child.key or str(child.fields.get("id") or child.fields.get("name") or f"#{place}")
        here = child_path(path, child, key)
        label = str(child.label)
        if label and label != child.type and not child.through:
            yield PlaceText(here, child.type, label, "", _cut(label))
        yield from _of_part(child, here if not child.through else path)


def _fields(part: Part, path: str, label: str) -> Iterator[PlaceText]:
    """A field with its name; one of several lines line by line."""
    for name, value in part.fields.items():
        if value is None or isinstance(value, bool) or str(value) == label:
            continue
        lines = str(value).splitlines()
        if len(lines) < 2:
            yield PlaceText(path, part.type, label, "", _cut(f"{name}: {value}"))
            continue
        for number, line in enumerate(lines, 1):
            if line.strip():
                yield PlaceText(path, part.type, label, f"{name}, line {number}", _cut(line.strip()))


def _of_lines(data: bytes) -> Iterator[PlaceText]:
    with contextlib.suppress(UnreadableError):
        for number, line in enumerate(decode(data).lines(), 1):
            if line.strip():
                yield PlaceText(f"/line:{number}", "line", f"line {number}", "", _cut(line.strip()))


def _of_sheets(data: bytes, form: str) -> Iterator[PlaceText]:
    for sheet in read_workbook(open_archive(data), form).sheets:
        path = f"/sheet:{sheet.name.replace('/', '%2F')}"
        for number, row in sheet.rows.items():
            for column, cell in row.items():
                name = cell_name(number, column)
                if isinstance(cell.value, str) and cell.value:
                    yield PlaceText(f"{path}/cell:{name}", "cell", f"{sheet.name} {name}", "", _cut(cell.value))
                if cell.formula:
                    yield PlaceText(f"{path}/cell:{name}", "formula", f"{sheet.name} {name}", "", _cut(cell.formula))


def _of_table(given: Given, form: str) -> Iterator[PlaceText]:
    """Names of columns, and of each the short texts that occur most."""
    with contextlib.suppress(UnreadableError, MemoryError), borrowed_engine() as engine:
        source = open_table(engine, given, form)
        for column in source.columns:
            yield PlaceText(_column(column.name), "column", column.name, "", _cut(column.name))
        for name, value, number in common_texts(engine, source, _VALUES_OF_COLUMN, _LONGEST_CELL):
            times = "1 row" if number == 1 else f"{number} rows"
            yield PlaceText(_column(name), "cell", name, times, _cut(value))


def _column(name: str) -> str:
    return f"/column:{name.replace('/', '%2F')}"


def _cut(text: str) -> str:
    return text if len(text) <= _LONGEST else text[:_LONGEST] + "…"
