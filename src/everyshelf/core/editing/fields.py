"""Setting fields of parts in the text they were read from.

A reader says what a file means, not where each word of it stands. So the place is found by trying: every value of the
text that says what the field says is a candidate, the likeliest first (one whose key is the field's name, that stands
within something that bears the part's key). The candidate is spelled anew, the file is read again, and the edit is
taken only if the outline then says exactly what was wanted and nothing else. Everything around the value stays byte for
byte.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from typing import Any

from everyshelf.core.compare.following import resolve
from everyshelf.core.editing.edits import FieldEdit
from everyshelf.core.editing.places import SOURCES, Place, SourceText, value_of
from everyshelf.core.errors import InvalidError, UnreadableError
from everyshelf.core.formats.source import Node
from everyshelf.core.formats.text import decode, encoded_like
from everyshelf.core.kinds.reading import read_outline, recognise_file
from everyshelf.core.kinds.recognise import Recognition
from everyshelf.core.kinds.rules import Rules
from everyshelf.core.merge.spelling import Speller, line_list
from everyshelf.core.outline.model import Part, plain

MOST_BYTES = 20 * 1024 * 1024
_MOST_TRIED = 60
_WORD = re.compile(r"\w")


def set_fields(name: str, data: bytes, edits: Sequence[FieldEdit], rules: Rules | None = None) -> bytes:
    """``data`` with these fields changed; raises ``InvalidError`` for one that cannot be changed in this way."""
    if len(data) > MOST_BYTES:
        raise InvalidError(f"files over {MOST_BYTES >> 20} MB are not edited by field", code="edit.too_large")
    for edit in edits:
        data = _set(name, data, edit, rules or Rules())
    return data


def _set(name: str, data: bytes, edit: FieldEdit, rules: Rules) -> bytes:
    found = recognise_file(name, data, rules)
    try:
        root = read_outline(name, data, found, rules).root
    except (UnreadableError, RecursionError) as error:
        raise _impossible(edit, f"{name} has no outline: {error}") from error
    chain = resolve(root, edit.part)
    if chain is None:
        raise InvalidError(
            f"{name} has no part {edit.part}", code="edit.part", hint="Load it again: it changed meanwhile."
        )
    part = chain[-1][1] if chain else root
    if edit.field not in part.fields:
        raise _impossible(edit, f"{edit.part or name} has no field {edit.field} yet")
    old = part.fields[edit.field]
    if _says(old, edit.value):
        return data
    before = _flat(root)
    place = next(k for k, (p, _) in enumerate(before) if p is part or (p.value is part.value and p.type == part.type))
    parents = [p for _, p in chain]
    for content in _candidates(data, found, part, parents, edit, old):
        if _says_exactly(name, content, rules, before, place, edit):
            return content
    raise _impossible(edit, f"the place of {edit.field} in the text is not plain")


def _impossible(edit: FieldEdit, why: str) -> InvalidError:
    return InvalidError(
        f"{edit.field} cannot be changed by itself: {why}", code="edit.field", hint="Edit the text instead."
    )


def _candidates(
    data: bytes, found: Recognition, part: Part, parents: list[Part], edit: FieldEdit, old: Any
) -> Iterator[bytes]:
    if found.format in SOURCES:
        try:
            source = SourceText(data, found.format, found.tree)
        except UnreadableError:
            return
        places = [p for p in source.places() if _says(value_of(p.node), old)]
        speller = Speller(found.format)
        for place in _likeliest(places, part, parents, edit.field):
            yield source.spliced([(place, _spelled(speller, place.node, edit.value))])
        return
    decoded = decode(data)
    wanted, said = str(old), str(edit.value)
    if not wanted or "\n" in said:
        return
    starts = [m.start() for m in re.finditer(re.escape(wanted), decoded.text)]
    whole = [at for at in starts if _is_whole(decoded.text, at, wanted)]
    for at in whole[: _MOST_TRIED * 4]:
        yield encoded_like(decoded.text[:at] + said + decoded.text[at + len(wanted) :], decoded)


def _spelled(speller: Speller, node: Node, value: Any) -> str:
    if node.shape == "list":
        lines = str(value).splitlines(keepends=True)
        return line_list(lines, node.groups, node.text.isascii())[0] if lines else "[]"
    return speller.value(_typed(value, node.value), node, "")


def _is_whole(text: str, at: int, wanted: str) -> bool:
    """Not a piece of a longer word."""
    end = at + len(wanted)
    before = at > 0 and _WORD.match(text[at - 1]) and _WORD.match(wanted[0])
    behind = end < len(text) and _WORD.match(text[end]) and _WORD.match(wanted[-1])
    return not before and not behind


def _likeliest(places: list[Place], part: Part, parents: list[Part], field: str) -> list[Place]:
    """Places in the order in which they are tried."""
    own = {str(v) for v in (part.key, part.label, part.fields.get("id"), part.fields.get("name")) if v}
    above = {str(p.key) for p in parents if p.key}

    def rank(place: Place) -> tuple[int, int]:
        around = set(place.around)
        named = 4 if place.name == field else 2 if _like(place.name, field) else 0
        return -(named + 3 * bool(own & around) + 2 * len(above & around)), place.start

    return sorted(places, key=rank)[:_MOST_TRIED]


def _like(name: str, field: str) -> bool:
    bare, wanted = (re.sub(r"[^a-z0-9]", "", text.lower()) for text in (name, field))
    return bool(bare and wanted) and (bare in wanted or wanted in bare)


def _typed(value: Any, like: Any) -> Any:
    """A value given as text, in the type that stood there, where it can be read so."""
    if not isinstance(value, str) or isinstance(like, str) or like is None:
        return value
    if isinstance(like, bool):
        return {"true": True, "false": False}.get(value.strip().lower(), value)
    for kind in (int, float):
        try:
            return kind(value)
        except ValueError:
            continue
    return value


def _says(value: Any, wanted: Any) -> bool:
    """Equal, or written alike: an attribute says "30" where the field says 30."""
    if value is None or wanted is None:
        return value is None and wanted is None
    if isinstance(value, bool) or isinstance(wanted, bool):
        return str(value).lower() == str(wanted).lower()
    one, other = plain(value), plain(wanted)
    return one == other or str(one) == str(other)


def _flat(root: Part) -> list[tuple[Part, dict[str, Any]]]:
    """All parts, depth first, each with what its fields say."""
    result = [(root, {k: plain(v) for k, v in root.fields.items()})]
    for child in root.children():
        result += _flat(child)
    return result


def _says_exactly(
    name: str, content: bytes, rules: Rules, before: list[tuple[Part, dict[str, Any]]], place: int, edit: FieldEdit
) -> bool:
    try:
        root = read_outline(name, content, recognise_file(name, content, rules), rules).root
        after = _flat(root)
    except (UnreadableError, RecursionError):
        return False
    if len(after) != len(before):
        return False
    for k, ((old, was), (new, now)) in enumerate(zip(before, after, strict=True)):
        if old.type != new.type:
            return False
        if k != place:
            if was != now:
                return False
            continue
        if not _says(now.get(edit.field), edit.value):
            return False
        rest = {f: v for f, v in was.items() if f != edit.field}
        if {f: v for f, v in now.items() if f != edit.field} != rest:
            return False
    return True
