"""Models written by their formats' own libraries: structure, regenerated names, how far weights moved; nothing is run."""

from __future__ import annotations

import gzip
import io
import json
import pickle
import struct
import tempfile
import unittest
import zipfile
import zlib
from collections import OrderedDict
from pathlib import Path
from typing import Any

import numpy as np
import onnx
import safetensors.numpy
from hypothesis import given
from hypothesis import strategies as st
from onnx import TensorProto, external_data_helper, helper, numpy_helper

from everyshelf.core.compare.artifact import ArtifactSide, compare_artifacts
from everyshelf.core.formats.pickles import looks_like_pickle, read_pickle
from everyshelf.core.formats.tensors import Tensor, distance
from everyshelf.core.kinds.rules import Rules
from everyshelf.core.tables.given import Given
from tests.support.factories import compared, outlined
from tests.support.laws import law

PROTOCOLS = range(6)


def weights(seed: int, *shape: int) -> Any:
    return np.random.default_rng(seed).normal(size=shape).astype("f4")


def network(
    *,
    names: str = "",
    width: int = 3,
    drop: bool = False,
    opset: int = 18,
    moved: float = 0.0,
    by: str = "lab",
    batch: Any = "batch",
) -> onnx.ModelProto:
    """Two layers and a branch that holds a constant."""

    def n(name: str) -> str:
        return names + name

    readout = weights(2, 8, 3) + np.float32(moved)
    nodes = [
        helper.make_node("MatMul", ["x", n("w1")], [n("a")], name=n("mix")),
        helper.make_node("Relu", [n("a")], [n("b")], name=n("bend")),
    ]
    if drop:
        nodes.append(helper.make_node("Dropout", [n("b")], [n("c")], name=n("thin")))
    nodes.append(helper.make_node("MatMul", [n("c" if drop else "b"), n("w2")], ["y"], name=n("readout")))
    constant = helper.make_node("Constant", [], ["k"], value=numpy_helper.from_array(np.array([1.0 + moved], "f4")))
    branch = helper.make_graph([constant], "then", [], [helper.make_tensor_value_info("k", TensorProto.FLOAT, [1])])
    nodes.append(helper.make_node("If", [n("ask")], ["z"], name=n("choose"), then_branch=branch, else_branch=branch))
    graph = helper.make_graph(
        nodes,
        "tide",
        [helper.make_tensor_value_info("x", TensorProto.FLOAT, [batch, 4])],
        [helper.make_tensor_value_info("y", TensorProto.FLOAT, [batch, width])],
        [
            numpy_helper.from_array(weights(1, 4, 8), n("w1")),
            numpy_helper.from_array(readout, n("w2")),
            numpy_helper.from_array(np.array([True]), n("ask")),
        ],
    )
    return helper.make_model(graph, opset_imports=[helper.make_opsetid("", opset)], producer_name=by)


def told(found: dict[str, Any]) -> set[tuple[Any, ...]]:
    return {(f["action"], f["type"], f["label"], f.get("field"), f["effect"]) for f in found["findings"]}


