"""Regenerated names of nodes and values: where two versions of a model share hardly any name, structure tells what is
what."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from everyshelf.core.compare.sequence import align
from everyshelf.core.formats.onnx import Graph, Node, OnnxModel, Value
from everyshelf.core.formats.tensors import Tensor


def shared_names(before: OnnxModel, after: OnnxModel) -> float:
    """Part of the newer model's names of nodes and values that the older one has too."""
    old, new = (_names(m.graph) for m in (before, after))
    return len(old & new) / len(new) if new else 1.0


def _names(graph: Graph) -> set[str]:
    return (
        {o for n in graph.nodes for o in n.outputs} | {n.name for n in graph.nodes if n.name} | set(graph.initializers)
    )


def renamed_as(graph: Graph, mapping: Callable[[str], str]) -> Graph:
    """The graph with its names replaced; branches see the names around them."""
    nodes = [
        Node(
            mapping(n.name),
            n.operator,
            [mapping(i) for i in n.inputs],
            [mapping(o) for o in n.outputs],
            n.attributes,
            n.tensors,
            {name: renamed_as(g, mapping) for name, g in n.graphs.items()},
        )
        for n in graph.nodes
    ]
    tensors = {}
    for name, t in graph.initializers.items():
        tensors[mapping(name)] = Tensor(mapping(name), t.shape, t.dtype, t.load, t.where)
    inputs = [Value(mapping(v.name), v.type, v.shape) for v in graph.inputs]
    outputs = [Value(mapping(v.name), v.type, v.shape) for v in graph.outputs]
    return Graph(graph.name, inputs, outputs, nodes, tensors, graph.doc)


def names_of_old(before: Graph, after: Graph) -> dict[str, str]:
    """New name -> old name of what has the same operator, attributes and shapes at the same place of the run.

    Inputs and outputs of the whole model are its interface: they keep their names.
    """
    mapping: dict[str, str] = {}
    kept = {v.name for g in (before, after) for v in (*g.inputs, *g.outputs)}
    pairs = align([_signature(n, before) for n in before.nodes], [_signature(n, after) for n in after.nodes])
    for i, j in pairs:
        old, new = before.nodes[i], after.nodes[j]
        said = [(new.name, old.name), *zip(new.outputs, old.outputs, strict=False)]
        said += [(a, b) for a, b in zip(new.inputs, old.inputs, strict=False) if a in after.initializers]
        for anew, former in said:
            if anew and former and anew not in kept and former not in kept:
                mapping.setdefault(anew, former)
        for name in new.graphs.keys() & old.graphs.keys():
            mapping |= names_of_old(old.graphs[name], new.graphs[name])
    return {anew: former for anew, former in mapping.items() if anew != former}


def _signature(node: Node, graph: Graph) -> tuple[Any, ...]:
    weights = tuple(
        (place, graph.initializers[name].shape, graph.initializers[name].dtype)
        for place, name in enumerate(node.inputs)
        if name in graph.initializers
    )
    constants = tuple((n, t.shape, t.dtype) for n, t in node.tensors.items())
    given = tuple(sorted((k, str(v)) for k, v in node.attributes.items()))
    return node.operator, given, len(node.inputs), len(node.outputs), weights, constants, tuple(node.graphs)
