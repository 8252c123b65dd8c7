"""One artifact merged by its kind: as a table, part by part, by lines, or as a whole."""

from __future__ import annotations

from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, replace
from functools import cached_property
from typing import Any

from everyshelf.core.answers.merges import Take
from everyshelf.core.compare.same import same_value
from everyshelf.core.compare.uncollected import without_collection
from everyshelf.core.errors import UnreadableError
from everyshelf.core.formats.json import json_that_says
from everyshelf.core.formats.source import Node
from everyshelf.core.formats.source.json import json_lines_source, json_source
from everyshelf.core.formats.source.xml import xml_encoding, xml_source
from everyshelf.core.formats.source.yaml import yaml_source
from everyshelf.core.formats.text import Decoded, decode, read_alike
from everyshelf.core.kinds.reading import parse_tree, recognise_file, shape_tree, table_in_force
from everyshelf.core.kinds.recognise import Recognition
from everyshelf.core.kinds.registry import kind_for
from everyshelf.core.kinds.rules import Rules
from everyshelf.core.merge.lines import Piece, merge_lines
from everyshelf.core.merge.model import (
    NOTHING,
    SIDE_NAMES,
    Conflict,
    Decide,
    Decision,
    Decisions,
    Merged,
    Side,
    SideNames,
)
from everyshelf.core.merge.naming import PartNames, sentence
from everyshelf.core.merge.policy import Policy
from everyshelf.core.merge.spelling import Speller
from everyshelf.core.merge.structure import StructureMerge
from everyshelf.core.merge.tables import merge_tables
from everyshelf.core.outline.model import Outline

_SOURCES: dict[str, Callable[[bytes], tuple[Node, str, str]]] = {
    "json": json_source,
    "yaml": yaml_source,
    "xml": xml_source,
    "jsonl": json_lines_source,
}
_WRITTEN_AS = {"jsonl": "json"}
_WORTH_A_THREAD = 1 << 20  # bytes
MOST_MERGED = 200 * 1024 * 1024
_BYTE_ORDER = {"utf-8": b"\xef\xbb\xbf", "utf-16-le": b"\xff\xfe", "utf-16-be": b"\xfe\xff"}


@dataclass(frozen=True)
class Versions:
    """The three versions of one artifact, each with all its bytes, and the name it goes by."""

    name: str
    base: bytes
    target: bytes
    source: bytes

    @property
    def all(self) -> tuple[bytes, bytes, bytes]:
        """Base, target and source."""
        return self.base, self.target, self.source


def merge_artifacts(
    versions: Versions,
    *,
    rules: Rules | None = None,
    kind: str | None = None,
    prefer: Side | None = None,
    decisions: Decisions | None = None,
    names: SideNames = SIDE_NAMES,
) -> Merged:
    """Merge ``source`` into ``target``; never raises for what the files contain.

    ``decisions`` settle conflicts by their ids, ``prefer`` those that no decision settles. While one is open there is
    no content. ``names`` are what the sides are called in sentences.
    """
    rules, decided = rules or Rules(), decisions or {}
    with read_alike(*versions.all), without_collection():
        found = [recognise_file(versions.name, data, rules, kind) for data in versions.all]
        merged = _merged(versions, found, rules, prefer, decided)
    merged.kind = _kind_in_force(found).kind
    for conflict in merged.conflicts:
        conflict.why = sentence(conflict, names)
    return merged


def _source(form: str, data: bytes, found: Recognition) -> tuple[Node, str, str]:
    return json_source(data, found.tree) if form == "json" else _SOURCES[form](data)


def _sources(form: str, v: Versions, found: list[Recognition]) -> list[tuple[Node, str, str]]:
    """The three versions taken apart; large ones side by side, since array operations let other threads run."""
    wanted = list(zip([form] * 3, v.all, found, strict=True))
    if form != "json" or len(v.base) < _WORTH_A_THREAD:
        return [_source(*w) for w in wanted]
    with ThreadPoolExecutor(2) as pool:
        return list(pool.map(lambda w: _source(*w), wanted))


def _merged(v: Versions, found: list[Recognition], rules: Rules, prefer: Side | None, decided: Decisions) -> Merged:
    if v.target == v.source or v.source == v.base:
        return Merged(v.target, read_as=found[1].kind)
    if v.target == v.base:
        return Merged(v.source, read_as=found[1].kind)
    if max(map(len, v.all)) > MOST_MERGED:
        return _by_side(v, f"larger than {MOST_MERGED >> 20} MB", prefer, decided)
    if {f.format for f in found} == {"json", "yaml"}:
        found = [replace(f, format="yaml", tree=None) for f in found]  # all JSON is YAML, too
    form = found[1].format
    same_form = len({f.format for f in found}) == 1
    if same_form and form in _SOURCES:
        try:
            return _by_structure(v, found, rules, prefer, decided)
        except (UnreadableError, RecursionError) as error:
            merged = _by_lines(v, found, rules, prefer, decided)
            if str(error):
                merged.notes.append(f"merged as text: {error}")
            return merged
    if same_form and form == "csv":
        try:
            return merge_tables(v.all, rules.key_for(v.name), prefer, decided)
        except UnreadableError as error:
            merged = _by_lines(v, found, rules, prefer, decided)
            merged.notes.append(f"merged as text: {error.message}")
            return merged
    return _by_lines(v, found, rules, prefer, decided)


