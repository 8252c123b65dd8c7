"""Models of the tide forecast in the formats they are read from, each before and after another training."""

from __future__ import annotations

import io
import json
import pickle
import struct
from typing import Any

import numpy as np

from everyshelf.demo.pair import Pair

_WEIGHTS = "tide.onnx.data"


class TideForest:
    """Many small trees that guess the water level together."""

    def __init__(self, trees: int, depth: int, rate: float) -> None:
        self.n_trees, self.max_depth, self.learning_rate = trees, depth, rate
        self.trees = [TideTree(depth, seed) for seed in range(trees)]
        self.inputs = ["wind", "pressure", "moon", "hour"]


class TideTree:
    """One of them: where it splits, and what it says at its leaves."""

    def __init__(self, depth: int, seed: int) -> None:
        rng = np.random.default_rng(seed)
        self.splits = rng.normal(size=2**depth - 1)
        self.leaves = rng.normal(scale=0.3, size=2**depth)


def model_pairs() -> list[Pair]:
    """One model in each format, and what was measured beside them."""
    forest, deeper = TideForest(12, 4, 0.1), TideForest(12, 4, 0.08)
    deeper.trees[3].leaves[5] += 0.4
    weights = {"crowd.scale": _noise(4, (8,)), "crowd.mix": _noise(5, (8, 3)), "crowd.shift": _noise(6, (3,))}
    trained = {**weights, "crowd.mix": weights["crowd.mix"] + _noise(7, (8, 3)) * np.float32(0.05)}
    scores = {"rmse": 0.142, "r2": 0.913, "trained_on": 41_200}
    better = {"rmse": 0.131, "r2": 0.927, "trained_on": 52_800}
    (old_tide, old_weights), (new_tide, new_weights) = _tide(), _tide(later=True)
    return [
        Pair(
            "models/tide.onnx",
            "model",
            old_tide,
            new_tide,
            "1 output changed, 1 node changed, 1 node added, 2 tensors changed",
        ),
        Pair(
            f"models/{_WEIGHTS}",
            "opaque",
            old_weights,
            new_weights,
            "not compared: no reader knows it",
        ),
        Pair("models/metrics.json", "settings", _json(scores), _json(better), "3 settings changed"),
        Pair(
            "models/crowd.safetensors",
            "model",
            safetensors(weights),
            safetensors(trained),
            "tensor crowd.mix: weights changed",
        ),
        Pair(
            "models/forest.pkl",
            "model",
            pickle.dumps(forest, 4),
            pickle.dumps(deeper, 4),
            "1 model changed, 1 tensor changed",
        ),
    ]


def _json(values: dict[str, Any]) -> bytes:
    return (json.dumps(values, indent=2) + "\n").encode()


def _noise(seed: int, shape: tuple[int, ...]) -> np.ndarray[Any, np.dtype[np.float32]]:
    return np.random.default_rng(seed).normal(size=shape).astype(np.float32)


def safetensors(tensors: dict[str, Any]) -> bytes:
    """The header with where each tensor lies, then their bytes."""
    header: dict[str, Any] = {"__metadata__": {"trained by": "Ida"}}
    body = io.BytesIO()
    for name, values in tensors.items():
        start = body.tell()
        body.write(values.tobytes())
        header[name] = {"dtype": "F32", "shape": list(values.shape), "data_offsets": [start, body.tell()]}
    said = json.dumps(header).encode()
    return struct.pack("<Q", len(said)) + said + body.getvalue()


def _tide(*, later: bool = False) -> tuple[bytes, bytes]:
    """The network and the file that holds its weights; the later one says how sure it is, and drops a value or two."""
    from onnx import TensorProto, external_data_helper, helper, numpy_helper

    outputs = 3 if later else 2
    hidden = _noise(1, (4, 64)) + (_noise(3, (4, 64)) * np.float32(0.02) if later else np.float32(0))
    readout = _noise(2, (64, 3))[:, :outputs]
    held, offset = io.BytesIO(), 0
    tensors = []
    for name, values in (("hidden.weight", hidden), ("readout.weight", readout), ("hidden.bias", _noise(8, (64,)))):
        tensor = numpy_helper.from_array(np.ascontiguousarray(values), name)
        held.write(tensor.raw_data)
        external_data_helper.set_external_data(tensor, _WEIGHTS, offset=offset, length=len(tensor.raw_data))
        offset += len(tensor.raw_data)
        tensor.ClearField("raw_data")
        tensor.data_location = TensorProto.EXTERNAL
        tensors.append(tensor)
    nodes = [
        helper.make_node("Gemm", ["weather", "hidden.weight", "hidden.bias"], ["mixed"], name="hidden"),
        helper.make_node("Relu", ["mixed"], ["kept"], name="bend"),
    ]
    if later:
        nodes.append(helper.make_node("Dropout", ["kept"], ["thinned"], name="thin"))
    nodes.append(
        helper.make_node("MatMul", ["thinned" if later else "kept", "readout.weight"], ["level"], name="readout")
    )
    graph = helper.make_graph(
        nodes,
        "tide",
        [helper.make_tensor_value_info("weather", TensorProto.FLOAT, ["hours", 4])],
        [helper.make_tensor_value_info("level", TensorProto.FLOAT, ["hours", outputs])],
        tensors,
    )
    model = helper.make_model(
        graph, opset_imports=[helper.make_opsetid("", 18)], producer_name="tide-lab", ir_version=9
    )
    return model.SerializeToString(), held.getvalue()
