"""Outline against outline.

For two matched parts: their fields are compared; then their children, type by type:

1. what is equal as a whole is skipped, whatever lies below;
2. children are matched by key, or by an identity found in both lists, else by content along the longest alignment;
3. what is left is matched by equal content (renamed), then by likeness (renamed and changed);
4. order: where it matters, what lies outside a longest increasing subsequence has moved; else one cosmetic finding.

At the end, removed and added parts of equal content under different parents become moves.
"""

from __future__ import annotations

import itertools
from collections import defaultdict
from collections.abc import Iterable, Sequence
from contextlib import AbstractContextManager, nullcontext
from dataclasses import dataclass, replace
from functools import partial
from typing import Any

from everyshelf.core.compare.identity import Identity, field_that_holds, find_identity, key_of, keys_of
from everyshelf.core.compare.pairing import (
    ALONE_LIKENESS,
    RENAMED_LIKENESS,
    Pair,
    content_key,
    equal_leftovers,
    gap_pairs,
    minus,
    pairs_by_equal,
    pairs_by_likeness,
    without,
)
from everyshelf.core.compare.part_values import MOST_BRIEF, by_type, differs, form, held, is_empty, places_by_type
from everyshelf.core.compare.same import canonical, differing, leaf_set, same_value, written_alike
from everyshelf.core.compare.sequence import align, increasing
from everyshelf.core.compare.tabular import TABULAR, level_columns
from everyshelf.core.compare.wording import Names, names_in, same_but_spacing, text_change
from everyshelf.core.kinds.cosmetic import Place
from everyshelf.core.kinds.table import KindTable
from everyshelf.core.origins.steps import Touch
from everyshelf.core.origins.trail import Spot, Trail
from everyshelf.core.outline.identities import is_id_like
from everyshelf.core.outline.model import Effect, Finding, Items, Outline, Part, Step, child_path, values_of

_MOVE_LEAVES = 3


@dataclass
class _Left:
    """An added or removed part that may still turn out to have moved from or to another parent."""

    place: int  # index into the list of findings
    part: Part
    path: str
    spot: Spot | None = None


def compare_outlines(before: Outline, after: Outline, table: KindTable) -> tuple[list[Finding], dict[str, list[str]]]:
    """All findings, and per list path the fields by which its items were identified."""
    run = Run(table, names_in(before.root, after.root))
    run.parts(before.root, after.root, "", cosmetic=False)
    return run.finished(), run.identity


