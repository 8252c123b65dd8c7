"""A merged group of items written: which version's brackets, white space, comments and keys each piece takes."""

from __future__ import annotations

import json
import re
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any, NamedTuple, TypeVar

from everyshelf.core.answers.merges import Take
from everyshelf.core.formats.source import Group, Item, Node
from everyshelf.core.merge.lines import merge_lines

Key = tuple[str, int]
T = TypeVar("T")
_COMMENT = re.compile(r"(?:^|\s)#.*", re.DOTALL)
# The item, where its comment stands ("before", "behind"), and the comment in base, target and source.
Settle = Callable[["Row", str, tuple[str, str, str]], Take]
_SHAPES = ("scalar", "list", "map", "element")


class Out(NamedTuple):
    """A merged value: how it is written, what it means, and the node it was written after."""

    text: str
    value: Any
    like: Node


@dataclass
class Row:
    """One item of a group in the versions that have it."""

    base: Item | None = None
    target: Item | None = None
    source: Item | None = None

    def any(self) -> Item:
        """The version that tells where it is: the base's, else that of the side which holds more; the same whichever
        side is which."""
        if self.base is not None:
            return self.base
        return max((i for i in (self.target, self.source) if i is not None), key=lambda i: _SHAPES.index(i.node.shape))


def frame_of(groups: tuple[Group, Group, Group], holds: bool) -> Group:
    """The version whose brackets and indentation are kept: the one that was changed."""
    base, target, source = groups
    able = [g for g in groups if bool(g.items) == holds] or list(groups)
    changed = [g for g in (target, source) if g in able and (g.opening, g.closing, g.indent) != _outer(base)]
    if base in able and not changed:
        return base
    return changed[0] if changed else able[0]