# --- by structure -------------------------------------------------------------------


def _kind_in_force(found: list[Recognition]) -> Recognition:
    """What both sides are taken for, else what the base is: the same whichever side is which."""
    return found[1] if found[1].kind == found[2].kind else found[0]


def _by_structure(
    v: Versions, found: list[Recognition], rules: Rules, prefer: Side | None, decided: Decisions
) -> Merged:
    chosen = _kind_in_force(found)
    form = chosen.format
    sources = _sources(form, v, found)
    table = table_in_force(chosen, rules, v.name)
    nodes = (sources[0][0], sources[1][0], sources[2][0])
    policy, speller, kind = (
        Policy(table, kind_for(chosen.kind).merge_policy),
        Speller(_WRITTEN_AS.get(form, form)),
        chosen.kind,
    )
    namer = _Namer(v, found, rules)
    merge = StructureMerge(policy, nodes, speller, namer.decisions(decided), prefer)
    out = merge.run(kind)
    around = [
        _around([s[1] for s in sources], "before", prefer, decided),
        _around([s[2] for s in sources], "behind", prefer, decided),
    ]
    namer.name(merge.conflicts)
    merge.conflicts += [c for _, c in around if c is not None]
    edits = merge.target_side.edits + merge.source_side.edits
    result = Merged(None, merge.conflicts, edits, merge.notes, read_as=kind)
    if result.open:
        return result
    text = around[0][0] + out.text + around[1][0]
    content = _encoded(text, v, form)
    wrong = _not_as_meant(content, out.value, form, chosen, v, rules)
    if wrong:
        return _by_side(v, wrong, prefer, decided, chosen.kind)
    result.content = content
    return result


class _Namer:
    """Gives conflicts the names that the kind's outline has for their parts, and finds what was decided under those."""

    def __init__(self, v: Versions, found: list[Recognition], rules: Rules) -> None:
        self._v, self._found, self._rules = v, found, rules

    @cached_property
    def _names(self) -> PartNames:
        outlines = (
            _outline(data, f, self._v.name, self._rules) for data, f in zip(self._v.all, self._found, strict=True)
        )
        return PartNames(o for o in outlines if o is not None)

    def decisions(self, decided: Decisions) -> Decide:
        """Looks a decision up while the merge goes on: conflicts come in one order, so a second of a name is the same
        second each time."""
        seen: set[str] = set()

        def decision(conflict: Conflict) -> Decision | None:
            if not decided:
                return None
            return decided.get(self._name(replace(conflict), seen).id)

        return decision

    def name(self, conflicts: list[Conflict]) -> None:
        """Rename them all."""
        seen: set[str] = set()
        for conflict in conflicts:
            self._name(conflict, seen)

    def _name(self, conflict: Conflict, seen: set[str]) -> Conflict:
        self._names.told(conflict)
        field, count = conflict.field, 1
        while conflict.id in seen:
            count += 1
            conflict.field = f"{field or 'part'} ({count})"
        seen.add(conflict.id)
        return conflict


def _around(said: list[str], where: str, prefer: Side | None, decided: Decisions) -> tuple[str, Conflict | None]:
    """The text before or behind the root: merged by lines; a conflict where both sides rewrote it."""
    base, target, source = said
    if source in (base, target):
        return target, None
    if target == base:
        return source, None
    pieces = merge_lines(*(t.split("\n") for t in said))
    if not any(p.clash for p in pieces):
        return "\n".join(line for p in pieces for line in p.lines), None
    field = f"text {where} the root"
    was, on_target, on_source = (text.strip() or NOTHING for text in said)
    options: tuple[Take, ...] = ("target", "source", "both")
    conflict = Conflict("/", "text", field, field, was, on_target, on_source, "", options)
    conflict.decision = decided.get(conflict.id) or (Decision(prefer) if prefer else None)
    take = conflict.decision.take if conflict.decision is not None else "target"
    both = "\n".join(line for p in pieces for line in ((*p.target, *p.source) if p.clash else p.lines))
    return (both if take == "both" else source if take == "source" else target), conflict


def _encoded(text: str, v: Versions, form: str) -> bytes:
    """The text in the encoding of the side that changed it, of the base if none did."""
    found = [decode(data) for data in v.all]
    chosen = next((f for f in found[1:] if (f.encoding, f.mark) != (found[0].encoding, found[0].mark)), found[0])
    encoding = xml_encoding(v.target) if form == "xml" and not chosen.mark else chosen.encoding
    mark = _BYTE_ORDER.get(chosen.encoding, b"") if chosen.mark else b""
    try:
        return mark + text.encode(encoding)
    except UnicodeEncodeError:
        return mark + text.encode("utf-8")


