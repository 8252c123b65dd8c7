"""What a file is, by its first bytes, without reading the rest."""

from __future__ import annotations

from everyshelf.core.formats.compressed import bare_name, first_bytes, is_compressed
from everyshelf.core.kinds.reading import recognise_file
from everyshelf.core.kinds.recognise import HEAD_BYTES, Recognition
from everyshelf.core.kinds.rules import Rules
from everyshelf.core.tables.formats import FORMATS, form_of
from everyshelf.core.tables.given import Given
from everyshelf.core.tables.markers import is_marker

_PARSE_BYTES = 4 * 1024 * 1024  # up to here ``recognise_file`` is given the whole file


def recognise_given(given: Given, rules: Rules, kind: str | None = None) -> Recognition:
    """What a file is, from its first bytes, those inside where it is compressed."""
    head = given.head(_PARSE_BYTES if given.size <= _PARSE_BYTES else HEAD_BYTES)
    if not is_compressed(head):
        return recognise_file(given.name, head, rules, kind, size=given.size)
    inside = first_bytes(head, HEAD_BYTES)
    name = bare_name(given.name)
    declared = kind or rules.kind_for(given.name)
    return recognise_file(name, inside, rules, declared, size=max(given.size, len(inside) + 1))


def is_known_whole(given: Given) -> bool:
    """True if ``recognise_given`` saw all there is, so that ``recognise_file`` of all bytes says nothing else."""
    return given.size <= _PARSE_BYTES and not is_compressed(given.head(16))


def is_table(found: Recognition) -> bool:
    """True for what is opened as a table."""
    return found.kind == "dataset" and found.format in FORMATS


def table_of_folder(given: Given) -> Recognition | None:
    """What a folder's files are if all of them are parts of one table, told by the first; else None."""
    files = [file for file in given.files if not is_marker(file.name, file.size)]
    forms = [form_of(file.name, file.head(8)) for file in files]
    if not forms or None in forms:
        return None
    if forms[0] in ("json", "jsonl") and not is_table(recognise_given(files[0], Rules())):
        return None  # most JSON is no table, and its name does not tell
    return Recognition("dataset", str(forms[0]))
