"""ONNX (ONNX intermediate representation specification, version 11): a file as plain data, without running a thing.

The protocol buffer is parsed by the format's own library; bytes of tensors are handed on as they lie, never converted.
"""

from __future__ import annotations

import re
from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any

from everyshelf.core.errors import UnreadableError
from everyshelf.core.formats.onnx_wire import without_weights
from everyshelf.core.formats.tensors import Tensor, told_type

# From where a tensor's bytes lie (location, offset, length or None) to them, or to None.
Beside = Callable[[str, int, int | None], Any]
_DATA_TYPES = {
    1: "<f4",
    2: "|u1",
    3: "|i1",
    4: "<u2",
    5: "<i2",
    6: "<i4",
    7: "<i8",
    8: "string",
    9: "|b1",
    10: "<f2",
    11: "<f8",
    12: "<u4",
    13: "<u8",
    14: "<c8",
    15: "<c16",
    16: "bf16",
    17: "f8_e4m3",
    18: "f8_e4m3uz",
    19: "f8_e5m2",
    20: "f8_e5m2uz",
    21: "u4",
    22: "i4",
    23: "f4_e2m1",
}
_MOST_DEPTH = 30
_FIRST_FIELD = 0x08  # ir_version, a number
_SECOND_FIELDS = (0x12, 0x1A, 0x22, 0x28, 0x32, 0x3A, 0x42)
_READABLE = re.compile(rb"[\x20-\x7e]*")


@dataclass
class Value:
    """An input or output: its type in words and its shape; a dimension is a number, a symbol, or "?"."""

    name: str
    type: str
    shape: str


@dataclass
class Node:
    """One application of an operator; ``graphs`` are the branches and bodies among its attributes."""

    name: str
    operator: str
    inputs: list[str]
    outputs: list[str]
    attributes: dict[str, Any] = field(default_factory=dict)
    tensors: dict[str, Tensor] = field(default_factory=dict)
    graphs: dict[str, Graph] = field(default_factory=dict)


@dataclass
class Graph:
    """Nodes in the order they run, and what goes in and out."""

    name: str
    inputs: list[Value]
    outputs: list[Value]
    nodes: list[Node]
    initializers: dict[str, Tensor]
    doc: str = ""


@dataclass
class OnnxModel:
    """A whole file."""

    graph: Graph
    operator_sets: dict[str, int]
    metadata: dict[str, str]
    producer: dict[str, str]
    functions: list[tuple[str, list[Node]]]


def looks_like_onnx(head: bytes) -> bool:
    """True if the first bytes are those of a model: a small version number, then one of the fields that may follow."""
    if len(head) < 8 or head[0] != _FIRST_FIELD or not 0 < head[1] < 64 or head[2] not in _SECOND_FIELDS:
        return False
    if head[2] == 0x28:
        return True
    length, at = _varint(head, 3)
    if head[2] == 0x12 and length < 256:  # the producer's name
        piece = head[at : at + length]
        return _READABLE.fullmatch(piece) is not None and len(head) > at + length
    return length > 0


def _varint(data: bytes, at: int) -> tuple[int, int]:
    value = shift = 0
    while at < len(data) and shift < 64:
        value |= (data[at] & 0x7F) << shift
        at += 1
        if data[at - 1] < 0x80:
            break
        shift += 7
    return value, at


def parse_onnx(data: bytes, beside: Beside | None = None) -> OnnxModel:
    """The model; raises ``UnreadableError``.

    ``beside`` finds the bytes of tensors that lie in other files; without it only where they should be is known.
    """
    from google.protobuf.message import DecodeError
    from onnx import ModelProto

    parted = without_weights(data)
    try:
        model = ModelProto.FromString(parted[0] if parted is not None else data)
    except (DecodeError, MemoryError) as error:
        raise UnreadableError("it is damaged, or no ONNX model") from error
    if not model.HasField("graph"):
        raise UnreadableError("there is no graph in it")
    reader = _Reader(beside, parted[1] if parted is not None else [])
    sets = {entry.domain or "ai.onnx": entry.version for entry in model.opset_import}
    metadata = {entry.key: entry.value for entry in model.metadata_props}
    producer = {
        "producer": model.producer_name,
        "producer version": model.producer_version,
        "domain": model.domain,
        "model version": str(model.model_version or ""),
        "format version": str(model.ir_version),
        "description": model.doc_string,
    }
    functions = [(f"{f.domain}.{f.name}".lstrip("."), [reader.node(n, 0) for n in f.node]) for f in model.functions]
    kept = {k: v for k, v in producer.items() if v}
    return OnnxModel(reader.graph(model.graph, 0), sets, metadata, kept, functions)