class OnnxTests(unittest.TestCase):
    """Networks as graphs."""

    def between(self, one: onnx.ModelProto, other: onnx.ModelProto) -> dict[str, Any]:
        return compared(one.SerializeToString(), other.SerializeToString(), "tide.onnx")

    def test_inputs_and_outputs_break_operator_sets_and_nodes_alter(self) -> None:
        found = self.between(network(), network(width=5, opset=19, drop=True))
        self.assertEqual(
            told(found),
            {
                ("changed", "output", "y", "shape", "breaks"),
                ("changed", "operator set", "ai.onnx", "version", "alters"),
                ("added", "node", "Dropout thin", None, "alters"),
                ("changed", "node", "MatMul readout", "inputs", "alters"),
            },
        )

    def test_a_symbol_that_becomes_a_number_is_another_shape(self) -> None:
        found = self.between(network(), network(batch=32))
        self.assertEqual({f["effect"] for f in found["findings"]}, {"breaks"})
        self.assertEqual(
            {(f["before"], f["after"]) for f in found["findings"]},
            {("[batch, 4]", "[32, 4]"), ("[batch, 3]", "[32, 3]")},
        )

    def test_producer_and_metadata_alone(self) -> None:
        found = self.between(network(), network(by="another lab"))
        self.assertEqual({f["effect"] for f in found["findings"]}, {"cosmetic"})
        noted = network()
        helper.set_model_props(noted, {"trained": "at night"})
        self.assertEqual(told(self.between(network(), noted)), {("added", "metadata", "trained", None, "alters")})

    def test_names_given_anew_mean_nothing(self) -> None:
        found = self.between(network(), network(names="export_7/"))
        [finding] = found["findings"]
        self.assertEqual((finding["label"], finding["effect"]), ("names", "cosmetic"))

    def test_what_changed_is_seen_through_names_given_anew(self) -> None:
        found = self.between(network(), network(names="export_7/", moved=0.5, drop=True))
        self.assertIn(("changed", "tensor", "w2", "weights", "alters"), told(found))
        self.assertIn(("added", "node", "Dropout export_7/thin", None, "alters"), told(found))

    def test_constants_inside_branches_count(self) -> None:
        found = self.between(network(), network(moved=0.25))
        parts = {f["part"] for f in found["findings"]}
        self.assertIn("/node:choose/branch:then_branch/node:k/constant:value", parts)
        self.assertIn("/tensor:w2", parts)

    def test_how_far_weights_moved_is_what_arithmetic_says(self) -> None:
        found = self.between(network(), network(moved=0.25))
        [row] = [t for t in found["model"]["tensors"] if t["name"] == "w2"]
        old = weights(2, 8, 3).astype("f8")
        new = (weights(2, 8, 3) + np.float32(0.25)).astype("f8")
        self.assertAlmostEqual(row["distance"]["relative"], np.linalg.norm(new - old) / np.linalg.norm(old), 5)
        self.assertAlmostEqual(row["distance"]["largest"], np.abs(new - old).max(), 5)
        self.assertEqual(row["distance"]["share"], 1.0)
        self.assertEqual(sum(row["distance"]["bins"]), 24)

    def test_weights_kept_in_another_file_count(self) -> None:
        def kept(moved: float) -> tuple[bytes, bytes]:
            model = network(moved=moved)
            held = b""
            for tensor in model.graph.initializer:
                external_data_helper.set_external_data(
                    tensor, "tide.data", offset=len(held), length=len(tensor.raw_data)
                )
                held += tensor.raw_data
                tensor.ClearField("raw_data")
                tensor.data_location = TensorProto.EXTERNAL
            return model.SerializeToString(), held

        with tempfile.TemporaryDirectory() as folder:
            sides = []
            for name, moved in (("old", 0.0), ("new", 0.5)):
                model, held = kept(moved)
                path = Path(folder, name)
                path.write_bytes(held)
                sides.append(ArtifactSide("tide.onnx", model, beside={"tide.data": path}))
            found = compare_artifacts(*sides).as_json()
            self.assertIn(("changed", "tensor", "w2", "weights", "alters"), told(found))
            self.assertNotIn(("changed", "tensor", "w1", "weights", "alters"), told(found))
            alone = compare_artifacts(*(ArtifactSide("tide.onnx", s.data) for s in sides)).as_json()
            self.assertIn("tide.data cannot be found", alone["note"])

    def test_a_name_in_the_file_leads_nowhere_else(self) -> None:
        model = network()
        tensor = model.graph.initializer[0]
        external_data_helper.set_external_data(tensor, "../../etc/passwd", offset=0)
        tensor.ClearField("raw_data")
        tensor.data_location = TensorProto.EXTERNAL
        found = compared(network().SerializeToString(), model.SerializeToString(), "tide.onnx")
        self.assertEqual(found["read_as"], "model")
        self.assertIn("cannot be found", found["note"])