class GroupWriter:
    """Writes one group in the form of ``frame``, the version whose brackets and indentation are kept.

    ``settle`` is asked where both sides rewrote a comment: which of them is kept, or both.
    """

    def __init__(self, form: str, groups: tuple[Group, Group, Group], frame: Group, settle: Settle) -> None:
        self._form, self._groups, self._frame, self._settle = form, groups, frame, settle
        self._firsts = {id(g.items[0]) for g in groups if g.items}
        self._owner = {id(i): g for g in groups for i in g.items}
        self._is_plain = len({(g.separator, g.indent) for g in groups}) == 1

    def written(self, keys: list[Key], rows: dict[Key, Row], results: dict[Key, tuple[Item, Out, bool]]) -> str:
        """The group with these items in this order; a result is an item, its value and whether it is a side's own."""
        frame = self._frame
        if not keys:
            return frame.opening.rstrip() + (frame.closing if not frame.items else frame.closing.lstrip())
        pieces = []
        for n, key in enumerate(keys):
            item, out, whole = results[key]
            row = rows[key]
            if self._is_plain and n and self._is_untouched(row, out):
                pieces.append(item.lead + item.head + out.text + item.tail)
                continue
            group = self._owner.get(id(item), frame)
            head, tail = self._around(row, item, out, whole)
            text = head + out.text + tail if group.separator == frame.separator else self._flat(head, out)
            if group.indent != frame.indent and group.indent is not None and frame.indent is not None:
                text = reindented(text, group.indent, frame.indent)
            pieces.append(self._lead(row, n == 0, item) + text)
        return frame.opening + frame.separator.join(pieces) + frame.closing

    def _is_untouched(self, row: Row, out: Out) -> bool:
        """True where nothing but the value can differ, and that is some version's."""
        base, target, source = row.base, row.target, row.source
        if base is None or target is None or source is None or id(base) in self._firsts or id(target) in self._firsts:
            return False
        same = base.lead == target.lead == source.lead and base.head == target.head == source.head
        return same and base.tail == target.tail == source.tail and base.node.style == out.like.style

    def _flat(self, head: str, out: Out) -> str:
        """An item written for a group of another style."""
        if self._form != "yaml":
            return head + out.text
        key = head.strip().rstrip(":").removeprefix("-").strip()
        said = json.dumps(out.value, ensure_ascii=False)
        if self._frame.kind == "map":
            return f"{key}: {said}"
        return said if self._frame.indent is None else f"- {said}"

    def _around(self, row: Row, item: Item, out: Out, whole: bool) -> tuple[str, str]:
        """What stands between the lead and the value, and behind the value."""
        versions = [i for i in (row.base, row.target, row.source) if i is not None]
        same = next((i for i in versions if i.node is out.like and i.name == item.name), None)
        if whole or len(versions) < 3:
            written = same or item
            return written.head, written.tail
        base, target, source = versions
        head = self._head(row, base, target, source) if item.name == base.name else item.head
        tail = self._comment_behind(row, base, target, source)
        if same is not None and (same.node.text == out.text or same.node.style != base.node.style):
            # A value goes with what leads to it; a comment there that only a side without the value changed is kept.
            fits = all(i.node.style == same.node.style and ("\n" in i.head) == ("\n" in same.head) for i in versions)
            return (head if fits and (same.head == base.head or _comment_in(base.head)) else same.head), tail
        is_given = all(i.node is not out.like for i in versions)
        if is_given and self._form == "yaml" and "\n" in item.head:
            return f"{item.head.splitlines()[0].rstrip()} ", ""
        return head, tail

    def _lead(self, row: Row, first: bool, item: Item) -> str:
        """White space and comments before an item."""
        frame = self._frame
        versions = [i for i in (row.base, row.target, row.source) if i is not None]
        usable = versions if self._form == "xml" else [i for i in versions if (id(i) in self._firsts) == first]
        if usable:
            chosen = item if item in usable else usable[-1]
            merged = self._comment_before(row)
            if len(usable) == 3:
                chosen = three(usable[0], usable[1], usable[2], lambda i: i.lead)
            if merged is not None:  # the version that has this comment; else it is put where the item's stands
                chosen = next((i for i in (chosen, *usable) if i.lead.strip() == merged), chosen)
            lead, owner = chosen.lead, self._owner.get(id(chosen), frame)
            if merged is not None and merged != lead.strip():
                lead = _with_comment(lead, merged)
            if frame.indent is None and owner.indent is not None:
                return "" if first else " "
            if frame.indent is not None and owner.indent is None:
                return self._typical(first)
            return reindented(lead, owner.indent, frame.indent) if owner.indent != frame.indent else lead
        comments, typical = versions[-1].lead.strip(), self._typical(first)
        if not comments:
            return typical
        indent = f"\n{frame.indent or ''}"
        if first:
            return f"{comments}{indent}"
        return f"{indent}{comments}{typical if typical[:1] == chr(10) else indent}"

    def _comment_before(self, row: Row) -> str | None:
        """The comment before an item, of all versions; None where fewer than three have the item."""
        if row.base is None or row.target is None or row.source is None:
            return None
        base, target, source = (i.lead.strip() for i in (row.base, row.target, row.source))
        if source in (base, target):
            return target
        if target == base:
            return source
        pieces = merge_lines(*(_unindented(text) for text in (base, target, source)))
        if not any(p.clash for p in pieces):
            return "\n".join(line for p in pieces for line in p.lines)
        take = self._settle(row, "before", (base, target, source))
        return f"{target}\n{source}" if take == "both" else source if take == "source" else target

    def _comment_behind(self, row: Row, base: Item, target: Item, source: Item) -> str:
        said = [i.tail.strip() for i in (base, target, source)]
        if len(set(said)) < 3:
            chosen = three(base, target, source, lambda i: i.tail.strip())
            return (three(base, target, source, lambda i: i.tail) if chosen is base else chosen).tail
        take = self._settle(row, "behind", (said[0], said[1], said[2]))
        if take == "both":
            return f"{target.tail} {said[2]}"
        return source.tail if take == "source" else target.tail

    def _head(self, row: Row, base: Item, target: Item, source: Item) -> str:
        """Key and separator, with a comment that may stand between them and the value."""
        said = [i.head.strip() for i in (base, target, source)]
        names_differ = len({base.name, target.name, source.name}) > 1
        if len(set(said)) < 3 or names_differ:
            return three(base, target, source, lambda i: i.head).head
        comments = [_comment_in(i.head) for i in (base, target, source)]
        take = self._settle(row, "beside", (comments[0], comments[1], comments[2]))
        if take == "both" and comments[1]:
            return target.head.replace(comments[1], f"{comments[1]} {comments[2]}", 1)
        return source.head if take == "source" else target.head

    def _typical(self, first: bool) -> str:
        """The lead of a first or a further item, as the frame or another version writes it, without comments."""
        frame = self._frame
        for group in (frame, *self._groups):
            items = group.items[:1] if first else group.items[1:]
            if items and group.indent == frame.indent:
                lead = items[-1].lead
                return lead if not lead.strip() else f"\n{frame.indent or ''}"
        if frame.indent is not None and not first:
            return f"\n{frame.indent}"
        lead = frame.items[0].lead if frame.items else ""
        return lead if "\n" in lead else ("" if first else " ")


def _comment_in(head: str) -> str:
    found = _COMMENT.search(head)
    return found.group().strip() if found else ""


def _unindented(text: str) -> list[str]:
    return [line.strip() for line in text.split("\n")] if text else []


def _with_comment(lead: str, comment: str) -> str:
    """A lead with another comment, each line indented as the item itself is."""
    inner = lead.strip()
    before, _, after = lead.partition(inner) if inner else (lead, "", "")
    indent = (after or before).rpartition("\n")[2]
    if not inner:
        before, after = (before if "\n" in before else ""), f"\n{indent}"
    if not comment:
        return before if "\n" in before or not after else before + after.lstrip("\n")
    return before + f"\n{indent}".join(line.strip() for line in comment.split("\n")) + after


def _outer(group: Group) -> tuple[str, str, str | None]:
    return group.opening, group.closing, group.indent


def three(base: T, target: T, source: T, of: Callable[[T], object]) -> T:
    """The version that was changed in that respect; the target if both were."""
    if of(target) != of(base):
        return target
    return source if of(source) != of(base) else base


def reindented(text: str, old: str | None, new: str | None) -> str:
    """``text`` whose further lines begin with ``new`` where they began with ``old``."""
    if not old and not new:
        return text
    lines = text.split("\n")
    for n in range(1, len(lines)):
        if old and lines[n].startswith(old):
            lines[n] = f"{new or ''}{lines[n][len(old) :]}"
        elif not old and lines[n].strip():
            lines[n] = f"{new or ''}{lines[n]}"
    return "\n".join(lines)
