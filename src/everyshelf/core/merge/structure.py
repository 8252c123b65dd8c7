"""Three versions of a structured text merged item by item and field by field, and written by taking pieces of them.

What only one side touched is taken from there as it is written; what nobody touched is the base's, byte for byte. The
value that the result must mean is worked out beside the text, so that reading the text again can prove it.
"""

from __future__ import annotations

import json
from collections import Counter
from collections.abc import Callable
from dataclasses import replace
from typing import Any

from everyshelf.core.answers.merges import Take
from everyshelf.core.compare.identity import key_of
from everyshelf.core.compare.same import canonical, same_value
from everyshelf.core.errors import UnreadableError
from everyshelf.core.formats.source import Group, Item, Node
from everyshelf.core.formats.source.json import json_source
from everyshelf.core.formats.xml import local_name
from everyshelf.core.kinds.shapes import DataShape, label_of
from everyshelf.core.merge.counts import recalculated
from everyshelf.core.merge.followed import side_to_follow
from everyshelf.core.merge.lines import merge_lines
from everyshelf.core.merge.location import PartLocation
from everyshelf.core.merge.made import Made
from everyshelf.core.merge.matching import Matching
from everyshelf.core.merge.model import NOTHING, SIDES, Conflict, Decide, Decision, Side
from everyshelf.core.merge.order import merged_order, replaced_by_both
from everyshelf.core.merge.policy import Policy, fields_of, is_named
from everyshelf.core.merge.references import still_referred
from everyshelf.core.merge.spelling import (
    Speller,
    element_value,
    is_line_list,
    line_list,
    value_of_group,
    value_of_text,
)
from everyshelf.core.merge.writing import GroupWriter, Key, Out, Row, frame_of, three
from everyshelf.core.outline.model import Part, child_path