class Run:
    """One comparison on its way: findings so far, and what may still turn out to have moved.

    ``names`` tells the label of what an id names; connections are told by the labels of their ends. ``trail`` writes
    down which part became which.
    """

    def __init__(self, table: KindTable, names: Names | None = None, trail: Trail | None = None) -> None:
        self._table = table
        self.trail = trail
        self._names = names or Names()
        self._findings: list[Finding | None] = []
        self._above: list[tuple[str, str]] = []  # path and words of the parts on the way down
        self._added: list[_Left] = []
        self._removed: list[_Left] = []
        self.identity: dict[str, list[str]] = {}
        self.renamed_if_equal = table.renamed_if_equal
        self._known_types = frozenset(table.types.values())
        self._joins = "connection" in table.identity
        self._renamed: dict[str, str] = {}  # new key of a part -> its old one

    # --- one pair of parts -------------------------------------------------

    def parts(self, before: Part, after: Part, path: str, *, cosmetic: bool) -> None:
        """Everything that differs between two matched parts."""
        if same_value(before.value, after.value):
            if self.trail is not None and not written_alike(before.value, after.value):
                self.children(before, after, path, cosmetic=True)  # members of a map stand elsewhere
            return
        # A workflow's process is all of it, and a mere list is not what its items lie in.
        is_inside = bool(path) and after.type != "process" and not after.through
        if is_inside:
            self._above.append((path, after.label if after.type == after.label else f"{after.type} {after.label}"))
        self._parts(before, after, path, cosmetic=cosmetic)
        if is_inside:
            self._above.pop()

    def _parts(self, before: Part, after: Part, path: str, *, cosmetic: bool) -> None:
        looks = self._table.cosmetic_type(after.type)
        if looks is not None:
            self.say("changed", path, after, cosmetic=True, detail=looks.reason)
            if self.trail is not None:
                self.trail.looks()
            return
        said = len(self._findings)
        if after.type in TABULAR and before.type == after.type:
            before, after = self._columns(before, after, path, cosmetic=cosmetic)
        self.fields(before, after, path, cosmetic=cosmetic)
        self.children(before, after, path, cosmetic=cosmetic)
        if len(self._findings) == said and not any((before.fields, after.fields, before.children(), after.children())):
            # Bytes and the like, of which nobody made fields.
            self.say("changed", path, after, detail="its content differs", cosmetic=cosmetic)
            if self.trail is not None:
                self.trail.whole()
        elif len(self._findings) == said and form(before.value) != form(after.value):
            # An empty list is not an empty object, though neither has a part that could say so.
            self.say(
                "changed",
                path,
                after,
                field="form",
                before=form(before.value),
                after=form(after.value),
                cosmetic=cosmetic or not is_empty(before.value),
            )

    def _columns(self, before: Part, after: Part, path: str, *, cosmetic: bool) -> tuple[Part, Part]:
        """Tell what became of a table's columns; gives both sides with those they share."""
        found = level_columns(before, after)
        if found is None:
            return before, after
        if self.trail is not None:
            self.trail.columns(found.added, [(old, new) for old, new in found.renamed])

        def say(action: Step, name: str, was: str | None = None, now: str | None = None) -> None:
            column = Part("column", name, name, None)
            self.say(action, child_path(path, column, name), column, before=was, after=now, cosmetic=cosmetic)

        for name in found.removed:
            say("removed", name, was=name)
        for name in found.added:
            say("added", name, now=name)
        for was, now in found.renamed:
            say("renamed", now, was, now)
        if found.reordered:
            self.say("reordered", path, after, detail="columns", cosmetic=cosmetic)
        return found.before, found.after

    def fields(self, before: Part, after: Part, path: str, *, cosmetic: bool, skip: tuple[str, ...] = ()) -> None:
        """What differs between the fields of two matched parts."""
        follows = self._table.follows
        for name in dict.fromkeys([*before.fields, *after.fields]):
            if name in skip or (name in follows and differs(follows[name], before, after)):
                continue
            old, new = before.fields.get(name), after.fields.get(name)
            if name in before.fields and name in after.fields:
                if same_value(old, new) or (self._renamed and self.before_renaming(new) == old):
                    continue
                action: Step = "changed"
            else:
                action = "removed" if name in before.fields else "added"
            because = next((after.fields[f] for f, led in follows.items() if led == name and after.fields.get(f)), "")
            is_looks = cosmetic or self._is_cosmetic(name, old, new, before, after)
            self.say(action, path, after, field=name, before=old, after=new, cosmetic=is_looks, detail=str(because))
            if self.trail is not None:
                said = self._findings[-1]
                touch: Touch = "removed" if action == "removed" else "set"
                self.trail.field(name, "looks" if said is not None and said.effect == "cosmetic" else touch, old, new)

    def _is_cosmetic(self, name: str, old: Any, new: Any, before: Part, after: Part) -> bool:
        if not self._table.may_be_cosmetic(name):
            return False
        holder = after.label if after.key != "" else ""
        place = Place(name, (old, new), {**before.fields, **after.fields}, holder)
        return self._table.cosmetic_field(place) is not None

    def children(self, before: Part, after: Part, path: str, *, cosmetic: bool, leave_out: str = "") -> None:
        """What differs between the children of two matched parts, type by type."""
        olds, news = before.children(), after.children()
        old, new = by_type(olds), by_type(news)
        places = (places_by_type(olds), places_by_type(news)) if self.trail is not None else None
        types = dict.fromkeys([*old, *new])
        if self._joins:  # what is joined comes first: joints are told by what its names were
            types = dict.fromkeys(sorted(types, key=lambda t: t != "step"))
        for part_type in types:
            if part_type == leave_out:
                continue
            ordered = before.ordered and after.ordered
            if after.sequence:
                ordered = not self._table.is_unordered(part_type)
            siblings = _Siblings(self, path, after, ordered, cosmetic=cosmetic)
            if places is not None:
                siblings.places = places[0].get(part_type, ()), places[1].get(part_type, ())
            siblings.compare(old.get(part_type, []), new.get(part_type, []))

    # --- findings ----------------------------------------------------------

    def say(
        self,
        action: Step,
        path: str,
        part: Part,
        *,
        cosmetic: bool,
        field: str | None = None,
        before: Any = None,
        after: Any = None,
        detail: str = "",
    ) -> None:
        """One finding; its effect follows from the kind's table."""
        effect = self._effect(action, part, field, before, after, cosmetic=cosmetic)
        if field is not None and not detail:
            same = partial(self._means_the_same, part, field) if effect != "cosmetic" else None
            detail = text_change(before, after, same)
        within = next((words for above, words in reversed(self._above) if above != path), "")
        said = Finding(action, path or "/", part.type, part.label, effect, field, before, after, detail, within)
        self._findings.append(self._names.connection(said, part) if part.type == "connection" else said)

    def _means_the_same(self, part: Part, field: str, before: str, after: str) -> bool:
        """True for two lines of a text that the kind's table tells apart only in how they are written."""
        judge = self._table.judge
        return judge is not None and judge("changed", part, field, before, after) == "cosmetic"

    def _effect(
        self, action: Step, part: Part, field: str | None, before: Any, after: Any, *, cosmetic: bool
    ) -> Effect:
        table = self._table
        if cosmetic or table.cosmetic_type(part.type) is not None or same_but_spacing(before, after):
            return "cosmetic"
        if table.judge is not None:
            judged = table.judge(action, part, field, before, after)
            if judged is not None:
                return judged
        if (action, part.type) in table.breaks and (field is None):
            return "breaks"
        if field is not None and (action, part.type, field) in table.breaks:
            return "breaks"
        if action == "reordered":
            return "cosmetic"
        return "alters"

    def say_added(self, part: Part, path: str, *, cosmetic: bool, place: int = 0) -> None:
        """A part that only the newer version has, at ``place`` of its parent; it may still turn out to have moved."""
        spot = self.trail.added(place) if self.trail is not None else None
        self._added.append(_Left(len(self._findings), part, path, spot))
        self.say("added", path, part, after=self._brief(part), cosmetic=cosmetic)

    def say_removed(self, part: Part, path: str, *, cosmetic: bool, place: int = 0) -> None:
        """A part that only the older version has; it may still turn out to have moved."""
        spot = self.trail.gone(place, part.type, str(part.label), path) if self.trail is not None else None
        self._removed.append(_Left(len(self._findings), part, path, spot))
        self.say("removed", path, part, before=self._brief(part), cosmetic=cosmetic)

    def _brief(self, part: Part) -> Any:
        """What an added or removed part holds, as far as a line can tell; nothing that is merely looks."""
        if set(part.fields) == {"value"}:
            return part.fields["value"]
        looks = self._table.may_be_cosmetic
        fields = {k: v for k, v in part.fields.items() if v is not None and not looks(k)}
        return dict(list(fields.items())[:MOST_BRIEF]) or held(part)

    def note_renamed(self, old: str, new: str) -> None:
        """A part that others may refer to got another key."""
        if self._joins and old != new:
            self._renamed[new] = old

    def before_renaming(self, reference: Any) -> Any:
        """A reference to a renamed part as it was written before: ``step`` or ``step/output``."""
        if not isinstance(reference, str):
            return reference
        whole = self._renamed.get(reference)
        if whole is not None:
            return whole
        for sign in ("/", ":", "."):
            head, found, tail = reference.partition(sign)
            if found and head in self._renamed:
                return f"{self._renamed[head]}{sign}{tail}"
        return reference

    def joined_as_before(self, parts: Sequence[Part]) -> Sequence[Part]:
        """Connections whose ends are named as they were before those were renamed."""
        if not self._renamed or not isinstance(parts, Items) or parts.type != "connection":
            return parts
        ends = ("from", "to")
        values = [{k: self.before_renaming(v) if k in ends else v for k, v in value.items()} for value in parts.values]
        return parts.with_values(values)

    def knows(self, part_type: str) -> bool:
        """True for a type that the kind's table has names for."""
        return part_type in self._known_types

    # --- moves between parents ---------------------------------------------

    def finished(self) -> list[Finding]:
        """The findings, with removed-here-and-added-there told as moves."""
        if self._added and self._removed:
            self._moves_by(lambda part: (part.type, canonical(part.value)), _MOVE_LEAVES)
            self._moves_by(self._lasting_key, 0)
        return [f for f in self._findings if f is not None]

    def _lasting_key(self, part: Part) -> tuple[str, str] | None:
        """What a part keeps when it goes to another parent: an id, where ids are unique in the whole document."""
        if self._table.lasting_keys and part.key:
            return part.type, part.key
        return (part.type, str(part.fields["id"])) if part.fields.get("id") else None

    def _moves_by(self, key: Any, least_leaves: int) -> None:
        gone: dict[Any, list[_Left]] = defaultdict(list)
        for left in self._removed:
            if self._findings[left.place] is not None and (found := key(left.part)) is not None:
                gone[found].append(left)
        for left in self._added:
            if self._findings[left.place] is None or (found := key(left.part)) not in gone or not gone[found]:
                continue
            if least_leaves and len(leaf_set(left.part.value)) < least_leaves:
                continue
            self._move(gone[found].pop(0), left)

    def _move(self, old: _Left, new: _Left) -> None:
        said = self._findings[new.place]
        assert said is not None
        effect: Effect = "cosmetic" if said.effect == "cosmetic" else "alters"
        self._findings[old.place] = None
        went = replace(said, action="moved", before=old.path, after=new.path, effect=effect)
        self._findings[new.place] = went if old.path != new.path else None
        with self._came(old, new):
            self.parts(old.part, new.part, new.path, cosmetic=effect == "cosmetic")

    def _came(self, old: _Left, new: _Left) -> AbstractContextManager[None]:
        if self.trail is None or old.spot is None or new.spot is None:
            return nullcontext()
        return self.trail.came(old.spot, new.spot)


