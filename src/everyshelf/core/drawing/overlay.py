"""Two versions in one drawing: what both have is drawn once, with what became of it."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable
from typing import Any

from everyshelf.core.answers.drawings import Drawing, DrawnEdge, DrawnNode, EdgeState, NodeState
from everyshelf.core.drawing.graph import Edge, Graph, Node
from everyshelf.core.outline.model import Finding

MOST_COMPARED = 400
"""Nodes of two versions in one drawing: what changed, and what is round it."""
MOST_ALONE = 20_000
"""Nodes of one version: all of it is looked at, and each of them is to be reached."""
_MOVED_BY = 2.0


def overlaid(before: Graph | None, after: Graph | None, findings: Iterable[Finding] = ()) -> Drawing:
    """The drawing, documented in docs/kinds-inside.md; of one version where the other is None.

    Each node and edge has a ``state``: same, added, removed, changed; an edge whose end moved is drawn twice, as
    ``was`` and as ``changed``. ``part`` is the path findings name.
    """
    return _Overlay(before or Graph(), after or Graph(), list(findings)).drawing()


class _Overlay:
    def __init__(self, before: Graph, after: Graph, findings: list[Finding]) -> None:
        self._before, self._after = before, after
        self._findings = findings
        self._now = self._matched()  # path before -> path after
        self._was = {new: old for old, new in self._now.items()}
        self._alone = not before.nodes or not after.nodes

    def _matched(self) -> dict[str, str]:
        old, new = self._before.nodes, self._after.nodes
        found = {path: path for path in old if path in new}
        taken = set(found.values())

        def take(one: str, other: str) -> None:
            if one in old and other in new and one not in found and other not in taken:
                found[one] = other
                taken.add(other)

        for finding in self._findings:
            if finding.action == "moved" and isinstance(finding.before, str):
                take(finding.before, finding.part)
            elif finding.action == "renamed" and isinstance(finding.before, str):
                base, _, name = finding.part.rpartition("/")
                take(f"{base}/{name.partition(':')[0]}:{finding.before.replace('/', '%2F')}", finding.part)
        # What went to another frame keeps its id.
        counts = [Counter((n.type, n.key) for n in graph.values()) for graph in (old, new)]
        left = {(n.type, n.key): n.path for n in new.values() if n.path not in taken}
        for node in old.values():
            same = (node.type, node.key)
            if counts[0][same] == counts[1][same] == 1 and same in left:
                take(node.path, left[same])
        return found

    # --- states ------------------------------------------------------------

    def _owner(self, path: str) -> str:
        """The drawn part a finding's path belongs to, or an empty text."""
        while path and path != "/":
            if path in self._parts:
                return path
            path = path.rpartition("/")[0]
        return ""

    def drawing(self) -> Drawing:
        self._parts = {*self._after.nodes, *self._before.nodes, *(e.part for e in self._after.edges)}
        self._parts |= {e.part for e in self._before.edges}
        touched: dict[str, str] = {}
        for finding in self._findings:
            owner = self._owner(finding.part)
            if owner and touched.get(owner) != "changed":
                touched[owner] = "cosmetic" if finding.effect == "cosmetic" else "changed"
        nodes = [self._node(n, touched) for n in self._after.nodes.values()]
        nodes += [self._gone(n) for n in self._before.nodes.values() if n.path not in self._now]
        edges = self._edges(touched)
        note = ""
        most = MOST_ALONE if self._alone else MOST_COMPARED
        if len(nodes) > most:
            nodes, edges, left_out = _nearest(nodes, edges, most)
            note = f"{left_out} things {'' if self._alone else 'that did not change '}are left out of the drawing"
        boxes = [n.after or n.before for n in nodes if n.shape not in ("lane", "port")]
        placed = bool(boxes) and sum(b is not None for b in boxes) >= 0.9 * len(boxes)
        return Drawing(nodes=nodes, edges=edges, placed=placed, note=note)

    def _state(self, path: str, touched: dict[str, str]) -> NodeState:
        if self._alone:
            return "same"
        if path not in self._was:
            return "added"
        state = touched.get(path) or touched.get(self._was[path])
        return "changed" if state == "changed" else "same"

    def _node(self, node: Node, touched: dict[str, str]) -> DrawnNode:
        old = self._before.nodes.get(self._was.get(node.path, ""))
        moved = old is not None and old.box is not None and node.box is not None and _apart(old, node)
        renamed = old is not None and old.path != node.path
        state = self._state(node.path, touched)
        return DrawnNode(
            **_named(node, node.path),
            group=node.group,
            state="changed" if renamed and state == "same" else state,
            moved=moved,
            before_label=old.label if old is not None and old.label != node.label else None,
            before=old.box.drawn() if old is not None and old.box is not None else None,
            after=node.box.drawn() if node.box is not None else None,
        )

    def _gone(self, node: Node) -> DrawnNode:
        return DrawnNode(
            **_named(node, f"before:{node.path}"),
            group=self._now.get(node.group, f"before:{node.group}" if node.group else ""),
            state="same" if self._alone else "removed",
            moved=False,
            before_label=None,
            before=node.box.drawn() if node.box is not None else None,
            after=None,
        )

    def _edges(self, touched: dict[str, str]) -> list[DrawnEdge]:
        def ends(edge: Edge) -> tuple[str, str, str]:
            return edge.part, *(self._now.get(e, f"before:{e}") for e in (edge.source, edge.target))  # type: ignore[return-value]

        old = {ends(e): e for e in self._before.edges}
        new = {(e.part, e.source, e.target): e for e in self._after.edges}
        joined_before = Counter(k[1:] for k in old)
        joined_after = Counter(k[1:] for k in new)
        parts_before, parts_after = {k[0] for k in old}, {k[0] for k in new}
        found: list[DrawnEdge] = []
        state: EdgeState
        for key, edge in new.items():
            if self._alone:
                state = "same"
            elif key in old:
                state = "changed" if touched.get(key[0]) == "changed" and key[0] not in self._after.nodes else "same"
            elif joined_before[key[1:]] and edge.part not in parts_before:
                state = "same"  # the same two joined by a connection of another name
            else:
                state = "changed" if edge.part in parts_before and edge.part not in self._after.nodes else "added"
            found.append(_edge(edge, key, state, len(found)))
        for key, edge in old.items():
            if key in new or (joined_after[key[1:]] and edge.part not in parts_after):
                continue
            rewired = edge.part in parts_after and edge.part not in self._before.nodes
            state = "same" if self._alone else "was" if rewired else "removed"
            found.append(_edge(edge, key, state, len(found)))
        return found


