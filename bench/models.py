"""T18, T19: models compared and read, against merely hashing their files."""

from __future__ import annotations

import hashlib
import pickle
from collections.abc import Iterator

import numpy as np
from onnx import TensorProto, helper, numpy_helper

from bench.measure import Figure, interleave
from everyshelf.core.compare.artifact import ArtifactSide, compare_artifacts
from everyshelf.core.formats.pickles import read_pickle


class Tree:
    """As trees of a forest are kept: a few arrays and a handful of parameters."""

    def __init__(self, rng: np.random.Generator, nodes: int) -> None:
        self.children = rng.integers(0, nodes, size=(nodes, 2))
        self.threshold = rng.normal(size=nodes)
        self.values = rng.normal(size=(nodes, 1, 3))
        self.depth, self.nodes = 14, nodes


class Forest:
    """A few hundred of them."""

    def __init__(self, trees: int, nodes: int) -> None:
        rng = np.random.default_rng(1)
        self.trees = [Tree(rng, nodes) for _ in range(trees)]
        self.parameters = {"trees": trees, "criterion": "gini"}


def network(layers: int, width: int, *, moved: int = 0) -> bytes:
    """A chain of ``layers`` square layers; the weights of the last ``moved`` are other ones."""
    rng = np.random.default_rng(2)
    nodes, tensors = [], []
    for n in range(layers):
        weight = rng.normal(size=(width, width)).astype("f4")
        if n >= layers - moved:
            weight += np.float32(0.01) * rng.normal(size=weight.shape).astype("f4")
        tensors.append(numpy_helper.from_array(weight, f"w{n}"))
        nodes.append(helper.make_node("MatMul", [f"v{n}", f"w{n}"], [f"v{n + 1}"], name=f"layer {n}"))
    ends = [helper.make_tensor_value_info(f"v{n}", TensorProto.FLOAT, ["rows", width]) for n in (0, layers)]
    made: bytes = helper.make_model(
        helper.make_graph(nodes, "chain", [ends[0]], [ends[1]], tensors)
    ).SerializeToString()
    return made


def models() -> Iterator[Figure]:
    """Both; T18 once with two layers trained on, as when a network is tuned, and once with all."""
    layers, width = 25, 1024
    old = network(layers, width)
    for moved, told in ((2, "2 of 25 layers moved"), (layers, "all layers moved")):
        new = network(layers, width, moved=moved)

        def ours(new: bytes = new) -> None:
            found = compare_artifacts(ArtifactSide("a.onnx", old), ArtifactSide("a.onnx", new))
            assert len(found.findings) == moved, found.findings  # noqa: B023

        def hashing(new: bytes = new) -> None:
            hashlib.sha256(old).digest(), hashlib.sha256(new).digest()

        taken = interleave({"ours": ours, "hashing": hashing})
        ratio = taken["ours"] / taken["hashing"]
        detail = f"{taken['ours']:.2f} against {taken['hashing']:.2f} s"
        what = f"ONNX, {len(old) / 1e6:.0f} MB, {told}: compare, against SHA-256 of both"
        yield Figure("T18", what, ratio, "<= 1.5", ratio <= 1.5, detail)
    forest = pickle.dumps(Forest(300, 4_800), 4)

    def reading() -> None:
        read_pickle(forest)

    def hashing_it() -> None:
        hashlib.sha256(forest).digest()

    taken = interleave({"ours": reading, "hashing": hashing_it})
    ratio = taken["ours"] / taken["hashing"]
    detail = f"{taken['ours']:.3f} against {taken['hashing']:.3f} s"
    yield Figure(
        "T19", f"pickled forest, {len(forest) / 1e6:.0f} MB: read, against SHA-256", ratio, "<= 1.0", ratio <= 1, detail
    )
