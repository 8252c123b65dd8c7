"""Reading a model into an outline and its tensors, whatever program wrote it."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, field

from everyshelf.core.formats.onnx import Graph, Node, OnnxModel, Value
from everyshelf.core.formats.tensors import Tensor
from everyshelf.core.kinds.maker import Maker
from everyshelf.core.kinds.table import KindTable
from everyshelf.core.outline.model import Part

# Left out of an outline: which tensor's bytes a part stands for; comparing finds them by it.
Tensors = dict[str, Tensor]


@dataclass
class ModelRead:
    """A model: its outline, and every tensor under the path of the part that stands for it."""

    root: Part
    tensors: Tensors
    format: str
    graph: OnnxModel | None = None
    notes: list[str] = field(default_factory=list)


def tensor_part(maker: Maker, tensor: Tensor, part_type: str = "tensor") -> Part:
    """A tensor with its type and shape, and what tells its bytes from others."""
    fields = {
        "type": tensor.told_type,
        "shape": told_shape(tensor.shape),
        "values": tensor.size,
        "weights": tensor.digest,
        "in": tensor.where or None,
    }
    return maker.part(part_type, tensor.name, tensor.name, fields)


def told_shape(shape: tuple[int, ...]) -> str:
    """``3 × 224 × 224``; a single value has none."""
    return " × ".join(str(n) for n in shape) or "single value"


def safetensors_outline(tensors: Tensors, metadata: dict[str, str], table: KindTable) -> ModelRead:
    """Tensors by name and the metadata, each one a part."""
    maker = Maker(table)
    parts = [maker.part("metadata", k, k, {"value": v}) for k, v in metadata.items()]
    parts += [tensor_part(maker, t) for t in tensors.values()]
    return ModelRead(maker.part("model", "model", "", {}, parts), tensors, "safetensors")


def onnx_outline(model: OnnxModel, table: KindTable) -> ModelRead:
    """Inputs, outputs, operator sets, nodes with their branches, initialisers, metadata."""
    maker = Maker(table)
    tensors: Tensors = {}
    parts = [maker.part("operator set", name, name, {"version": v}) for name, v in model.operator_sets.items()]
    parts += [maker.part("metadata", k, k, {"value": v}) for k, v in model.metadata.items()]
    if model.producer:
        parts.append(maker.part("producer", "producer", "producer", model.producer))
    parts += _graph_parts(maker, model.graph, "", tensors)
    for name, nodes in model.functions:
        parts.append(maker.part("function", name, name, {}, _node_parts(maker, nodes, f"{name}/", tensors)))
    fields = {"description": model.graph.doc or None}
    elsewhere = sorted({t.where for t in tensors.values() if t.where})
    notes = [f"weights are kept in {', '.join(elsewhere[:3])}"] if elsewhere else []
    return ModelRead(maker.part("model", "model", "", fields, parts), tensors, "onnx", model, notes)


def _graph_parts(maker: Maker, graph: Graph, within: str, tensors: Tensors) -> list[Part]:
    parts = [_value_part(maker, "input", v) for v in graph.inputs]
    parts += [_value_part(maker, "output", v) for v in graph.outputs]
    parts += _node_parts(maker, graph.nodes, within, tensors)
    for name, tensor in graph.initializers.items():
        tensors[within + name] = tensor
        parts.append(tensor_part(maker, tensor))
    return parts


def _value_part(maker: Maker, part_type: str, value: Value) -> Part:
    return maker.part(part_type, value.name, value.name, {"type": value.type, "shape": value.shape})


def _node_parts(maker: Maker, nodes: Iterable[Node], within: str, tensors: Tensors) -> list[Part]:
    return [_node_part(maker, node, within, tensors) for node in nodes]


def _node_part(maker: Maker, node: Node, within: str, tensors: Tensors) -> Part:
    key = node.name or (node.outputs[0] if node.outputs else "")
    fields = {
        "operator": node.operator,
        "inputs": ", ".join(node.inputs) or None,
        "outputs": ", ".join(node.outputs) or None,
        **node.attributes,
    }
    children: list[Part] = []
    for name, tensor in node.tensors.items():
        named = Tensor(name, tensor.shape, tensor.dtype, tensor.load, tensor.where)
        tensors[f"{within}{key}/{name}"] = named
        children.append(tensor_part(maker, named, "constant"))
    for name, graph in node.graphs.items():
        inside = f"{within}{key}/{name}/"
        children.append(maker.part("branch", name, name, {}, _graph_parts(maker, graph, inside, tensors)))
    label = f"{node.operator} {node.name}".strip()
    return maker.part("node", label, key or None, fields, children)