class _Reader:
    def __init__(self, beside: Beside | None, weights: list[memoryview | None]) -> None:
        self._beside, self._weights = beside, weights

    def graph(self, graph: Any, depth: int) -> Graph:
        if depth > _MOST_DEPTH:
            raise UnreadableError(f"branches nested over {_MOST_DEPTH} levels deep")
        apart = self._weights if depth == 0 and len(self._weights) == len(graph.initializer) else []
        tensors = {}
        for place, t in enumerate(graph.initializer):
            tensors[t.name] = self.tensor(t, t.name, apart[place] if apart else None)
        for sparse in graph.sparse_initializer:
            name = sparse.values.name
            tensors[name] = self.tensor(sparse.values, name)
            tensors[f"{name} (places)"] = self.tensor(sparse.indices, f"{name} (places)")
        # Before version 4 of the format every initialiser had to be an input too.
        inputs = [_value(v) for v in graph.input if v.name not in tensors]
        nodes = [self.node(n, depth) for n in graph.node]
        return Graph(graph.name, inputs, [_value(v) for v in graph.output], nodes, tensors, graph.doc_string)

    def node(self, node: Any, depth: int) -> Node:
        operator = f"{node.domain}.{node.op_type}" if node.domain not in ("", "ai.onnx") else node.op_type
        made = Node(node.name, operator, list(node.input), list(node.output))
        for attribute in node.attribute:
            self._attribute(made, attribute, depth)
        return made

    def _attribute(self, node: Node, attribute: Any, depth: int) -> None:
        kind = attribute.type
        if kind == 4 or (not kind and attribute.HasField("t")):
            node.tensors[attribute.name] = self.tensor(attribute.t, attribute.name)
        elif kind == 5 or (not kind and attribute.HasField("g")):
            node.graphs[attribute.name] = self.graph(attribute.g, depth + 1)
        elif kind == 9:
            for place, tensor in enumerate(attribute.tensors):
                node.tensors[f"{attribute.name} {place}"] = self.tensor(tensor, attribute.name)
        elif kind == 10:
            for place, graph in enumerate(attribute.graphs):
                node.graphs[f"{attribute.name} {place}"] = self.graph(graph, depth + 1)
        elif attribute.ref_attr_name:
            node.attributes[attribute.name] = f"→ {attribute.ref_attr_name}"
        else:
            node.attributes[attribute.name] = _plain(attribute, kind)

    def tensor(self, tensor: Any, name: str, held: memoryview | None = None) -> Tensor:
        shape = tuple(int(d) for d in tensor.dims)
        if any(d < 0 for d in shape):
            raise UnreadableError(f"the tensor {name[:80]} claims a negative size")
        dtype = _DATA_TYPES.get(tensor.data_type, f"type {tensor.data_type}")
        if tensor.data_location == 1:
            said = {entry.key: entry.value for entry in tensor.external_data}
            return self._external(name, shape, dtype, said)
        if held is not None:
            return Tensor(name, shape, dtype, lambda: held)
        return Tensor(name, shape, dtype, lambda: _bytes_of(tensor, dtype))

    def _external(self, name: str, shape: tuple[int, ...], dtype: str, said: dict[str, str]) -> Tensor:
        location = said.get("location", "")
        try:
            offset, length = int(said.get("offset") or 0), int(said["length"]) if said.get("length") else None
        except ValueError as error:
            raise UnreadableError(f"the tensor {name[:80]} does not say where its bytes are") from error
        beside = self._beside
        return Tensor(name, shape, dtype, lambda: beside(location, offset, length) if beside else None, where=location)


def _bytes_of(tensor: Any, dtype: str) -> Any:
    """The bytes in the order of the format, from whichever field holds them."""
    import numpy as np

    if tensor.HasField("raw_data"):
        return tensor.raw_data
    if dtype == "string":
        return b"\0".join(tensor.string_data)
    for values, stored in (
        (tensor.float_data, "<f4"),
        (tensor.double_data, "<f8"),
        (tensor.int64_data, "<i8"),
        (tensor.uint64_data, "<u8"),
        (tensor.int32_data, "<i4"),
    ):
        if len(values):
            kept = np.array(values, dtype=stored)
            if dtype in ("<f2", "bf16"):  # held as their bits, one in each number
                return kept.astype("<u2").tobytes()
            try:
                return kept.astype(np.dtype(dtype)).tobytes() if stored != dtype else kept.tobytes()
            except TypeError:
                return kept.astype("|u1").tobytes()
    return b""


def _plain(attribute: Any, kind: int) -> Any:
    if kind == 1:
        return attribute.f
    if kind == 2:
        return attribute.i
    if kind == 3:
        return attribute.s.decode("utf-8", "replace")
    lists = {6: attribute.floats, 7: attribute.ints, 8: [s.decode("utf-8", "replace") for s in attribute.strings]}
    values = lists.get(kind)
    if values is None:  # writers before version 3 of the format did not say which
        values = (
            attribute.ints or attribute.floats or [attribute.i or attribute.f or attribute.s.decode("utf-8", "replace")]
        )
    return ", ".join(f"{v:g}" if isinstance(v, float) else str(v) for v in values)


def _value(value: Any) -> Value:
    return Value(value.name, *_typed(value.type))


def _typed(type_proto: Any) -> tuple[str, str]:
    sort = type_proto.WhichOneof("value")
    if sort in ("tensor_type", "sparse_tensor_type"):
        held = getattr(type_proto, sort)
        name = _DATA_TYPES.get(held.elem_type, str(held.elem_type))
        shape = ", ".join(_dimension(d) for d in held.shape.dim) if held.HasField("shape") else "?"
        return ("sparse " if sort.startswith("sparse") else "") + Tensor(
            "", (), name, lambda: None
        ).told_type, f"[{shape}]"
    if sort in ("sequence_type", "optional_type"):
        inner, shape = _typed(getattr(type_proto, sort).elem_type)
        return f"{sort.partition('_')[0]} of {inner}", shape
    if sort == "map_type":
        inner, shape = _typed(type_proto.map_type.value_type)
        key = told_type(_DATA_TYPES.get(type_proto.map_type.key_type, "?"))
        return f"map of {key} to {inner}", shape
    return "unknown", "?"


def _dimension(dimension: Any) -> str:
    sort = dimension.WhichOneof("value")
    return str(dimension.dim_value) if sort == "dim_value" else dimension.dim_param or "?"