class SafetensorsTests(unittest.TestCase):
    """Tensors and a header."""

    def test_added_reshaped_retyped_and_moved(self) -> None:
        old = {"a": weights(1, 4), "b": weights(2, 3, 3), "c": weights(3, 5), "d": weights(4, 2)}
        new = {"a": old["a"] * np.float32(1.1), "b": weights(2, 9), "c": old["c"].astype("f2"), "e": weights(5, 2)}
        found = compared(safetensors.numpy.save(old), safetensors.numpy.save(new), "m.safetensors")
        said = {(f["action"], f["label"], f.get("field")) for f in found["findings"]}
        self.assertLessEqual(
            {("changed", "a", "weights"), ("changed", "b", "shape"), ("changed", "c", "type"), ("added", "e", None)},
            said,
        )
        rows = {t["name"]: t for t in found["model"]["tensors"]}
        self.assertAlmostEqual(rows["a"]["distance"]["relative"], 0.1, 4)
        self.assertEqual(found["model"]["counts"], {"equal": 0, "changed": 3, "added": 1, "removed": 1})

    def test_metadata_alone(self) -> None:
        tensors = {"a": weights(1, 4)}
        sides = [safetensors.numpy.save(tensors, {"epoch": n}) for n in "12"]
        found = compared(*sides, "m.safetensors")
        self.assertEqual(told(found), {("changed", "metadata", "epoch", "value", "alters")})

    def test_a_header_that_lies_is_told(self) -> None:
        def lying(header: Any, body: bytes = b"\0" * 8) -> str:
            said = json.dumps(header).encode()
            data = struct.pack("<Q", len(said)) + said + body
            return str(outlined(Given("m.safetensors", data), Rules())["note"])

        self.assertIn("outside", lying({"a": {"dtype": "F32", "shape": [2], "data_offsets": [0, 80]}}))
        self.assertIn("do not make", lying({"a": {"dtype": "F32", "shape": [10**9], "data_offsets": [0, 8]}}))
        both = {n: {"dtype": "F32", "shape": [2], "data_offsets": [0, 8]} for n in "ab"}
        self.assertIn("same bytes", lying(both))
        huge = struct.pack("<Q", 2**60) + b'{"a":1}'
        self.assertNotEqual(outlined(Given("m.safetensors", huge), Rules())["read_as"], "model")

    @law(60)
    @given(st.lists(st.floats(-1e6, 1e6, width=32), min_size=1, max_size=40), st.data())
    def test_distance_agrees_with_arithmetic_in_full_width(self, values: list[float], data: st.DataObject) -> None:
        other = data.draw(st.lists(st.floats(-1e6, 1e6, width=32), min_size=len(values), max_size=len(values)))
        one, two = np.array(values, "f4"), np.array(other, "f4")
        found = distance(*(Tensor("t", v.shape, "<f4", v.tobytes) for v in (one, two)))
        assert found is not None
        apart = np.abs(two.astype("f8") - one.astype("f8"))
        self.assertEqual(found.share, np.count_nonzero(one != two) / one.size)
        self.assertAlmostEqual(found.largest, apart.max(), delta=1e-6 * max(1.0, apart.max()))
        if np.linalg.norm(one.astype("f8")) > 1e-3:
            expected = np.linalg.norm(apart) / np.linalg.norm(one.astype("f8"))
            self.assertAlmostEqual(found.relative or 0.0, expected, delta=1e-4 * max(1.0, expected))

    def test_values_that_are_no_numbers_do_not_spoil_the_measure(self) -> None:
        one = np.array([1, 2, np.nan, np.inf], "f4")
        two = np.array([1, 2.5, np.nan, np.inf], "f4")
        found = distance(*(Tensor("t", (4,), "<f4", v.tobytes) for v in (one, two)))
        assert found is not None
        self.assertEqual((found.largest, found.share), (0.5, 0.25))


class Boat:
    """Something to pickle."""

    def __init__(self, name: str, seats: int) -> None:
        self.name, self.seats = name, seats
        self.weights = weights(seats, 3, 4)
        self.parts = {"mast": 1, "oars": [1, 2.5, None, True], "bytes": b"\0\xff"}
        self.order = OrderedDict(a=1)
        self.scale = np.float64(2.5)
        self.kinds = {"open"}


class Harmful:
    """Would make a file, if anybody ran it."""

    def __init__(self, marker: Path) -> None:
        self.marker = marker

    def __reduce__(self) -> Any:
        return Path.touch, (self.marker,)