class StructureMerge:
    """One merge on its way; ``run`` gives the result, ``conflicts`` and ``notes`` fill meanwhile."""

    def __init__(
        self,
        policy: Policy,
        sides: tuple[Node, Node, Node],
        speller: Speller,
        decide: Decide,
        prefer: Side | None = None,
    ) -> None:
        self._policy, self._speller = policy, speller
        self._decide, self._prefer = decide, prefer
        self._base, self._target, self._source = sides
        self.conflicts: list[Conflict] = []
        self.notes: list[str] = []
        self._ids: dict[str, int] = {}
        self._made = Made(policy)
        self.target_side = Matching(policy, self._base, self._target)
        self.source_side = Matching(policy, self._base, self._source)
        self._busy = self._moved_and_edited()
        self._referred = still_referred(self.target_side, self.source_side, self._base)
        self._shape = DataShape(policy.table)

    def run(self, kind: str) -> Out:
        """The merged root."""
        where = PartLocation("", kind, kind, list_name="rows" if kind == "dataset" else "")
        out = self._node(self._base, self._target, self._source, where)
        self.notes += self._made.notes()
        return out

    def _moved_and_edited(self) -> dict[int, tuple[Item, Item, Item]]:
        """Items that one side put under another parent while the other side changed them: by id, in three versions."""
        found: dict[int, tuple[Item, Item, Item]] = {}
        for base in [i.item for i in self.target_side.removed if id(i.item) in self.target_side.moved]:
            on_target, on_source = self.target_side.side_of[id(base)], self.source_side.side_of.get(id(base))
            if on_source is not None and on_source.node.text != base.node.text:
                found[id(on_target)] = (base, on_target, on_source)
        for base in [i.item for i in self.source_side.removed if id(i.item) in self.source_side.moved]:
            on_source, target_too = self.source_side.side_of[id(base)], self.target_side.side_of.get(id(base))
            if (
                target_too is not None
                and target_too.node.text != base.node.text
                and id(base) not in self.target_side.moved
            ):
                found[id(on_source)] = (base, target_too, on_source)
        return found

    # --- nodes ---------------------------------------------------------------

    def _node(self, base: Node, target: Node, source: Node, where: PartLocation) -> Out:
        if target.text == source.text or source.text == base.text:
            return self._whole(target, where)
        if target.text == base.text:
            return self._whole(source, where)
        shapes = {base.shape, target.shape, source.shape}
        if len(shapes) == 1 and base.shape != "scalar":
            return self._container(base, target, source, where)
        return self._scalar(base, target, source, where)

    def _whole(self, node: Node, where: PartLocation) -> Out:
        """A node as one side has it, but for what was moved into it and changed elsewhere."""
        if not self._busy or not node.groups:
            return Out(node.text, node.value, node)
        texts, values = [], []
        changed = False
        for group in node.groups:
            written = []
            for item in group.items:
                if id(item) in self._busy:
                    versions = self._busy[id(item)]
                    inner = self._node(*_nodes_of(versions), self._inside(item, group, where, 0))
                else:
                    inner = self._whole(item.node, where)
                changed = changed or inner.text != item.node.text
                written.append(item.lead + item.head + inner.text + item.tail)
                values.append((group, item, inner.value))
            texts.append(group.opening + group.separator.join(written) + group.closing)
        if not changed:
            return Out(node.text, node.value, node)
        return Out("".join(texts), self._value(node, values), node)

    @staticmethod
    def _value(node: Node, values: list[tuple[Group, Item, Any]], tag: str | None = None) -> Any:
        if node.shape == "element":
            attributes = {str(i.name): v for g, i, v in values if g.kind == "map"}
            children = [(i.name, v) for g, i, v in values if g.kind == "list"]
            return element_value(tag or node.value.tag, attributes, children)
        return value_of_group(node, [(i, v) for _, i, v in values])

    def _scalar(self, base: Node, target: Node, source: Node, where: PartLocation) -> Out:
        if same_value(target.value, source.value) or same_value(source.value, base.value):
            return self._whole(target, where)
        if same_value(target.value, base.value):
            return self._whole(source, where)
        inside = self._json_inside(base, target, source, where)
        if inside is not None:
            return inside
        if self._made.takes(where, base, target, source):
            return self._whole(target, where)
        pieces = [self._speller.segments(n) for n in (base, target, source)]
        if all(p is not None for p in pieces) and len({p[0] for p in pieces if p}) == 1:
            return self._lines(base, target, source, where, [p for p in pieces if p])
        return self._clash_of_values(where, base, target, source)

    def _lines(self, base: Node, target: Node, source: Node, where: PartLocation, pieces: list[Any]) -> Out:
        before, _, between, behind = pieces[0]
        merged = merge_lines(*(p[1] for p in pieces))
        if not any(p.clash for p in merged):
            text = before + between.join(line for p in merged for line in p.lines) + behind
            return Out(text, value_of_text(text, self._speller.form), target)

        def both() -> Out:
            lines = [line for p in merged for line in ((*p.target, *p.source) if p.clash else p.lines)]
            text = before + between.join(lines) + behind
            return Out(text, value_of_text(text, self._speller.form), target)

        return self._clash_of_values(where, base, target, source, both)

    def _json_inside(self, base: Node, target: Node, source: Node, where: PartLocation) -> Out | None:
        """Settings that are kept as JSON inside a text: merged as what they are."""
        values = [n.value for n in (base, target, source)]
        if not all(isinstance(v, str) and v[:1] in ("{", "[") and v[-1:] in ("}", "]") for v in values):
            return None
        try:
            roots = [json_source(v.encode("utf-8", "surrogatepass")) for v in values]
        except UnreadableError:
            return None
        if any(before or behind for _, before, behind in roots):
            return None
        nodes = (roots[0][0], roots[1][0], roots[2][0])
        inner = StructureMerge(self._policy, nodes, Speller("json"), self._decide, self._prefer)
        place = where.path + (f"/group:{where.field}" if where.field else "")
        result = inner._node(*nodes, replace(where, path=place, field=None, names=(*where.names, where.field or "")))
        self.conflicts += inner.conflicts
        self.notes += inner.notes
        self._made.add(inner._made)
        return Out(self._speller.value(result.text, target, ""), result.text, target)

    # --- conflicts -------------------------------------------------------------

    def _told(self, conflict: Conflict) -> Decision | None:
        """Keep the conflict; gives what was decided about it."""
        count = self._ids[conflict.id] = self._ids.get(conflict.id, 0) + 1
        if count > 1:
            conflict.field = f"{conflict.field or 'part'} ({count})"
        conflict.decision = self._decide(conflict) or (Decision(self._prefer) if self._prefer else None)
        self.conflicts.append(conflict)
        return conflict.decision

    def _clash(
        self,
        where: PartLocation,
        base: Node | None,
        target: Node | None,
        source: Node | None,
        both: Callable[[], Out] | None = None,
    ) -> Out | None:
        """A conflict: what was decided about it, or what the target has while nobody has."""
        was, on_target, on_source = (NOTHING if n is None else n.value for n in (base, target, source))
        options: tuple[Take, ...] = ("target", "source", "both", "edited") if both else ("target", "source", "edited")
        conflict = Conflict(
            where.path or "/", where.type, where.label, where.field, was, on_target, on_source, "", options
        )
        decision = self._told(conflict)
        if decision is not None and decision.take == "both" and both is not None:
            return both()
        if decision is not None and decision.take == "edited":
            like = target or source or base
            assert like is not None
            return Out(self._speller.value(decision.value, like, ""), self._meant(decision.value, like), like)
        taken = source if decision is not None and decision.take == "source" else target
        return self._whole(taken, where) if taken is not None else None

    def _clash_of_values(
        self, where: PartLocation, base: Node, target: Node, source: Node, both: Callable[[], Out] | None = None
    ) -> Out:
        found = self._clash(where, base, target, source, both)
        assert found is not None  # there is a value on either side
        return found

    def _meant(self, value: Any, like: Node) -> Any:
        if self._speller.form != "xml":
            return value
        text = "" if value is None else str(value).lower() if isinstance(value, bool) else str(value)
        return element_value(like.value.tag, {}, [("#text", text)] if text else []) if like.shape == "element" else text

    # --- containers ------------------------------------------------------------

    def _container(self, base: Node, target: Node, source: Node, where: PartLocation) -> Out:
        if self._made.takes_group(where, base, target, source):
            return self._whole(target, where)
        if is_line_list(base) and is_line_list(target) and is_line_list(source) and (base.value or target.value):
            found = self._line_list(base, target, source, where)
            if found is not None:
                return found
        if len({len(n.groups) for n in (base, target, source)}) > 1:
            return self._clash_of_values(where, base, target, source)
        followed = side_to_follow(self._policy.merging.follows, base, target, source)
        texts: list[str] = []
        values: list[tuple[Group, Item, Any]] = []
        frame = three(base, target, source, lambda n: n.style)
        for old, on_target, on_source in zip(base.groups, target.groups, source.groups, strict=True):
            text, held = self._group((base, target, source), (old, on_target, on_source), where, followed)
            texts.append(text)
            values += held
        if not values and frame.style == "block" and frame.shape != "element":
            return Out(self._speller.empty(frame), self._value(frame, []), Node(self._speller.empty(frame), None))
        return Out("".join(texts), self._value(frame, values), frame)

    def _line_list(self, base: Node, target: Node, source: Node, where: PartLocation) -> Out | None:
        merged = merge_lines(*("".join(n.value).split("\n") for n in (base, target, source)))
        groups = [n.groups[0] for n in (base, target, source)]
        ascii_only = self._base.text.isascii()

        def out(lines: list[str]) -> Out:
            whole = [f"{line}\n" for line in lines[:-1]] + ([lines[-1]] if lines[-1] else [])
            text, value = line_list(whole, groups, ascii_only)
            return Out(text, value, target)

        if not any(p.clash for p in merged):
            return out([line for p in merged for line in p.lines])
        name = where.field or (where.names[-1] if where.names else None)
        nodes = [Node(n.text, "".join(n.value)) for n in (base, target, source)]
        found = self._clash_of_values(
            replace(where, field=name),
            nodes[0],
            nodes[1],
            nodes[2],
            lambda: out([line for p in merged for line in ((*p.target, *p.source) if p.clash else p.lines)]),
        )
        if isinstance(found.value, str):  # a side as a whole, or a text that was given
            if found.text in [n.text for n in (base, target, source)]:
                kept = next(n for n in (base, target, source) if n.text == found.text)
                return Out(kept.text, kept.value, kept)
            return out(found.value.split("\n"))
        return found

    # --- groups ----------------------------------------------------------------

    def _group(
        self,
        nodes: tuple[Node, Node, Node],
        groups: tuple[Group, Group, Group],
        where: PartLocation,
        followed: str | None,
    ) -> tuple[str, list[tuple[Group, Item, Any]]]:
        rows, orders = self._rows(groups, where)
        results: dict[Key, tuple[Item, Out, bool]] = {}
        for key, row in rows.items():
            found = self._one_sided(row) if followed is None else None
            if found is None:
                found = self._row(row, self._inside(row.any(), groups[0], where, key[1]), followed)
            if found is not None:
                results[key] = found
        self._both_replaced(rows, orders, results, groups, where)
        unordered = groups[0].kind == "map" or self._is_unordered(groups, where)
        order = merged_order(orders[0], orders[1], orders[2], results.keys())
        is_clash = not unordered and self._order_counts(order.clash, rows, where)
        if is_clash and self._order_clash(groups, where):
            order = merged_order(orders[0], orders[2], orders[1], results.keys())
        if order.both_inserted and groups[0].kind == "list" and not unordered:
            self.notes.append(f"both sides inserted at one place of {where.list_name or where.label}: both are kept")
        recounted = recalculated(rows, results, groups, self._policy.merging.counts)
        for key, (name, was, count) in recounted.items():
            if results[key][1].value != count:
                self.notes.append(f"{name} is recalculated: {count}")
                results[key] = (results[key][0], Out(str(count), count, results[key][1].like), False)
            self.conflicts = [c for c in self.conflicts if not (c.field == name and c.base == was)]
        frame = frame_of(groups, bool(order.keys))

        def settle(row: Row, which: str, texts: tuple[str, str, str]) -> Take:
            return self._clash_of_comments(self._inside(row.any(), groups[0], where, 0), which, texts)

        text = GroupWriter(self._speller.form, groups, frame, settle).written(order.keys, rows, results)
        return text, [(groups[0], results[k][0], results[k][1].value) for k in order.keys]

    def _both_replaced(
        self,
        rows: dict[Key, Row],
        orders: list[list[Key]],
        results: dict[Key, tuple[Item, Out, bool]],
        groups: tuple[Group, Group, Group],
        where: PartLocation,
    ) -> None:
        """One item that each side put something else in the place of: which of it holds is to be decided."""
        for gone, on_target, on_source in replaced_by_both(orders[0], orders[1], orders[2]):
            if any(id(rows[k].base) in self.target_side.moved | self.source_side.moved for k in gone):
                continue
            only_target, only_source = (
                [k for k in on_target if k not in on_source],
                [k for k in on_source if k not in on_target],
            )
            if not only_target or not only_source or not results.keys() >= {*only_target, *only_source}:
                continue
            inside = self._inside(rows[gone[0]].any(), groups[0], where, gone[0][1])
            base, target, source = (
                [rows[k].any().node.value for k in keys] if len(keys) > 1 else rows[keys[0]].any().node.value
                for keys in (gone, only_target, only_source)
            )
            options: tuple[Take, ...] = ("target", "source", "both")
            found = Conflict(
                inside.path or "/", inside.type, inside.label, inside.field, base, target, source, "", options
            )
            decision = self._told(found)
            if decision is None or decision.take != "both":
                for key in only_target if decision is not None and decision.take == "source" else only_source:
                    results.pop(key, None)

    def _rows(self, groups: tuple[Group, Group, Group], where: PartLocation) -> tuple[dict[Key, Row], list[list[Key]]]:
        base, target, source = groups
        if self._side_by_side(groups):
            keys: list[Key] = [("b", n) for n in range(len(base.items))]
            return dict(zip(keys, map(Row, base.items, target.items, source.items), strict=True)), [keys, keys, keys]
        rows: dict[Key, Row] = {("b", n): Row(item) for n, item in enumerate(base.items)}
        place = {id(item): ("b", n) for n, item in enumerate(base.items)}
        orders: list[list[Key]] = [list(rows)]
        added: dict[tuple[Any, int], Key] = {}
        for side, group, matching in (("target", target, self.target_side), ("source", source, self.source_side)):
            order: list[Key] = []
            seen: Counter[Any] = Counter()  # of several equal ones, the second is the other side's second
            anchor: Key | None = None
            for n, item in enumerate(group.items):
                was = matching.base_of.get(id(item))
                key = place.get(id(was)) if was is not None else None
                if key is None and was is None:
                    twin = self._identity_of_new(item, base, where, anchor)
                    key = added.setdefault((twin, seen[twin]), (side[0], n))
                    seen[twin] += 1
                elif key is None:
                    key = (side[0], n)  # from another parent
                else:
                    anchor = key
                setattr(rows.setdefault(key, Row()), side, item)
                order.append(key)
            orders.append(order)
        return rows, orders

    def _side_by_side(self, groups: tuple[Group, Group, Group]) -> bool:
        """True where all versions have the same items in the same order: as nearly all groups do."""
        base, target, source = (g.items for g in groups)
        on_target, on_source = self.target_side.base_of, self.source_side.base_of
        return len(base) == len(target) == len(source) and all(
            on_target.get(id(one)) is was is on_source.get(id(another))
            for was, one, another in zip(base, target, source, strict=True)
        )

    def _identity_of_new(self, item: Item, base: Group, where: PartLocation, anchor: Key | None) -> Any:
        """What makes additions of both sides one."""
        if base.kind == "map":
            return item.name
        part_type = self._policy.type_of(item, where.list_name)
        for matching in (self.target_side, self.source_side):
            identity = matching.identity.get((id(base), part_type))
            key = key_of(self._policy.part_of(item, part_type), identity.fields) if identity is not None else None
            if key is not None:
                return part_type, key
        if is_named(item.node):
            fields = fields_of(item.node.value)
            named = next((fields[n] for n in ("id", "key", "name") if fields.get(n)), None)
            if named is not None and not base.items:
                return part_type, named
        return part_type, anchor, canonical(item.node.value)

    def _inside(self, item: Item, group: Group, where: PartLocation, place: int) -> PartLocation:
        """PartLocation the value of an item is."""
        names = (*where.names, item.name or where.list_name)
        where = replace(where, beside=group)
        value, name = item.node.value, item.name or ""
        if group.kind == "map":
            if item.node.shape == "list":
                return replace(where, names=names, list_name=name, field=None, item_type="")
            if item.node.shape == "map":
                part_type = where.item_type or (name if self._policy.table.cosmetic_type(name) else "group")
                if self._shape.is_map(name, value) and not where.item_type:
                    return replace(where, names=names, field=None, item_type=self._policy.type_of(item, name))
                label = label_of(fields_of(value), name) if where.item_type else name
                path = child_path(where.path, Part(part_type, label, name, None), name)
                return PartLocation(path, part_type, label, None, names, beside=group)
            return replace(where, field=local_name(name), names=names)
        part_type = self._policy.type_of(item, where.list_name)
        fields = fields_of(value)
        if item.node.shape == "element":
            names = (*where.names, value.tag)
            if not value.attributes and not value.children:
                return replace(where, field=local_name(value.tag), names=names)
        if item.name == "#text":
            return replace(where, field=where.field or "text", names=names)
        label = label_of(fields, part_type)
        key = self._key_of(item, group, part_type) or f"#{place + 1}"
        path = child_path(where.path, Part(part_type, label, key, None), key)
        return PartLocation(path, part_type, label, None, names, part_type)

    def _key_of(self, item: Item, group: Group, part_type: str) -> str | None:
        for matching in (self.target_side, self.source_side):
            identity = matching.identity.get((id(group), part_type))
            if identity is not None:
                return key_of(self._policy.part_of(item, part_type), identity.fields)
        return None

    def _is_unordered(self, groups: tuple[Group, Group, Group], where: PartLocation) -> bool:
        types = {self._policy.type_of(i, where.list_name) for g in groups for i in g.items}
        return all(self._policy.is_unordered(t) for t in types)

    def _order_counts(self, keys: frozenset[Key], rows: dict[Key, Row], where: PartLocation) -> bool:
        """Whether the order of any of these items means something: not in a drawing, not of what has no order."""
        if not keys or self._policy.is_inside_made(where.names):
            return False
        types = (self._policy.type_of(rows[k].any(), where.list_name) for k in keys)
        return any(not self._policy.is_unordered(t) and not self._policy.is_inside_made([t]) for t in types)

    def _clash_of_comments(self, where: PartLocation, which: str, texts: tuple[str, str, str]) -> Take:
        """A comment that both sides rewrote: what was decided about it, the target's until then."""
        base, target, source = (text or NOTHING for text in texts)
        field = f"comment {which} {local_name(where.field)}" if where.field else f"comment {which}"
        lines = [line.strip() for text in texts for line in text.split("\n") if line.strip()]
        # What ends a document or belongs to a value's form cannot be there twice.
        is_comment = self._speller.form == "xml" or all(line.startswith("#") for line in lines)
        options: tuple[Take, ...] = ("target", "source", "both") if is_comment else SIDES
        decision = self._told(
            Conflict(where.path or "/", where.type, where.label, field, base, target, source, "", options)
        )
        return decision.take if decision is not None else "target"

    def _order_clash(self, groups: tuple[Group, Group, Group], where: PartLocation) -> bool:
        """Tell that both sides put the same items elsewhere; True if the other side's order was decided on."""
        base, target, source = (
            [self._inside(i, groups[0], where, n).label for n, i in enumerate(g.items)] for g in groups
        )
        field = f"order of {where.list_name or 'items'}"
        conflict = Conflict(where.path or "/", where.type, where.label, field, base, target, source, "", SIDES)
        decision = self._told(conflict)
        return decision is not None and decision.take == "source"

    # --- rows ------------------------------------------------------------------

    def _row(self, row: Row, where: PartLocation, followed: str | None) -> tuple[Item, Out, bool] | None:
        """The item that comes out, its value, and whether it is one side's as a whole; None if it goes."""
        base, target, source = row.base, row.target, row.source
        if base is None:
            return self._new(target, source, where)
        if (id(base) in self.target_side.moved and target is None) or (
            id(base) in self.source_side.moved and source is None
        ):
            return None  # it comes where it was moved to
        if target is None and source is None:
            return None
        if target is None or source is None:
            return self._gone(base, target, source, where)
        name = _name_of(row)
        if name is None:
            names = base.name, target.name, source.name
            decision = self._told(Conflict(where.path, where.type, where.label, "name", *names, "", SIDES))
            kept = source if decision is not None and decision.take == "source" else target
            name = kept.name
        out = self._followed(followed, row, where) or self._node(base.node, target.node, source.node, where)
        named_so = next((i for i in (target, source, base) if i.name == name), target)
        return named_so, out, False

    def _one_sided(self, row: Row) -> tuple[Item, Out, bool] | None:
        """An item that is in all versions and at most one side touched: as most are."""
        base, target, source = row.base, row.target, row.source
        if (
            base is None
            or target is None
            or source is None
            or self._busy
            or not base.name == target.name == source.name
        ):
            return None
        node = target.node if source.node.text in (base.node.text, target.node.text) else source.node
        if node is source.node and target.node.text != base.node.text:
            return None
        return target, Out(node.text, node.value, node), False

    def _followed(self, side: str | None, row: Row, where: PartLocation) -> Out | None:
        """What follows another field of its part, from the side where that one won."""
        name, follows = row.any().name, self._policy.merging.follows
        if side is None or follows is None or name not in follows.cleared:
            return None
        assert row.target is not None and row.source is not None
        if side == "none":
            if name == follows.mark and row.target.node.value:
                self.notes.append(f"{name} of a {where.type} that both sides changed are cleared")
            value = follows.cleared[str(name)]
            text = json.dumps(value)
            return Out(text, value, Node(text, value))
        return self._whole((row.source if side == "source" else row.target).node, where)

    def _new(self, target: Item | None, source: Item | None, where: PartLocation) -> tuple[Item, Out, bool] | None:
        for item in (target, source):
            if item is not None and id(item) in self._busy:
                versions = self._busy[id(item)]
                return item, self._node(*_nodes_of(versions), where), True
            if item is not None and self._removed_elsewhere(item):
                found = self._gone_though_moved(item, target is not None, where)
                return (item, found, True) if found is not None else None
        if target is None or source is None:
            item = target or source
            assert item is not None
            return item, self._whole(item.node, where), True
        if same_value(target.node.value, source.node.value):
            return target, self._whole(target.node, where), True
        out = self._clash(where, None, target.node, source.node)
        assert out is not None
        taken = source if out.text == source.node.text else target
        return taken, out, True

    def _removed_elsewhere(self, item: Item) -> bool:
        """True for what one side put under another parent and the other side took out."""
        for side, opposite in ((self.target_side, self.source_side), (self.source_side, self.target_side)):
            base = side.base_of.get(id(item))
            if base is not None and id(base) in side.moved:
                return any(loose.item is base for loose in opposite.removed) and id(base) not in opposite.moved
        return False

    def _gone_though_moved(self, item: Item, is_target: bool, where: PartLocation) -> Out | None:
        matching = self.target_side if is_target else self.source_side
        base = matching.base_of[id(item)]
        sides = (item.node, None) if is_target else (None, item.node)
        return self._clash(where, base.node, *sides)

    def _gone(
        self, base: Item, target: Item | None, source: Item | None, where: PartLocation
    ) -> tuple[Item, Out, bool] | None:
        left = target or source
        assert left is not None
        because = self._referred.get(id(base), "")
        if not because and left.name == base.name and same_value(left.node.value, base.node.value):
            return None
        versions = (base.node, target.node if target else None, source.node if source else None)
        if self._made.takes(where, *versions) or self._made.takes_mirror(where):
            return None
        out = self._clash(where, base.node, target.node if target else None, source.node if source else None)
        self.conflicts[-1].why = because
        return (left, out, True) if out is not None else None


def _nodes_of(versions: tuple[Item, Item, Item]) -> tuple[Node, Node, Node]:
    return versions[0].node, versions[1].node, versions[2].node


def _name_of(row: Row) -> str | None:
    """The name after the merge; None if both sides gave another one."""
    assert row.base is not None and row.target is not None and row.source is not None
    if row.target.name == row.source.name or row.source.name == row.base.name:
        return row.target.name or ""
    return row.source.name or "" if row.target.name == row.base.name else None
