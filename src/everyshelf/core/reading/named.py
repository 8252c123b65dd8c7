"""What one file names and offers, whatever it is: an outline with its code, a database by its schema."""

from __future__ import annotations

from everyshelf.core.answers.uses import NO_REFERENCES, FileReferences
from everyshelf.core.errors import UnreadableError
from everyshelf.core.kinds.peeking import recognise_given
from everyshelf.core.kinds.reading import read_outline, recognise_file
from everyshelf.core.kinds.rules import Rules
from everyshelf.core.tables.given import Given
from everyshelf.core.uses.lines import references_in_lines
from everyshelf.core.uses.reading import references_in

_NOTHING_NAMED = FileReferences(names=[], offers=[])


def names_of(given: Given, rules: Rules) -> FileReferences:
    """What a file names; of a database the tables and views that others may name."""
    if given.files:
        return _NOTHING_NAMED
    if recognise_given(given, rules, None).format == "sqlite":
        return _names_of_database(given)
    data = given.content
    found = recognise_file(given.name, data, rules)
    try:
        outline = read_outline(given.name, data, found, rules)
        return references_in(outline.root, outline.kind)
    except (UnreadableError, RecursionError):
        return references_in_lines(data, found.kind)


def _names_of_database(given: Given) -> FileReferences:
    from everyshelf.core.tables.databases import opened, read_schema
    from everyshelf.core.tables.engine import borrowed_engine

    with borrowed_engine() as engine:
        try:
            with opened(given, engine.folder) as connection:
                schema = read_schema(connection)
        except UnreadableError:
            return NO_REFERENCES
    return FileReferences(names=[], offers=[f"table:{name.casefold()}" for name in (*schema.tables, *schema.views)])
