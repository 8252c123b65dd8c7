"""Two versions of one artifact: recognise, read, compare as the kind; where that fails as text, then as bytes."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from everyshelf.core.compare.outlines import compare_outlines
from everyshelf.core.compare.result import Comparison
from everyshelf.core.compare.tables import compare_tables
from everyshelf.core.compare.texts import compare_texts
from everyshelf.core.errors import UnreadableError
from everyshelf.core.formats.tables import parse_table
from everyshelf.core.formats.text import decode
from everyshelf.core.kinds.reading import read_outline, recognise_file
from everyshelf.core.kinds.recognise import Recognition
from everyshelf.core.kinds.rules import Rules
from everyshelf.core.kinds.tables import table_for
from everyshelf.core.outline.model import Finding

# Raised when the meaning of findings changes, so that cached results of an older reader are not shown.
READER_VERSION = 1
_LINE_KINDS = ("script", "report", "settings", "tests")


@dataclass(frozen=True)
class ArtifactSide:
    """One version: the name it went by and its bytes."""

    name: str
    data: bytes


def compare_artifacts(
    before: ArtifactSide,
    after: ArtifactSide,
    *,
    rules: Rules | None = None,
    kind: str | None = None,
    key: Sequence[str] | None = None,
) -> Comparison:
    """What changed from ``before`` to ``after``; never raises for what the files hold, only for a wrong ``key``."""
    rules = rules or Rules()
    old, new = (recognise_file(s.name, s.data, rules, kind) for s in (before, after))
    if before.data == after.data:
        return Comparison(new.kind)
    note = new.note or old.note
    if old.kind != new.kind:
        note = f"it was read as {old.kind} before and as {new.kind} after"
    result = _as_kind(before, after, old, new, rules, key or rules.key_for(after.name))
    result.note = "; ".join(n for n in (note, result.note) if n)
    if not result.findings and not result.note:
        result.note = "written differently, means the same"
    return result


def _as_kind(
    before: ArtifactSide,
    after: ArtifactSide,
    old: Recognition,
    new: Recognition,
    rules: Rules,
    key: Sequence[str] | None,
) -> Comparison:
    try:
        if new.kind == "dataset" and new.format == "csv":
            return _as_table(before, after, key)
        one, other = (read_outline(s.name, s.data, r, rules) for s, r in ((before, old), (after, new)))
        findings, identity = compare_outlines(one, other, table_for(new.kind))
        return Comparison(new.kind, findings, identity=identity)
    except UnreadableError as error:
        return _as_text(before, after, new, str(error))
    except RecursionError:
        return _as_text(before, after, new, "nested too deeply for its kind")


def _as_table(before: ArtifactSide, after: ArtifactSide, key: Sequence[str] | None) -> Comparison:
    findings, table, note = compare_tables(parse_table(before.data), parse_table(after.data), key)
    return Comparison("dataset", findings, note=note, table=table)


def _as_text(before: ArtifactSide, after: ArtifactSide, found: Recognition, why: str) -> Comparison:
    try:
        old, new = decode(before.data), decode(after.data)
    except UnreadableError:
        return _as_bytes(before, after, found, why)
    findings, lines = compare_texts(old.lines(), new.lines())
    for name, was, now in (("encoding", old.encoding, new.encoding), ("line ends", old.newline, new.newline)):
        if was != now:
            findings.append(Finding("changed", "/", "text", name, "cosmetic", name, repr(was), repr(now)))
    # Scripts and reports are read by lines in earnest; for other kinds the note says why they were not read as such.
    by_lines = found.kind in ("script", "report") or (found.kind in _LINE_KINDS and found.format == "text")
    note = "" if by_lines else f"compared as text: {why}" if why else "compared as text"
    return Comparison(found.kind, findings, read_as="text", note=note, lines=lines)


def _as_bytes(before: ArtifactSide, after: ArtifactSide, found: Recognition, why: str) -> Comparison:
    finding = Finding("changed", "/", "content", after.name, "alters", "bytes", len(before.data), len(after.data))
    note = f"compared as bytes: {why}" if why else "compared as bytes: no reader knows it"
    return Comparison(found.kind, [finding], read_as="bytes", note=note)