def _not_as_meant(content: bytes, value: Any, form: str, found: Recognition, v: Versions, rules: Rules) -> str:
    """Why what was written is not what was meant; empty if it is."""
    try:
        again = json_that_says(content, value) if form == "json" else _SOURCES[form](content)[0].value
    except UnreadableError as error:
        return f"put together it would not be readable: {error}"
    if again is not value and not same_value(again, value):
        return "put together it would not say what both sides say"
    read = replace(found, tree=again if form == "json" else None)
    if _outline(content, read, v.name, rules) is None:
        before = [_outline(data, found, v.name, rules) is not None for data in v.all]
        return f"put together it would not be readable as a {found.kind}" if all(before) else ""
    return ""


def _outline(data: bytes, found: Recognition, name: str, rules: Rules) -> Outline | None:
    try:
        again = found if found.tree is not None else recognise_file(name, data, rules, found.kind)
        return shape_tree(parse_tree(data, again), again, table_in_force(again, rules, name))
    except (UnreadableError, RecursionError):
        return None


# --- by lines, and as a whole ----------------------------------------------------------


def _by_lines(v: Versions, found: list[Recognition], rules: Rules, prefer: Side | None, decided: Decisions) -> Merged:
    try:
        texts = [decode(data) for data in v.all]
    except UnreadableError as error:
        return _by_side(v, error.message, prefer, decided)
    end, lines_of = _line_ends(texts)
    pieces = merge_lines(*lines_of)
    conflicts = []
    lines: list[str] = []
    for piece in pieces:
        if not piece.clash:
            lines += piece.lines
            continue
        conflict = _lines_clash(piece)
        conflict.decision = decided.get(conflict.id) or (Decision(prefer) if prefer else None)
        conflicts.append(conflict)
        lines += _settled(piece, conflict.decision)
    merged = Merged(None, conflicts, sum(p.changed for p in pieces), read_as="text")
    if merged.open:
        return merged
    content = _text_bytes(end.join(lines), texts)
    before = [_outline(data, f, v.name, rules) is not None for data, f in zip(v.all, found, strict=True)]
    if all(before) and _outline(content, replace(found[1], tree=None), v.name, rules) is None:
        return _by_side(v, f"put together it would not be readable as a {found[1].kind}", prefer, decided, "text")
    merged.content = content
    return merged


def _line_ends(texts: list[Decoded]) -> tuple[str, list[list[str]]]:
    """The line end of the result and the lines of each version.

    Where every version has one line end throughout (LF, CRLF, or the lone CR of old programs), lines are compared
    without it and the side that changed it has its way; a version that mixes them keeps every end as it is.
    """
    ends = []
    for text in texts:
        crlf = text.text.count("\r\n")
        counts = {"\r\n": crlf, "\n": text.text.count("\n") - crlf, "\r": text.text.count("\r") - crlf}
        ends.append([end for end, count in counts.items() if count])
    if any(len(used) > 1 for used in ends):
        return "\n", [t.text.split("\n") for t in texts]
    base, target, source = ((used or ends[0] or ["\n"])[0] for used in ends)
    return (source if target == base else target), [t.unified.split("\n") for t in texts]


def _lines_clash(piece: Piece) -> Conflict:
    start, count = piece.start + 1, max(1, len(piece.base))
    label = f"line {start}" if count == 1 else f"lines {start}–{start + count - 1}"
    base, target, source = (
        "\n".join(lines) if lines else NOTHING for lines in (piece.base, piece.target, piece.source)
    )
    return Conflict(
        f"/line:{start}", "line", label, None, base, target, source, "", ("target", "source", "both", "edited")
    )


def _settled(piece: Piece, decision: Decision | None) -> tuple[str, ...]:
    if decision is None or decision.take == "target":
        return piece.target
    if decision.take == "source":
        return piece.source
    if decision.take == "both":
        return (*piece.target, *piece.source)
    return tuple(str(decision.value).split("\n")) if decision.value not in (None, "") else ()


def _text_bytes(text: str, texts: list[Decoded]) -> bytes:
    chosen = next((t for t in texts[1:] if (t.encoding, t.mark) != (texts[0].encoding, texts[0].mark)), texts[0])
    mark = _BYTE_ORDER.get(chosen.encoding, b"") if chosen.mark else b""
    try:
        return mark + text.encode(chosen.encoding)
    except UnicodeEncodeError:
        return mark + text.encode("utf-8")


def _by_side(v: Versions, why: str, prefer: Side | None, decided: Decisions, read_as: str = "bytes") -> Merged:
    """Only the target or the source can be taken as a whole."""
    base, target, source = (f"{len(data):,} bytes" for data in v.all)
    conflict = Conflict("/", "artifact", v.name, None, base, target, source, "", ("target", "source"))
    conflict.decision = decided.get(conflict.id) or (Decision(prefer) if prefer else None)
    merged = Merged(None, [conflict], notes=[why] if why else [], read_as=read_as)
    if conflict.decision is not None:
        merged.content = v.source if conflict.decision.take == "source" else v.target
    return merged