class _Siblings:
    """Children of one type of two matched parents."""

    def __init__(self, run: Run, path: str, parent: Part, ordered: bool, *, cosmetic: bool) -> None:
        self._run = run
        self._path = path
        self._parent = parent
        self._ordered = ordered
        self._cosmetic = cosmetic
        self._identity = Identity()
        self._skip: tuple[str, ...] = ()  # the identity, where only one version spells it out
        self.places: tuple[Sequence[int], Sequence[int]] = ((), ())  # among all children, where a trail is kept

    def compare(self, before: Sequence[Part], after: Sequence[Part]) -> None:
        after = self._run.joined_as_before(after)
        lazy = isinstance(before, Items) and isinstance(after, Items)
        keyed = not lazy and all(p.key is not None for p in before) and all(p.key is not None for p in after)
        if not keyed:
            across = None if lazy else self._across_forms(before, after)
            self._identity = across or find_identity(before, after)
            if self._identity.fields:
                self._run.identity[self._list_path()] = list(self._identity.fields)
        alone = len(before) == len(after) == 1 and self._parent.type != "list"
        by_chance = not keyed and not all(is_id_like(f) is not None for f in self._identity.fields)
        if (keyed or self._identity.fields) and not (alone and by_chance):
            self._by_key(before, after)
        elif alone:
            self._identity = Identity()
            # The only element of its name on both sides: its name says which it is.
            self._pair((before, 0), (after, 0), self._child_path(after[0], 0))
        else:
            self._by_content(before, after)

    def _across_forms(self, before: Sequence[Part], after: Sequence[Part]) -> Identity | None:
        """A map in one version and a list in the other: the field of the items that holds the map's keys."""
        forms = [{p.key is not None for p in side} for side in (before, after)]
        if forms not in ([{True}, {False}], [{False}, {True}]):
            return None
        keyed, items = (before, after) if forms[0] == {True} else (after, before)
        field = field_that_holds({str(p.key) for p in keyed}, items)
        if field is not None:
            self._skip = (field,)
        return Identity((field,)) if field is not None else None

    # --- with an identity --------------------------------------------------

    def _by_key(self, before: Sequence[Part], after: Sequence[Part]) -> None:
        place = {key: j for j, key in enumerate(self._keys(after))}
        pairs = [(i, place[key]) for i, key in enumerate(self._keys(before)) if key in place]
        left_a = without(before, {i for i, _ in pairs})
        left_b = without(after, {j for _, j in pairs})
        # Renames come first: what refers to a renamed part has not changed by that.
        renamed = self._renames(before, after, left_a, left_b)
        for i, j in renamed:
            self._run.note_renamed(self._key(before[i]), self._key(after[j]))
        olds, news = values_of(before), values_of(after)
        differ = differing(olds, news, pairs)
        if self._run.trail is not None:
            self._same(before, after, set(pairs).difference(differ))
        for i, j in differ:
            self._pair((before, i), (after, j), self._child_path(after[j], j), skip=self._skip)
        self._order(after, pairs)
        for i, j in renamed:
            path, keys = self._child_path(after[j], j), (self._key(before[i]), self._key(after[j]))
            self._run.say("renamed", path, after[j], before=keys[0], after=keys[1], cosmetic=self._cosmetic)
            self._pair((before, i), (after, j), path, skip=self._identity.fields, renamed=keys)
        self._rest(before, after, minus(left_a, renamed, 0), minus(left_b, renamed, 1))

    def _renames(
        self, before: Sequence[Part], after: Sequence[Part], left_a: list[int], left_b: list[int]
    ) -> list[Pair]:
        """Pairs of equal content, then of like content, among what has no counterpart by its key."""
        if not left_a or not left_b:
            return []
        skip = self._identity.fields
        renamed = pairs_by_equal(before, after, left_a, left_b, skip)
        rest_a, rest_b = minus(left_a, renamed, 0), minus(left_b, renamed, 1)
        # The only one of its type on both sides needs less to be taken for the same.
        least = ALONE_LIKENESS if len(before) == len(after) == 1 else RENAMED_LIKENESS
        if before[0].type not in self._run.renamed_if_equal:
            renamed += pairs_by_likeness(before, after, rest_a, rest_b, skip, least)
        return renamed

    def _rest(self, before: Sequence[Part], after: Sequence[Part], gone: list[int], come: list[int]) -> None:
        for i in gone:
            path, place = self._child_path(before[i], i), self._place(0, i)
            self._run.say_removed(before[i], path, cosmetic=self._cosmetic, place=place)
        for j in come:
            path, place = self._child_path(after[j], j), self._place(1, j)
            self._run.say_added(after[j], path, cosmetic=self._cosmetic, place=place)

    def _order(self, after: Sequence[Part], pairs: list[Pair]) -> None:
        targets = [j for _, j in pairs]
        if all(a < b for a, b in itertools.pairwise(targets)):
            return
        if not self._ordered and not isinstance(after, Items) and all(p.key is not None for p in after):
            return  # members of a map, or parts that are found by their key alone
        if not self._ordered or not self._order_counts(after):
            self._run.say("reordered", self._list_path(), self._parent, cosmetic=True)
            return
        kept = set(increasing(targets))
        rank = {j: r for r, j in enumerate(sorted(targets))}
        for place, (i, j) in enumerate(pairs):
            if place not in kept:
                self._moved(i, j)
                self._run.say(
                    "moved",
                    self._child_path(after[j], j),
                    after[j],
                    before=place + 1,
                    after=rank[j] + 1,
                    cosmetic=self._cosmetic,
                )

    def _order_counts(self, parts: Sequence[Part]) -> bool:
        """In a list, and among elements that the kind knows or that nothing names."""
        if self._parent.type == "list" or self._parent.sequence or self._run.knows(parts[0].type):
            return True
        named = any(p.key is not None for p in parts) or any(is_id_like(f) is not None for f in self._identity.fields)
        return not named

    # --- without one -------------------------------------------------------

    def _by_content(self, before: Sequence[Part], after: Sequence[Part]) -> None:
        skip = self._identity.regenerated
        keys_a = [content_key(p, skip) for p in before]
        keys_b = [content_key(p, skip) for p in after]
        pairs = align(keys_a, keys_b)
        if skip:
            self._run.say(
                "changed",
                self._list_path(),
                self._parent,
                field=skip[0],
                cosmetic=True,
                detail=f"{skip[0]} regenerated for {len(pairs)} items of equal content",
            )
        left_a = without(before, {i for i, _ in pairs})
        left_b = without(after, {j for _, j in pairs})
        moved = equal_leftovers(keys_a, keys_b, left_a, left_b)
        left_a, left_b = minus(left_a, moved, 0), minus(left_b, moved, 1)
        changed = gap_pairs(before, after, pairs, left_a, left_b, skip)
        self._same(before, after, [*pairs, *moved])
        for i, j in moved:
            if self._ordered:
                self._moved(i, j)
                self._run.say(
                    "moved", self._child_path(after[j], j), after[j], before=i + 1, after=j + 1, cosmetic=self._cosmetic
                )
        if moved and not self._ordered:
            self._run.say("reordered", self._list_path(), self._parent, cosmetic=True)
        for i, j in changed:
            self._pair((before, i), (after, j), self._child_path(after[j], j), skip=skip)
        self._rest(before, after, minus(left_a, changed, 0), minus(left_b, changed, 1))

    # --- common ------------------------------------------------------------

    def _pair(
        self,
        old: tuple[Sequence[Part], int],
        new: tuple[Sequence[Part], int],
        path: str,
        *,
        skip: tuple[str, ...] = (),
        renamed: tuple[str, str] | None = None,
    ) -> None:
        before, after = old[0][old[1]], new[0][new[1]]
        trail = self._run.trail
        with trail.pair(self._place(0, old[1]), self._place(1, new[1]), renamed=renamed) if trail else nullcontext():
            if skip and not same_value(before.value, after.value):
                self._run.fields(before, after, path, cosmetic=self._cosmetic, skip=skip)
                self._run.children(before, after, path, cosmetic=self._cosmetic)
            else:
                self._run.parts(before, after, path, cosmetic=self._cosmetic)

    def _place(self, side: int, index: int) -> int:
        """The place among all children of the parent of one of this type."""
        places = self.places[side]
        return places[index] if places else index

    def _same(self, before: Sequence[Part], after: Sequence[Part], pairs: Iterable[Pair]) -> None:
        """Pairs that mean the same; in some of them members of maps may stand elsewhere."""
        if self._run.trail is None:
            return
        olds, news = values_of(before), values_of(after)
        alike = [(i, j) for i, j in pairs if written_alike(olds[i], news[j])]
        self._run.trail.same((self._place(0, i), self._place(1, j)) for i, j in alike)
        for i, j in sorted(set(pairs).difference(alike)):
            self._pair((before, i), (after, j), self._child_path(after[j], j))

    def _moved(self, i: int, j: int) -> None:
        if self._run.trail is not None:
            self._run.trail.moved(self._place(0, i), self._place(1, j))

    def _key(self, part: Part) -> str:
        return part.key if part.key is not None else key_of(part, self._identity.fields)

    def _keys(self, parts: Sequence[Part]) -> list[str]:
        known = [None] if isinstance(parts, Items) else [p.key for p in parts]
        if None not in known:
            return known  # type: ignore[return-value]
        return keys_of(parts, self._identity.fields) if not any(known) else [self._key(p) for p in parts]

    def _child_path(self, part: Part, place: int) -> str:
        named = part.key is not None or self._identity.fields
        key = self._key(part) if named else f"#{place + 1}"
        return child_path(self._base(), part, key)

    def _base(self) -> str:
        # A list's own path ends in /list:NAME; its items are named without it.
        return self._path.rpartition("/")[0] if self._parent.through else self._path

    def _list_path(self) -> str:
        return self._path or "/"