def _named(node: Node, identity: str) -> dict[str, Any]:
    return {
        "id": identity,
        "part": node.path,
        "key": node.key,
        "type": node.type,
        "shape": node.shape,
        "label": node.label,
        "detail": node.detail,
    }


def _edge(edge: Edge, key: tuple[str, str, str], state: EdgeState, place: int) -> DrawnEdge:
    return DrawnEdge(
        id=f"e{place}",
        part=edge.part,
        source=key[1],
        target=key[2],
        label=edge.label,
        conditional=edge.conditional,
        state=state,
        points=[[round(x, 1), round(y, 1)] for x, y in edge.points],
    )


def _apart(old: Node, new: Node) -> bool:
    assert old.box is not None and new.box is not None
    return abs(old.box.x - new.box.x) > _MOVED_BY or abs(old.box.y - new.box.y) > _MOVED_BY


def _nearest(nodes: list[DrawnNode], edges: list[DrawnEdge], most: int) -> tuple[list[DrawnNode], list[DrawnEdge], int]:
    """What changed, then what it is joined to, step by step, up to the most that can be looked at."""
    neighbours: dict[str, list[str]] = {}
    for edge in edges:
        neighbours.setdefault(edge.source, []).append(edge.target)
        neighbours.setdefault(edge.target, []).append(edge.source)
    changed_ends = {end for e in edges if e.state != "same" for end in (e.source, e.target)}
    queue = [n.id for n in nodes if n.state != "same" or n.id in changed_ends]
    queue += [n.id for n in nodes[:1] if not queue]
    kept = dict.fromkeys(queue[:most])
    for identity in queue:
        for near in neighbours.get(identity, ()):
            if len(kept) < most and near not in kept:
                kept[near] = None
                queue.append(near)
    groups = {n.group for n in nodes if n.id in kept}
    shown = [n for n in nodes if n.id in kept or n.id in groups]
    there = {n.id for n in shown}
    return shown, [e for e in edges if e.source in there and e.target in there], len(nodes) - len(shown)
