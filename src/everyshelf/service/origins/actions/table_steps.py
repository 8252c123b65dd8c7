"""What a version of a table, or of a database, carried over: from its comparison with the version before."""

from __future__ import annotations

import uuid
from collections.abc import Callable

from everyshelf.core.answers.comparisons import ComparisonAnswer
from everyshelf.core.answers.tables import TableAnswer
from everyshelf.core.errors import InvalidError, LimitError
from everyshelf.core.kinds.rules import Rules
from everyshelf.core.origins.tables import Block, TablesStep, read_blocks
from everyshelf.service.base.config import get_config
from everyshelf.service.base.context import reader
from everyshelf.service.shelves.actions.comparing import compare_pair, kept_rows_of
from everyshelf.service.shelves.actions.listing import entry_of
from everyshelf.service.shelves.actions.pairs import Pairing
from everyshelf.service.shelves.models import ArtifactVersion

Made = tuple[TablesStep, list[Block]]
_NOTHING: list[Block] = []


def tables_step(
    parent: ArtifactVersion | None, version: ArtifactVersion, rules: Rules, tick: Callable[[], None] | None = None
) -> Made:
    """The step between two versions, and the rows it says something of; ``tick`` may raise to end the work."""
    if parent is None or parent.content == version.content:
        return TablesStep(), _NOTHING
    pair = Pairing(version.path, parent.path, entry_of(parent), entry_of(version))
    try:
        found = compare_pair(pair, rules, "job", tick=tick)
    except InvalidError:
        found = None  # the rules name a key that is not there
    tables = _tables(found)
    if found is None or tables is None:
        return TablesStep(whole=True), _NOTHING
    differ = any(_differ(table) for table in tables.values())
    rows = kept_rows_of(pair, rules, "job") if differ else None
    if differ and rows is None:
        return TablesStep(whole=True), _NOTHING  # which rows differ is not known
    output = get_config().scratch / f"blocks-{uuid.uuid4().hex}"
    try:
        with reader() as worker:
            step = worker.row_blocks(rows or output, tables, output)
        blocks = list(read_blocks(output)) if output.is_file() else []
    except LimitError:
        return TablesStep(whole=True), _NOTHING
    finally:
        output.unlink(missing_ok=True)
    step.added = [f.label for f in found.findings if f.type == "table" and f.action == "added"]
    step.removed = [f.label for f in found.findings if f.type == "table" and f.action == "removed"]
    return step, blocks


def _tables(found: ComparisonAnswer | None) -> dict[str, TableAnswer] | None:
    """By name; the empty one stands for a file that is one table. None for what was not read as tables."""
    if found is None or not found.judged:
        return None
    if found.tables is not None:
        return found.tables
    if found.table is not None:
        return {"": found.table}
    return {} if found.equal else None


def _differ(table: TableAnswer) -> bool:
    return bool(table.rows.added or table.rows.removed or table.rows.changed)
