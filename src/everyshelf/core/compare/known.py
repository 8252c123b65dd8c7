"""Tables that are known to hold the same: told by their fingerprints, without reading either."""

from __future__ import annotations

from everyshelf.core.answers.tables import TableFingerprint
from everyshelf.core.compare.result import Comparison
from everyshelf.core.compare.tables import table_findings
from everyshelf.core.tables.changes import RowChanges
from everyshelf.core.tables.comparing import TableComparison
from everyshelf.core.tables.expressions import Pair
from everyshelf.core.tables.fingerprint import source_from
from everyshelf.core.tables.matching import Matched

SAME = "written differently, means the same"


def compare_known(before: TableFingerprint, after: TableFingerprint) -> Comparison | None:
    """What two fingerprints say; None where they differ, or there is none."""
    if not before.digest or before.digest != after.digest:
        return None
    old, new = source_from(before), source_from(after)
    places = {column.name: place for place, column in enumerate(old.columns)}
    pairs = [Pair(old.columns[places[c.name]], places[c.name], c, place) for place, c in enumerate(new.columns)]
    found = TableComparison(old, new, Matched(pairs), RowChanges(same=new.row_count))
    findings = table_findings(found)
    return Comparison("dataset", findings, note="" if findings else SAME, table=found.answer())
