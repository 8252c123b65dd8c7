"""Datasets: two tables opened, compared and told as findings, or a reason why they were not."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from everyshelf.core.compare.known import SAME
from everyshelf.core.compare.result import Comparison, as_bytes
from everyshelf.core.compare.tables import table_findings
from everyshelf.core.errors import InvalidError, UnreadableError
from everyshelf.core.kinds.recognise import Recognition
from everyshelf.core.kinds.rules import Rules
from everyshelf.core.tables.columns import Source
from everyshelf.core.tables.comparing import compare_tables
from everyshelf.core.tables.engine import Engine, borrowed_engine
from everyshelf.core.tables.given import Given
from everyshelf.core.tables.keep import Keep
from everyshelf.core.tables.options import TableOptions
from everyshelf.core.tables.profiles import Profile, profile_tables
from everyshelf.core.tables.sources import open_table, open_tables

_RECORDS_AS_TABLE_BYTES = 8 * 1024 * 1024


def options_of(rules: Rules, name: str, key: Sequence[str] | None = None, *, within: str = "") -> TableOptions:
    """What the rules, or the caller, say of the table under this name; ``within``: the file that holds several."""
    said: dict[str, Any] = {**rules.table_for(within), **rules.table_for(name)} if within else rules.table_for(name)
    return TableOptions(
        key=tuple(key or rules.key_for(name) or ()),
        ignored=(*said.get("ignore", ()), *rules.ignored_fields),
        tolerances=tuple(said.get("tolerance", {}).items()),
        shift_limits=tuple(said.get("shift", {}).items()),
    )


def key_of_table(key: Sequence[str], table: str) -> tuple[str, ...]:
    """What a key asked for says of one table among several: ``TABLE:COLUMN`` names the table it is meant for."""
    if not key:
        return ()
    name, colon, first = key[0].partition(":")
    if not colon:
        raise InvalidError(
            "a database holds several tables, and the key does not say of which",
            code="key.table",
            hint="Name it: --key TABLE:COLUMN[,COLUMN]",
        )
    return (first, *key[1:]) if name == table else ()


def check_key_of_table(key: Sequence[str], found: Comparison) -> None:
    """Raise ``InvalidError`` for a key of a table that is not in both versions."""
    name = key[0].partition(":")[0] if key else ""
    if name and found.tables and name not in found.tables:
        raise InvalidError(
            f"there is no table {name!r} in both",
            code="key.missing",
            hint=f"Tables in both: {', '.join(found.tables)}.",
        )


def compare_datasets(
    before: Given, after: Given, old: Recognition, new: Recognition, options: TableOptions, keep: Keep | None = None
) -> Comparison | str | None:
    """What changed; None for records that hold more than cells, a reason where a text is no table after all.

    Raises ``InvalidError`` for a key that is not in both.
    """
    if same_bytes(before, after):
        return Comparison("dataset")
    with borrowed_engine() as engine:
        try:
            sources = _opened(engine, before, after, old, new, options.key)
            if sources is None:
                return None
            return _compared(engine, *sources, options, keep)
        except (UnreadableError, MemoryError) as error:
            if isinstance(error, MemoryError):
                error = UnreadableError("comparing it as a table needs more memory than it may use")
            if before.files or after.files:
                return as_bytes(after.name, before.size, after.size, str(error), "dataset")
            if old.format in ("csv", "json", "jsonl") and new.format in ("csv", "json", "jsonl"):
                return str(error)  # a text at least; it is compared as one
            return as_bytes(after.name, before.size, after.size, str(error), "dataset")


def _opened(
    engine: Engine, before: Given, after: Given, old: Recognition, new: Recognition, key: Sequence[str]
) -> tuple[Source, Source] | None:
    one, other = open_tables(engine, before, after, (old.format, new.format), key)
    records = ("json", "jsonl")
    if old.format in records and new.format in records:
        nested = {c.name for s in (one, other) for c in s.columns if c.family == "nested"}
        if nested and max(before.size, after.size) <= _RECORDS_AS_TABLE_BYTES and _holds_more(one, other):
            return None
        # A field that is spelt out on one side has to be on both.
        if any(c.name in nested and c.family != "nested" for s in (one, other) for c in s.columns):
            spelt_out = frozenset(nested)
            one = open_table(engine, before, old.format, spelt_out=spelt_out)
            other = open_table(engine, after, new.format, spelt_out=spelt_out)
    return one, other


def _holds_more(*sources: Source) -> bool:
    """True if records hold records: those are told better part by part."""
    return any(source.holds_records for source in sources)


def _compared(engine: Engine, before: Source, after: Source, options: TableOptions, keep: Keep | None) -> Comparison:
    found = compare_tables(engine, before, after, options, keep)
    profiles: list[Profile] = []
    if not found.unrelated and not found.is_same:  # of equal tables there is nothing to tell
        before, after = (side if side.rest is None else side.rest.whole() for side in (before, after))
        profiles = profile_tables(engine, before, after, found.columns, options, found.key)
    # The key tells rows apart: that it moves with the rows that come and go is no news.
    shifts = [p.shift for p in profiles if p.shift is not None and p.column not in (*found.key, *found.renumbered)]
    findings = table_findings(found, shifts=shifts)
    note = "; ".join([*found.notes, *before.notes, *after.notes])
    if not findings and not note:
        note = SAME
    return Comparison("dataset", findings, note=note, table=found.answer(profiles))


def same_bytes(before: Given, after: Given) -> bool:
    """True if two files hold the same bytes."""
    if before.size != after.size or before.files or after.files:
        return False
    if before.path is not None and after.path is not None:
        return before.path.samefile(after.path) or _equal_files(before, after)
    return before.content == after.content


def _equal_files(before: Given, after: Given) -> bool:
    assert before.path is not None and after.path is not None
    with before.path.open("rb") as one, after.path.open("rb") as other:
        while True:
            a, b = one.read(1 << 20), other.read(1 << 20)
            if a != b:
                return False
            if not a:
                return True
