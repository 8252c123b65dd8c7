"""Graphs of nodes and edges as programs really keep them, brought to one form.

Edges stand in a list of their own, or as (lists of) lists of ids inside the nodes, or in a map from node to targets;
settings are nested as JSON inside strings. Afterwards there is a list of nodes and a list ``connections`` of
``{from, to, output}``; lists that only mirror those are gone.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator
from typing import Any

import orjson

NODE_LISTS = ("nodes", "steps", "tasks", "activities", "elements", "blocks", "items", "components", "operators")
EDGE_LISTS = ("edges", "connections", "links", "flows", "transitions", "wires", "arrows")
_ID_NAMES = ("id", "key", "uid", "uuid", "name")
_FROM = (
    "source",
    "from",
    "sourceRef",
    "src",
    "start",
    "sourceId",
    "source_id",
    "fromNode",
    "from_node",
    "sourceNodeId",
)
_TO = ("target", "to", "targetRef", "dst", "end", "targetId", "target_id", "toNode", "to_node", "targetNodeId", "dest")


def unpacked(value: Any, depth: int = 0) -> Any:
    """``value`` with every text that is a JSON object or list replaced by what it holds."""
    if isinstance(value, dict):
        return {k: unpacked(v, depth) for k, v in value.items()}
    if isinstance(value, list):
        return [unpacked(v, depth) for v in value]
    if isinstance(value, str) and depth < 4 and len(value) > 2 and value[0] in "{[" and value[-1] in "}]":
        try:
            inner = orjson.loads(value)
        except ValueError:
            return value
        return unpacked(inner, depth + 1) if isinstance(inner, dict | list) else value
    return value


def normalised(tree: Any) -> Any:
    """``tree`` with its graphs in one form; what is no graph stays as it is."""
    tree = unpacked(tree)
    if isinstance(tree, list) and (name := id_field(tree)) is not None:
        return _as_graph({"nodes": tree}, "nodes", name)
    return _walk(tree)


def _walk(value: Any) -> Any:
    if isinstance(value, list):
        return [_walk(v) for v in value]
    if not isinstance(value, dict):
        return value
    value = {k: _walk(v) for k, v in value.items()}
    for name in NODE_LISTS:
        nodes = _listed(value.get(name))
        field = id_field(nodes) if nodes else None
        if nodes and field is not None:
            made = _as_graph({**value, name: nodes}, name, field)
            if isinstance(value[name], dict):  # a map stays one: its keys are the steps' names
                given = value[name]
                made[name] = {
                    key: {k: v for k, v in node.items() if k != "id" or "id" in given[key]}
                    for key, node in zip(given, made[name], strict=True)
                }
            return made
    return value


def _listed(nodes: Any) -> list[dict[str, Any]] | None:
    """A list of nodes, also from a map of id to node."""
    if isinstance(nodes, list) and nodes and all(isinstance(n, dict) for n in nodes):
        return nodes
    if isinstance(nodes, dict) and nodes and all(isinstance(n, dict) for n in nodes.values()):
        if any(isinstance(n.get("id", key), str) and n.get("id", key) != key for key, n in nodes.items()):
            return None
        return [{"id": key, **node} for key, node in nodes.items()]
    return None


def id_field(nodes: list[Any]) -> str | None:
    """The field that tells all nodes apart, or None."""
    if len(nodes) < 2 or not all(isinstance(n, dict) for n in nodes):
        return None
    for name in _ID_NAMES:
        found = {str(n[name]) for n in nodes if isinstance(n.get(name), str | int)}
        if len(found) == len(nodes):
            return name
    return None


def has_wires(nodes: list[dict[str, Any]], name: str) -> bool:
    """True if a field of the nodes holds nothing but ids of other nodes, and some do."""
    ids = {str(n[name]) for n in nodes}
    fields = {k for n in nodes for k, v in n.items() if isinstance(v, list)}
    return any(_is_wire_field(nodes, field, ids) for field in fields)


def _is_wire_field(nodes: list[dict[str, Any]], field: str, ids: set[str]) -> bool:
    leaves = [leaf for n in nodes if field in n for leaf in _leaves(n[field])]
    if not leaves or not all(isinstance(leaf, str) for leaf in leaves):
        return False
    known = sum(leaf in ids for leaf in leaves)
    if known == len(leaves):
        return True
    # Lists of lists are ports; some of their wires may lead to what is no longer there.
    ports = all(isinstance(port, list) for n in nodes for port in (n.get(field) or []))
    return ports and 2 * known >= len(leaves)


def _leaves(value: Any) -> Iterator[Any]:
    if isinstance(value, list):
        for child in value:
            yield from _leaves(child)
    else:
        yield value


def _as_graph(holder: dict[str, Any], name: str, field: str) -> dict[str, Any]:
    nodes: list[dict[str, Any]] = holder[name]
    ids = {str(n[field]) for n in nodes} | {n["name"] for n in nodes if isinstance(n.get("name"), str)}
    edges, rest, told = _explicit_edges(holder, ids)
    pairs = {(e["from"], e["to"]) for e in edges}
    explicit = bool(edges)
    edge_ids = {str(e["id"]) for e in edges if e.get("id") is not None}
    names = Counter(k for n in nodes for k, v in n.items() if isinstance(v, list))
    wires = sorted(names, key=lambda name: (-names[name], name))
    wired: list[str] = []
    mirrored: set[str] = set()
    for wire in wires:
        if _is_wire_field(nodes, wire, edge_ids) if edge_ids else False:
            mirrored.add(wire)
        elif _is_wire_field(nodes, wire, ids) and _nested(nodes, wire, explicit=explicit or bool(pairs)):
            found = list(_wired(nodes, wire, field, wire if wired else ""))
            ends = {(e["from"], e["to"]) for e in found}
            if ends <= pairs or {(b, a) for a, b in ends} <= pairs:
                mirrored.add(wire)
            elif not explicit:
                edges += found
                wired.append(wire)
                pairs |= ends
                mirrored.add(wire)
    if not edges and not told:
        return holder
    bare = [{k: v for k, v in n.items() if k not in mirrored} for n in nodes]
    return {**rest, name: bare, "connections": edges}


def _nested(nodes: list[dict[str, Any]], wire: str, *, explicit: bool) -> bool:
    """Lists of lists are wires for certain; plain lists of ids are taken for wires only where they mirror some, or
    where their name says so (what depends on what is told beside the step instead)."""
    if (
        explicit
        or wire.lower() in EDGE_LISTS
        or wire.lower() in ("next", "to", "outputs", "targets", "outgoing", "successors")
    ):
        return True
    return any(isinstance(inner, list) for n in nodes for inner in (n.get(wire) or []))


def _wired(nodes: list[dict[str, Any]], wire: str, field: str, through: str) -> Iterator[dict[str, Any]]:
    for node in nodes:
        for port, targets in enumerate(node.get(wire) or [], 1):
            for target in _leaves(targets):
                edge = {"from": str(node[field]), "to": target, **({"through": through} if through else {})}
                yield {**edge, "output": port} if isinstance(targets, list) and len(node[wire]) > 1 else edge


def _explicit_edges(holder: dict[str, Any], ids: set[str]) -> tuple[list[dict[str, Any]], dict[str, Any], bool]:
    """Edges of the holder in one form, the holder without them, and whether any list of edges was there."""
    for name in EDGE_LISTS:
        value = holder.get(name)
        found = _edges_of_list(value, ids) if isinstance(value, list) else _edges_of_map(value, ids)
        if found is not None:
            return found, {k: v for k, v in holder.items() if k != name}, True
    return [], holder, False


def _edges_of_list(value: list[Any], ids: set[str]) -> list[dict[str, Any]] | None:
    found = []
    for edge in value:
        if isinstance(edge, list) and 2 <= len(edge) <= 3 and str(edge[0]) in ids and str(edge[1]) in ids:
            found.append({"from": str(edge[0]), "to": str(edge[1]), **({"label": edge[2]} if len(edge) == 3 else {})})
            continue
        if not isinstance(edge, dict):
            return None
        start, end = _end(edge, _FROM), _end(edge, _TO)
        if start is None or end is None:
            return None
        rest = {k: v for k, v in edge.items() if k not in (start[0], end[0])}
        found.append({**rest, "from": start[1], "to": end[1]})
    return found


def _end(edge: dict[str, Any], names: tuple[str, ...]) -> tuple[str, str] | None:
    """Name and node id of one end; an end may be an object that names node and port."""
    for name in names:
        value = edge.get(name)
        if isinstance(value, str | int):
            return name, str(value)
        if isinstance(value, dict):
            node = next((value[k] for k in ("node", "id", "nodeId", "node_id", "step") if k in value), None)
            if isinstance(node, str | int):
                ports = [str(v) for k, v in value.items() if v != node and isinstance(v, str | int)]
                return name, ":".join([str(node), *ports])
    return None


def _edges_of_map(value: Any, ids: set[str]) -> list[dict[str, Any]] | None:
    """Edges from a map of node to targets, however deep the targets lie."""
    if not isinstance(value, dict) or not value or not set(value) <= ids:
        return None
    found = []
    for start, targets in value.items():
        for port, end, rest in _targets(targets, ids, ""):
            found.append({"from": start, "to": end, **({"output": port} if port else {}), **rest})
    return found


def _targets(value: Any, ids: set[str], port: str) -> Iterator[tuple[str, str, dict[str, Any]]]:
    if isinstance(value, str):
        if value in ids:
            yield port, value, {}
    elif isinstance(value, list):
        for place, child in enumerate(value, 1):
            yield from _targets(child, ids, f"{port}/{place}" if isinstance(child, list) and len(value) > 1 else port)
    elif isinstance(value, dict):
        named = next((k for k, v in value.items() if isinstance(v, str) and v in ids), None)
        if named is not None:
            rest = {k: v for k, v in value.items() if k != named and not isinstance(v, dict | list)}
            yield port, value[named], rest
            return
        for name, child in value.items():
            yield from _targets(child, ids, f"{port}/{name}".lstrip("/") if len(value) > 1 or port else name)