class PickleTests(unittest.TestCase):
    """Pickles of every protocol."""

    def outline(self, data: bytes, name: str = "boat.pkl") -> dict[str, Any]:
        return outlined(Given(name, data), Rules())

    def test_every_protocol_says_the_same(self) -> None:
        plain = pickle.dumps(Boat("Tern", 12), 2)
        for protocol in PROTOCOLS:
            with self.subTest(protocol=protocol):
                data = pickle.dumps(Boat("Tern", 12), protocol)
                self.assertTrue(looks_like_pickle(data))
                found = compared(plain, data, "boat.pkl")
                self.assertEqual(found["read_as"], "model")
                self.assertLessEqual({f["effect"] for f in found["findings"]}, {"cosmetic"}, found["findings"])

    def test_parameters_and_arrays_are_told(self) -> None:
        for protocol in PROTOCOLS:
            with self.subTest(protocol=protocol):
                later = Boat("Tern", 12)
                later.seats, later.weights[1, 2] = 14, 9.0
                found = compared(pickle.dumps(Boat("Tern", 12), protocol), pickle.dumps(later, protocol), "boat.pkl")
                said = {(f["type"], f.get("field"), f["before"], f["after"]) for f in found["findings"]}
                self.assertEqual(said, {("model", "seats", 12, 14), ("tensor", "weights", None, None)})

    def test_compressed_in_other_ways_it_is_the_same_model(self) -> None:
        plain = pickle.dumps(Boat("Tern", 12), 4)
        out = io.BytesIO()
        with zipfile.ZipFile(out, "w") as archive:
            archive.writestr("boat/data.pkl", plain)
            archive.writestr("boat/version", "3")
        for packed in (gzip.compress(plain), zlib.compress(plain), out.getvalue()):
            found = self.outline(packed, "boat.pkl")
            self.assertEqual((found["kind"], found["read_as"]), ("model", "model"), packed[:4])
            self.assertEqual(found["fields"]["seats"], 12)

    def test_raw_bytes_between_opcodes_are_arrays(self) -> None:
        array = np.arange(6, dtype="<f8").reshape(2, 3)
        out = io.BytesIO()
        wrapper = pickle.dumps(
            {"shape": (2, 3), "order": "C", "dtype": array.dtype, "numpy_array_alignment_bytes": 16}, 2
        )
        # As joblib writes it: the wrapper's state is set, then a pad and the bytes follow in the same stream.
        head = b"\x80\x02]q\x00cjoblib.numpy_pickle\nNumpyArrayWrapper\nq\x01)\x81q\x02"
        state = wrapper[2:-1].replace(b"q\x00", b"q\x20", 1).replace(b"q\x01", b"q\x21")
        out.write(head + state + b"b")
        out.write(b"\x03\xff\xff\xff" + array.tobytes() + b"a.")
        found = read_pickle(out.getvalue())
        self.assertEqual((found.value[0].shape, bytes(found.value[0].data)), ((2, 3), array.tobytes()))

    def test_what_it_would_run_is_flagged_and_never_run(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            marker = Path(folder, "marker")
            boat = Boat("Tern", 12)
            boat.hook = Harmful(marker)  # type: ignore[attr-defined]
            for protocol in PROTOCOLS:
                found = compared(pickle.dumps(Boat("Tern", 12), protocol), pickle.dumps(boat, protocol), "boat.pkl")
                breaking = [f["label"] for f in found["findings"] if f["effect"] == "breaks"]
                self.assertTrue(breaking, protocol)
                self.assertIn("read without running anything", found["note"])
            self.assertFalse(marker.exists())

    def test_a_thing_that_holds_itself_ends(self) -> None:
        round_trip: list[Any] = [1]
        round_trip.append(round_trip)
        bomb: Any = ["x"]
        for _ in range(40):
            bomb = [bomb, bomb]
        for value in (round_trip, bomb):
            self.assertEqual(self.outline(pickle.dumps(value))["read_as"], "model")

    @law(120)
    @given(
        st.recursive(
            st.none() | st.booleans() | st.integers() | st.floats(allow_nan=False) | st.text() | st.binary(),
            lambda below: st.lists(below) | st.dictionaries(st.text(), below) | st.tuples(below, below),
            max_leaves=20,
        ),
        st.sampled_from(PROTOCOLS),
    )
    def test_plain_values_are_read_back_as_they_were(self, value: Any, protocol: int) -> None:
        self.assertEqual(_plain(read_pickle(pickle.dumps(value, protocol)).value), value)

    @law(150)
    @given(st.data())
    def test_broken_pickles_are_refused_in_words(self, data: st.DataObject) -> None:
        whole = bytearray(pickle.dumps(Boat("Tern", 12), data.draw(st.sampled_from(PROTOCOLS))))
        for _ in range(data.draw(st.integers(1, 6))):
            whole[data.draw(st.integers(0, len(whole) - 1))] = data.draw(st.integers(0, 255))
        cut = data.draw(st.integers(1, len(whole)))
        found = self.outline(bytes(whole[:cut]))
        self.assertNotIn("reader failed", found["note"])


def _plain(value: Any) -> Any:
    if isinstance(value, memoryview):
        return bytes(value)
    if hasattr(value, "pairs"):
        return {_plain(k): _plain(v) for k, v in value.pairs}
    if isinstance(value, list):
        return [_plain(v) for v in value]
    return tuple(_plain(v) for v in value) if isinstance(value, tuple) else value


class MetricTests(unittest.TestCase):
    """What lies beside a model."""

    def test_metrics_before_and_after_with_their_direction(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            sides = []
            for name, seats, scores in (
                ("old", 12, {"rmse": 0.2, "test": {"accuracy": 0.8}, "rows": 10}),
                ("new", 14, {"rmse": 0.3, "test": {"accuracy": 0.9}, "rows": 12}),
            ):
                path = Path(folder, name)
                path.write_text(json.dumps(scores))
                sides.append(ArtifactSide("b.pkl", pickle.dumps(Boat("Tern", seats)), beside={"metrics.json": path}))
            found = compare_artifacts(*sides).as_json()["model"]["metrics"]
        self.assertEqual(
            [(m["name"], m["before"], m["after"], m["better"]) for m in found],
            [("rmse", 0.2, 0.3, False), ("test.accuracy", 0.8, 0.9, True), ("rows", 10, 12, None)],
        )


if __name__ == "__main__":
    unittest.main()
