"""Where a part of one version is in another: what somebody said about it goes with it.

A part is named by its path in the outline. It is followed step by step: the parents are matched, and within them the
part is found by its key, by an identity found in both lists, by equal content, by likeness; else it is looked for in
the whole outline, in case it went to another parent. In a text, ``/line:N`` is followed through the alignment of its
lines.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence

from everyshelf.core.answers.files import FollowedPart
from everyshelf.core.compare.artifact import ArtifactSide, compare_artifacts
from everyshelf.core.compare.identity import find_identity, keys_of
from everyshelf.core.compare.options import CompareOptions
from everyshelf.core.compare.pairing import (
    RENAMED_LIKENESS,
    Pair,
    content_key,
    gap_pairs,
    minus,
    pairs_by_equal,
    pairs_by_likeness,
    without,
)
from everyshelf.core.compare.same import canonical, leaf_set
from everyshelf.core.compare.sequence import align
from everyshelf.core.errors import UnreadableError
from everyshelf.core.formats.text import decode, read_alike
from everyshelf.core.kinds.peeking import is_table
from everyshelf.core.kinds.reading import read_outline, recognise_file
from everyshelf.core.kinds.rules import Rules
from everyshelf.core.outline.model import Part, child_path

_MOVE_LEAVES = 3
_LINE = re.compile(r"/line:(\d+)\Z")
_IDS = ("id", "key", "code", "name", "path")


def follow(before: ArtifactSide, after: ArtifactSide, parts: Sequence[str], rules: Rules) -> dict[str, FollowedPart]:
    """Each of ``parts`` of ``before`` in ``after``; a part that ``before`` does not have is left where it is."""
    old, new = before.data, after.data
    if old == new:
        return {part: FollowedPart(part) for part in parts}
    found = recognise_file(after.name, new, rules)
    if is_table(found):
        return _in_table(before, after, parts, rules)
    lines = [p for p in parts if _LINE.match(p)]
    result = _in_text(old, new, lines) if lines else {}
    rest = [p for p in parts if p not in result]
    if rest:
        try:
            root_old = read_outline(before.name, old, recognise_file(before.name, old, rules), rules).root
            root_new = read_outline(after.name, new, found, rules).root
        except (UnreadableError, RecursionError):
            return {**result, **{part: FollowedPart(part) for part in rest}}
        result.update({part: follow_part(root_old, root_new, part) for part in rest})
    return result


def follow_part(before: Part, after: Part, path: str) -> FollowedPart:
    """Where the part at ``path`` below ``before`` is below ``after``."""
    chain = resolve(before, path)
    if chain is None:
        return FollowedPart(path)
    here, where = after, ""
    for place, (parent, part) in enumerate(chain):
        step = _counterpart(parent, here, part)
        if step is None:
            return _elsewhere(after, [p for _, p in chain[place:]])
        named = child_path(where, step, _name_of(here, step))
        here, where = step, where if step.through and place < len(chain) - 1 else named
    return FollowedPart(where or "/", here.label)


def resolve(root: Part, path: str) -> list[tuple[Part, Part]] | None:
    """Parent and part of each step down to ``path``, mere lists included; None if there is no such part."""
    chain: list[tuple[Part, Part]] = []
    here = root
    for step in path.strip("/").split("/") if path.strip("/") else []:
        part_type, _, key = step.partition(":")
        found = _step(here, part_type, key.replace("%2F", "/"))
        if found is None:
            return None
        chain += found
        here = found[-1][1]
    return chain


def _step(parent: Part, part_type: str, key: str) -> list[tuple[Part, Part]] | None:
    children = parent.children()
    same = [c for c in children if c.type == part_type]
    for child in same:
        if key in _names(child):
            return [(parent, child)]
    if key.startswith("#") and key[1:].isdigit():
        place = int(key[1:]) - 1
        if place < len(children) and children[place].type == part_type:
            return [(parent, children[place])]
        if place < len(same):
            return [(parent, same[place])]
    for child in children:
        if child.through and (below := _step(child, part_type, key)) is not None:
            return [(parent, child), *below]
    return None


def _names(part: Part) -> list[str]:
    return [str(n) for n in (part.key, *(part.fields.get(f) for f in _IDS)) if isinstance(n, str | int) and str(n)]


def _name_of(parent: Part, part: Part) -> str:
    """As outlines name a part among its siblings."""
    named = part.key or str(part.fields.get("id") or part.fields.get("name") or "")
    if named:
        return named
    place = next((k for k, c in enumerate(parent.children(), 1) if c.value is part.value), 0)
    return f"#{place}"


def _counterpart(old_parent: Part, new_parent: Part, part: Part) -> Part | None:
    """The child of ``new_parent`` that is what ``part`` is below ``old_parent``."""
    before = [c for c in old_parent.children() if c.type == part.type]
    after = [c for c in new_parent.children() if c.type == part.type]
    place = next((i for i, c in enumerate(before) if c.value is part.value or c is part), None)
    if place is None or not after:
        return None
    if len(before) == len(after) == 1 and (part.through or part.key is None):
        return after[0]
    j = dict(_pairs(before, after)).get(place)
    return after[j] if j is not None else None


def _pairs(before: list[Part], after: list[Part]) -> list[Pair]:
    if all(p.key is not None for p in (*before, *after)):
        olds, news = [str(p.key) for p in before], [str(p.key) for p in after]
        skip: tuple[str, ...] = ()
    else:
        identity = find_identity(before, after)
        skip = identity.fields or identity.regenerated
        if not identity.fields:
            pairs = align([content_key(p, skip) for p in before], [content_key(p, skip) for p in after])
            left_a = without(before, {i for i, _ in pairs})
            left_b = without(after, {j for _, j in pairs})
            return pairs + gap_pairs(before, after, pairs, left_a, left_b, skip)
        olds, news = keys_of(before, identity.fields), keys_of(after, identity.fields)
    at = {key: j for j, key in enumerate(news)}
    pairs = [(i, at[key]) for i, key in enumerate(olds) if key in at]
    left_a, left_b = without(before, {i for i, _ in pairs}), without(after, {j for _, j in pairs})
    renamed = pairs_by_equal(before, after, left_a, left_b, skip)
    rest_a, rest_b = minus(left_a, renamed, 0), minus(left_b, renamed, 1)
    return pairs + renamed + pairs_by_likeness(before, after, rest_a, rest_b, skip, RENAMED_LIKENESS)


def _elsewhere(root: Part, chain: list[Part]) -> FollowedPart:
    """The last part of the chain, if it went to another parent: by its id, else by equal content that is unique."""
    part = chain[-1]
    ids = set(_names(part)) if part.key is not None or part.fields.get("id") else set()
    same_content = []
    content = canonical(part.value)
    for where, found in _walk(root, ""):
        if found.type != part.type:
            continue
        if ids and ids & set(_names(found)):
            return FollowedPart(where, found.label)
        if canonical(found.value) == content:
            same_content.append((where, found))
    if len(same_content) == 1 and len(leaf_set(part.value)) >= _MOVE_LEAVES:
        return FollowedPart(same_content[0][0], same_content[0][1].label)
    return FollowedPart(None, part.label)


def _walk(part: Part, path: str) -> Iterator[tuple[str, Part]]:
    for child in part.children():
        here = child_path(path, child, _name_of(part, child))
        yield here, child
        yield from _walk(child, path if child.through else here)


def _in_text(before: bytes, after: bytes, parts: Sequence[str]) -> dict[str, FollowedPart]:
    try:
        with read_alike(before, after):
            old, new = decode(before).unified.split("\n"), decode(after).unified.split("\n")
    except UnreadableError:
        return {}
    at = dict(align(old, new))
    result = {}
    for part in parts:
        matched = _LINE.match(part)
        assert matched is not None
        line = int(matched[1]) - 1
        result[part] = FollowedPart(f"/line:{at[line] + 1}", f"line {at[line] + 1}") if line in at else _near(at, line)
    return result


def _near(at: dict[int, int], line: int) -> FollowedPart:
    """A line that was changed lies where it did between its neighbours, if they are still neighbours."""
    before, after = at.get(line - 1, -1 if line == 0 else None), at.get(line + 1)
    if before is not None and after is not None and after - before == 2:
        return FollowedPart(f"/line:{before + 2}", f"line {before + 2}")
    return FollowedPart(None, f"line {line + 1}")


def _in_table(before: ArtifactSide, after: ArtifactSide, parts: Sequence[str], rules: Rules) -> dict[str, FollowedPart]:
    """Columns that were renamed are followed, those that were removed are gone; rows keep their key."""
    found = compare_artifacts(before, after, CompareOptions(rules))
    renamed = {f.before: f.after for f in found.findings if f.action == "renamed" and f.type == "column"}
    removed = {f.label for f in found.findings if f.action == "removed" and f.type == "column"}
    result = {}
    for part in parts:
        head, _, name = part.rpartition("column:")
        if not head:
            result[part] = FollowedPart(part)
        elif name in removed:
            result[part] = FollowedPart(None, name)
        else:
            result[part] = FollowedPart(f"{head}column:{renamed.get(name, name)}", str(renamed.get(name, name)))
    return result
